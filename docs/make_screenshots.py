"""Take the pictures in docs/screenshots: real commands in a real terminal window, on the apiary's demo data.

Needs Xvfb, xterm and ImageMagick's `import` (Debian: xvfb, xterm, imagemagick, fonts-dejavu). `make screenshots`,
or `python docs/make_screenshots.py NAME …` for some of them.
"""

from __future__ import annotations

import os
import shlex
import signal
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parents[1]
FOLDER = Path(__file__).parent / "screenshots"
COMMAND = str(Path(sys.executable).parent / "greenstep")
DISPLAY = ":97"
TCP_PORT = "7301"


_TERMINAL = shlex.split("xterm -fa 'DejaVu Sans Mono' -fs 13 -bg '#10141a' -fg '#d6dde6' -geometry 118x37+0+0")


@dataclass(frozen=True)
class Picture:
    """A command, the bench behind it, and when to press the shutter: at the end, or so many seconds in."""

    name: str
    command: str
    bench: tuple[str, ...] = ("--tcp-port", TCP_PORT)
    after_s: float | None = None


PICTURES = (
    Picture("upload", "greenstep upload brood-probe; echo; echo; greenstep upload hive-scale"),
    Picture("writing", "greenstep upload hive-scale", after_s=2.1),
    Picture("finding", "greenstep upload brood-probe", ("--tcp-port", TCP_PORT, "--fault", "no-boot")),
    Picture("verify-failed", "greenstep upload hive-scale", ("--tcp-port", TCP_PORT, "--fault", "dead-write")),
    Picture("greet", "greenstep greet brood-probe; echo; echo; greenstep greet hive-scale"),
    Picture("plan", "greenstep plan brood-probe; echo; echo; greenstep plan hive-scale"),
    Picture(
        "by-hand",
        f"greenstep upload brood-probe --port rfc2217://127.0.0.1:{TCP_PORT} --hookup by-hand",
        ("--tcp-port", TCP_PORT, "--hands", "3"),
    ),
    Picture(
        "verify-start", "greenstep verify hive-scale; echo; echo; greenstep start hive-scale --expect 'hive scale'"
    ),
    Picture("bench", "greenstep bench --list; echo; echo; greenstep ports"),
    Picture("help", "greenstep --help"),
)


def take(picture: Picture) -> None:
    """One picture: its bench, its window, the shutter."""
    bench = subprocess.Popen([COMMAND, "bench", *picture.bench], stdout=subprocess.PIPE, text=True)
    assert bench.stdout is not None
    while not bench.stdout.readline().startswith("Ctrl-C"):
        pass
    with tempfile.TemporaryDirectory() as holder:
        done = Path(holder) / "done"
        shown = "; echo; echo; ".join(
            f"printf '$ %s\\n\\n' {shlex.quote(part.strip())}; {part}"
            for part in picture.command.split("; echo; echo; ")
        )
        shown = f"clear; {shown}; touch {done}; sleep 60"
        window = subprocess.Popen(
            [*_TERMINAL, "-e", "bash", "-c", shown],
            cwd=ROOT / "examples" / "apiary",
            env={**os.environ, "DISPLAY": DISPLAY, "PATH": f"{Path(COMMAND).parent}:{os.environ['PATH']}"},
            start_new_session=True,
        )
        if picture.after_s is not None:
            time.sleep(picture.after_s)
        else:
            end = time.monotonic() + 60
            while not done.exists() and time.monotonic() < end:
                time.sleep(0.1)
            time.sleep(0.5)
        subprocess.run(
            ["import", "-display", DISPLAY, "-window", "root", str(FOLDER / f"{picture.name}.png")], check=True
        )
        os.killpg(window.pid, signal.SIGKILL)
        window.wait()
    bench.send_signal(signal.SIGTERM)
    bench.wait()


def main() -> int:
    wanted = set(sys.argv[1:])
    FOLDER.mkdir(exist_ok=True)
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        for picture in PICTURES:
            if not wanted or picture.name in wanted:
                take(picture)
                print(picture.name)
    finally:
        screen.terminate()
        screen.wait()
    return 0


if __name__ == "__main__":
    sys.exit(main())
