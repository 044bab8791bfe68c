"""Write docs/measurements.md: `python -m benchmarks.report [TITLE …]`. Runs every benchmark, the fault runs included;
with titles only those sections are measured anew."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

PARTS = (
    (
        "Line",
        "line_efficiency",
        "`took` is erase, write and verify on the bench's virtual clock; `in all` from opening the port.",
    ),
    (
        "A changed page",
        "changed_page",
        "Erase, write and verify of everything; of the same image again; of one with a byte changed in the middle.",
    ),
    (
        "The fastest rate",
        "fastest_rate",
        "Chips, adapters and wires limited at various rates, on the virtual clock; in every fourth the line worsens during the\nupload, in every fourth a rate is known that it may carry no longer. Then an upload of 64 KiB, of which the last two chips\nspend two seconds in their flash at any rate.",
    ),
    (
        "Doorstep's loaders",
        "doorstep",
        "Real machine code in emulators, 115200 baud; `make loaders` builds what that takes. An nRF5x stands still while it erases.",
    ),
    (
        "Faults on the way to the loaders",
        "loader_faults",
        "Uploads to the loaders' machine code (Cortex-M: the portable part on this computer), with one to twenty characters lost,\nflipped, repeated or late, and in every tenth the supply cut at a change of the flash.",
    ),
    ("Taking turns", "turns", "A console and uploads for the same port, at real line speed."),
    ("Places in the source", "elf_places", "CPU time, on C compiled with `-O2 -g`."),
    ("Reading files", "hex_parsing", ""),
    ("Looking into files", "image_show", "A 16 MiB Intel HEX file."),
    ("Scattered images", "scattered_image", "`image show` of single bytes, none beside another; CPU time."),
    ("Damaged files", "damaged_files", "Each read, or refused with a message; 20,000 seeds."),
    ("Hostile files", "hostile_files", "Each through a command: answered, or refused in words; 50,000 seeds."),
    ("Hostile peers", "hostile_peers", "Telnet streams without sense, 5,000 to each served port."),
    (
        "Noise instead of answers",
        "noise_boards",
        "From any character on, for a while or for ever; 500 seeds over all simulated boards (`make faults`: 5,000).",
    ),
    ("Start-up", "startup", ""),
    ("Endings", "endings", "Each command that holds a port open, when that port goes away in the middle."),
    ("Journal", "journal_rows", ""),
    ("Sixteen boards", "sixteen_boards", "Simulated boards at real line speed, written at once."),
    ("A hundred uploads", "hundred_uploads", "At once, to simulated boards; then the journal is looked into."),
    (
        "Beside the image",
        "beside",
        "Each kind of upload to chips that hold another program: bytes wrong in the image, and bytes changed outside\nthe erase units that it names.",
    ),
    (
        "By hand",
        "by_hand",
        "A simulated person with three wires: reset pressed at 200 moments from 0 to 20 s, half of them two or three times;\npressed again when told to. Then with the boot pin forgotten, and uploads by people of six habits, each followed by a\npower cycle with the pins as they left them.",
    ),
    ("A port alone", "greet_alone", "Until a board is known of which nothing but the port is: virtual seconds."),
    (
        "Power cuts",
        "power_cuts",
        "The supply goes at every 1 % of an upload and comes back; then the same upload again. And at every character\nof an upload to a loader that only a jump in the program's flash leads to.",
    ),
    (
        "Fault runs",
        "fault_runs",
        "One lost or damaged character each, either way, at any place, on chips full of another program; 500 seeds for each\ndialect.",
    ),
    (
        "Mixed faults",
        "mixed_faults",
        "One to five faults each: lost, flipped, repeated and late characters, and bursts of up to twelve; 500 seeds for each\ndialect.",
    ),
    (
        "Every character",
        "every_character",
        "A small upload with each of its characters to the chip damaged in turn: lost, one bit flipped, the lowest two flipped.",
    ),
    (
        "Noisy lines",
        "noisy_lines",
        "Lines that damage one character in a hundred to a thousand all the way, on chips full of another program; 200 seeds for\neach dialect.",
    ),
    (
        "Late answers",
        "late_answers",
        "Answers late by 0 to three times a dialect's time-out, all, one or some of them, alone and with a character "
        "dropped,\nflipped or repeated; 2,000 seeds for each dialect.",
    ),
    (
        "Damaged records",
        "damaged_records",
        "Recordings, kits, project files and journals, each read, or refused with a message; 20,000 seeds.",
    ),
)


REPORT = Path(__file__).parents[1] / "docs" / "measurements.md"


def sections() -> dict[str, str]:
    """The report's sections as they stand, by title."""
    if not REPORT.exists():
        return {}
    titled = (part.partition("\n") for part in REPORT.read_text().split("\n## ")[1:])
    return {title: body.strip() for title, _, body in titled}


def main() -> int:
    wanted = sys.argv[1:]
    kept = sections() if wanted else {}
    lines = [
        "# Measurements",
        "",
        "Made by `python -m benchmarks.report`; `make measure` and `make faults` print them.",
    ]
    failed = False
    for title, module, words in PARTS:
        if wanted and title not in wanted and title in kept:
            lines += ["", f"## {title}", "", kept[title]]
            continue
        done = subprocess.run([sys.executable, "-m", f"benchmarks.{module}"], capture_output=True, text=True)
        failed = failed or done.returncode != 0
        lines += ["", f"## {title}", "", *([words, ""] if words else []), "```", done.stdout.strip(), "```"]
    REPORT.write_text("\n".join(lines) + "\n")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
