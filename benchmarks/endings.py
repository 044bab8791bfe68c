"""How soon a command ends, and how, when its port goes away: `python -m benchmarks.endings`.

A pty that disappears and a network port whose server is killed, in the middle of each command that holds a port open.
Each must end with exit status 3, naming the cause, within 3 s of the event.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

COMMAND = str(Path(sys.executable).parent / "greenstep")
LIMIT_S = 3.0
_IMAGE = Path(__file__).parents[1] / "examples" / "apiary" / "images" / "brood-probe.hex"

_STM32 = ("--chip", "stm32f072")
# (what, arguments, what its output says when the event may come)
_COMMANDS: tuple[tuple[str, tuple[str, ...], str], ...] = (
    ("asking for sync", ("greet", *_STM32, "--hookup", "by-hand", "--patience", "60"), "port"),
    ("learning", ("greet",), "opened"),
    ("writing", ("upload", str(_IMAGE), *_STM32), "erase"),
    ("waiting for text", ("start", *_STM32, "--hookup", "dtr-reset-rts-boot", "--expect", "no such text", "--expect-within", "60"), "port"),
    ("listening", ("listen", "--expect", "no such text", "--within", "60"), "115200"),
    ("holding lines", ("hookup", "hold", "dtr off", *_STM32, "--seconds", "60"), "released"),
)  # fmt: skip


def bench(kind: str, what: str, folder: Path) -> tuple[subprocess.Popen[str], str]:
    """A bench as a process, and the port it serves."""
    options = ["--pty", "--hands", "0.2" if what == "writing" else "600"] if kind == "pty" else []
    process = subprocess.Popen(
        [COMMAND, "bench", "brood-probe", "--json", *options], stdout=subprocess.PIPE, text=True, cwd=folder
    )
    assert process.stdout is not None
    return process, str(json.loads(process.stdout.readline())["port"])


def measure(kind: str, what: str, arguments: tuple[str, ...], sign: str, folder: Path) -> tuple[float, int, bool]:
    """(seconds from the event to the end, exit status, whether the cause was named)."""
    process, port = bench(kind, what, folder)
    lines = ["--hookup", "dtr-reset-rts-boot"] if what == "writing" and kind != "pty" else []
    output = folder / "output"
    with output.open("w") as stream:
        tool = subprocess.Popen(
            [COMMAND, *arguments, *lines, "--port", port], stdout=stream, stderr=stream, cwd=folder,
            env={**os.environ, "PYTHONUNBUFFERED": "1", "GREENSTEP_LADDER": "full"}, stdin=subprocess.DEVNULL,
        )  # fmt: skip
        end = time.monotonic() + 30
        while sign not in output.read_text() and time.monotonic() < end and tool.poll() is None:
            time.sleep(0.02)
        time.sleep(0.4)
        process.send_signal(signal.SIGKILL)
        process.wait()
        began = time.monotonic()
        status = tool.wait(timeout=60)
        took = time.monotonic() - began
    said = output.read_text()
    return took, status, "went away" in said


def main() -> int:
    failed = False
    print(f"from the event to the end (at most {LIMIT_S:g} s), exit status 3\n")
    for kind in ("pty", "rfc2217"):
        for what, arguments, sign in _COMMANDS:
            if kind == "pty" and what == "holding lines":  # a pty has no lines to hold
                continue
            with tempfile.TemporaryDirectory() as holder:
                took, status, named = measure(kind, what, arguments, sign, Path(holder))
            good = took <= LIMIT_S and status == 3 and named
            failed = failed or not good
            print(f"{kind:<8}  {what:<18}{took:6.2f} s   status {status}{'' if good else '   FAILED'}")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
