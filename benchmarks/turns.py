"""A console and an upload for the same port at once, again and again; every tenth upload, and in the end the console,
killed.

Every upload that lives must be green, the console must have the port again after each, nothing that the board said
before a port was handed over may be missing, and no socket may be left.

`python -m benchmarks.turns [TIMES]`
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

from greenstep.bench.samples import avr_image
from greenstep.core.image.intel_hex import write_intel_hex

COMMAND = str(Path(sys.executable).parent / "greenstep")
_LONGEST_S = 30.0


def wait_for(log: Path, text: str, times: int) -> bool:
    end_s = time.monotonic() + _LONGEST_S
    while log.read_text().count(text) < times:
        if time.monotonic() > end_s:
            return False
        time.sleep(0.05)
    return True


def main() -> int:
    times = int(sys.argv[1]) if len(sys.argv) > 1 else 50
    with tempfile.TemporaryDirectory() as name:
        return run(Path(name), times)


def run(folder: Path, times: int) -> int:
    environment = dict(os.environ, XDG_RUNTIME_DIR=str(folder), GREENSTEP_JOURNAL=str(folder / "journal.sqlite"))
    log = folder / "console.log"
    bench = subprocess.Popen(
        [COMMAND, "bench", "hive-scale", "--turnaround", "0", "--json"], stdout=subprocess.PIPE, text=True
    )
    assert bench.stdout is not None
    reach = ["--chip", "atmega328p", "--hookup", "cap-dtr", "--port", json.loads(bench.stdout.readline())["port"]]
    green, handed, killed = 0, 0, 0
    with log.open("w") as out:
        console = subprocess.Popen(
            [COMMAND, "listen", *reach], stdout=out, stderr=out, stdin=subprocess.DEVNULL, env=environment
        )
    wait_for(log, "rfc2217://", 1)
    time.sleep(0.3)
    for number in range(times):
        image = folder / "scale.hex"
        image.write_text("".join(write_intel_hex(avr_image(f"hive scale {number:03} ready", 1200, number))))
        upload = subprocess.Popen(
            [COMMAND, "upload", str(image), *reach, "--expect", f"{number:03} ready"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=environment,
        )  # fmt: skip
        if number % 10 == 9:
            wait_for(log, "has the port", number + 1)
            upload.kill()
            killed += 1
        green += upload.wait() == 0
        handed += wait_for(log, "had the port for", number + 1)
    said = log.read_text()
    heard = sum(f"hive scale {number:03} ready" in said for number in range(times) if number % 10 != 9)
    console.send_signal(signal.SIGKILL)
    console.wait()
    last = subprocess.run([COMMAND, "greet", *reach], env=environment, capture_output=True)
    left = [path.name for path in (folder / "greenstep").iterdir()]
    bench.terminate()
    bench.wait()
    print(f"{times} uploads while a console held the port: {green} green, {killed} killed")
    print(f"the console had the port again after {handed}, and showed the first words of {heard} new programs")
    print(
        f"after the console was killed: greet {'answers' if last.returncode == 0 else 'FAILS'}, {len(left)} sockets left"
    )
    return 0 if green + killed == handed == times and heard == green and not last.returncode and not left else 1


if __name__ == "__main__":
    sys.exit(main())
