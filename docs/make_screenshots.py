"""Take the pictures in docs/screenshots: real commands in a real terminal window, on the apiary's demo data.

Needs Xvfb, xterm and ImageMagick's `import` (Debian: xvfb, xterm, imagemagick, fonts-dejavu). `make screenshots`,
or `python docs/make_screenshots.py NAME …` for some of them; `journal` shows what the others before it did.
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
LATER = str(Path(tempfile.gettempdir()) / "hive-scale-2.5.hex")
ELF = str(Path(tempfile.gettempdir()) / "hive-scale.elf")
CRASHES = "bench:hive-scale?fault=says%3DBacktrace: 0xADDRESS:0x3ffb1f50"
CODE = (ROOT / "examples" / "apiary" / "source" / "lift.c").read_text()
"""A program that a crash is shown in; it is compiled for this computer."""
TRACE = str(Path(tempfile.gettempdir()) / "brood-probe.vcd")


_TERMINAL = shlex.split("xterm -fa 'DejaVu Sans Mono' -fs 13 -bg '#10141a' -fg '#d6dde6' -geometry 116x36+0+0")


@dataclass(frozen=True)
class Picture:
    """A command, and when to press the shutter: at the end, or so many seconds in."""

    name: str
    command: str
    after_s: float | None = None


PICTURES = (
    Picture("upload", "greenstep upload brood-probe --baud fastest; echo; echo; greenstep upload hive-scale"),
    Picture("finding", "greenstep upload brood-probe --port 'bench:brood-probe?fault=no-boot'"),
    Picture("greet", "greenstep greet entrance-counter; echo; echo; greenstep greet rain-gauge"),
    Picture("plan", "greenstep plan brood-probe; echo; echo; greenstep plan feeder-pump"),
    Picture("dialects", "greenstep chips"),
    Picture(
        "image-show",
        "greenstep image show hive-scale; echo; echo; greenstep image show images/gateway.bin at 0x10000",
    ),
    Picture(
        "image-compare",
        f"greenstep image convert hive-scale --patch '0x7B=\"5\"' --save {LATER}; echo; echo; "
        f"greenstep image compare images/hive-scale.hex {LATER} --chip atmega328p",
    ),
    Picture(
        "loader-room",
        "greenstep loader make --chip atmega328p --clock 16M; echo; echo; "
        "greenstep loader room --chip stm32f072rb --size 7K",
    ),
    Picture("boards", "greenstep boards"),
    Picture(
        "hookup",
        "greenstep hookup show brood-probe; echo; echo; "
        "greenstep hookup show --chip esp32 --hookup cross-pair --reset-capacitor 10u",
    ),
    Picture(
        "by-hand",
        "greenstep upload brood-probe --hookup by-hand --port 'bench:brood-probe?hands=2&habit=forgets'",
    ),
    Picture(
        "listen",
        "greenstep listen brood-probe --reset --times --seconds 2.6; echo; echo; "
        f"greenstep listen hive-scale --port '{CRASHES}' --reset --seconds 1.2 --elf {ELF}",
    ),
    Picture(
        "journal",
        "greenstep journal; echo; echo; greenstep journal --on-chips; echo; echo; greenstep journal 1",
    ),
    Picture(
        "batch",
        "ports=(--port={rfc2217://127.0.0.1:9,'bench:brood-probe?pace=real&seed='{1..6}})\n"
        "greenstep batch brood-probe ${ports[@]}",
        after_s=2.0,
    ),
)

JOURNAL = Path(tempfile.gettempdir()) / "greenstep-pictures.sqlite"
os.environ["GREENSTEP_JOURNAL"] = str(JOURNAL)
TRACED = f"greenstep upload brood-probe --trace {TRACE}"
FIGURES = {
    "map-figure": "greenstep image map apiary-gateway",
    "wiring": "greenstep wiring --chip stm32f103c8",
    "hookup-figure": "greenstep hookup show --chip esp32 --hookup cross-pair",
    "rates-figure": "greenstep rates 16M hive-scale",
    "trace-figure": f"greenstep trace show {TRACE}",
}
"""What is drawn by --save, and so needs no terminal."""


def draw(name: str) -> None:
    """One figure."""
    words = [COMMAND, *shlex.split(FIGURES[name])[1:], "--save", str(FOLDER / f"{name}.png")]
    subprocess.run(words, cwd=ROOT / "examples" / "apiary", check=True, stdout=subprocess.DEVNULL)


def record() -> None:
    """The recording that two of the pictures show."""
    words = [COMMAND, *shlex.split(TRACED)[1:]]
    subprocess.run(words, cwd=ROOT / "examples" / "apiary", check=True, stdout=subprocess.DEVNULL)


def compile_program() -> str:
    """The ELF file of a made-up program. Returns the address of one of its functions, in hexadecimal."""
    with tempfile.TemporaryDirectory() as holder:
        (Path(holder) / "scale.c").write_text(CODE)
        words = ["gcc", "-O2", "-g", "-no-pie", f"-fdebug-prefix-map={holder}=src", "-o", ELF, "scale.c"]
        subprocess.run(words, cwd=holder, check=True)
    rows = subprocess.run(["nm", ELF], check=True, capture_output=True, text=True).stdout.splitlines()
    return next(row.split()[0] for row in rows if row.endswith(" lift"))[-8:]


def take(picture: Picture) -> None:
    """One picture: its window, the shutter."""
    address = compile_program() if ELF in picture.command else ""
    with tempfile.TemporaryDirectory() as holder:
        done = Path(holder) / "done"
        shown = "; echo; echo; ".join(
            f"printf '$ %s\\n\\n' {shlex.quote(part.strip())}; {part}"
            for part in picture.command.replace("ADDRESS", address).split("; echo; echo; ")
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


def main() -> int:
    wanted = set(sys.argv[1:])
    for path in (LATER, JOURNAL, JOURNAL.with_name("lines.sqlite"), f"{JOURNAL}-wal", f"{JOURNAL}-shm"):
        Path(path).unlink(missing_ok=True)
    FOLDER.mkdir(exist_ok=True)
    if not wanted or any("trace" in name for name in wanted):
        record()
    for name in FIGURES:
        if not wanted or name in wanted:
            draw(name)
            print(name)
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
