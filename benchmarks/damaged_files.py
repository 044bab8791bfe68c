"""Image files of every format, damaged by a seed: each is read and held against a chip, or refused with a message.

`python -m benchmarks.damaged_files [FILES [FIRST_SEED]]`
"""

from __future__ import annotations

import io
import random
import sys
from collections.abc import Callable
from typing import BinaryIO

from greenstep.bench.samples import stm32_image
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.image import Image, ImageFault, Piece
from greenstep.core.image.content import look_into
from greenstep.core.image.elf import read_elf
from greenstep.core.image.file_formats import recognise
from greenstep.core.image.fit import hold_against
from greenstep.core.image.intel_hex import read_intel_hex, write_intel_hex
from greenstep.core.image.raw import read_raw
from greenstep.core.image.s_record import read_s_record, write_s_record
from greenstep.core.image.ti_txt import read_ti_txt, write_ti_txt
from tests.elf_files import elf_file

from .seeded import asked_for, how_it_ends, show_counts, show_wrong

LONGEST_S = 2.0
PARTS = [
    Catalogue.load().find(name).first for name in ("atmega328p", "stm32f072rb", "lpc1114", "pic18f46k22", "esp8266")
]
"""What each file that can be read is held against."""
_READERS: dict[str, Callable[[BinaryIO, str], Image]] = {
    "Intel HEX": read_intel_hex,
    "S-record": read_s_record,
    "TI-TXT": read_ti_txt,
    "ELF": read_elf,
}
_TEXT = b"0123456789ABCDEFabcdefqS:@ \r\n\x00\xff"


def samples() -> list[tuple[str, bytes]]:
    """A right file of each format."""
    program = stm32_image("brood probe 1.7 ready", 700)
    image = Image("probe", (*program.pieces, Piece(0x08001000, b"bees" * 30)), 0x08000101)
    sections = [(".isr_vector", 0, 0, 64), (".text", 0, 64, 400), (".data", 1, 0, 20)]
    segments = [(piece.address, piece.data) for piece in image.pieces]
    return [
        ("Intel HEX", "".join(write_intel_hex(image)).encode()),
        ("S-record", "".join(write_s_record(image)).encode()),
        ("TI-TXT", "".join(write_ti_txt(image)).encode()),
        ("ELF", elf_file(segments, entry=0x08000101, sections=sections)),
    ]


def damaged(content: bytes, source: random.Random) -> bytes:
    """One to eight changes: bytes flipped, set, cut out, put in, doubled, or the end lost."""
    work = bytearray(content)
    for _ in range(source.randint(1, 8)):
        if not work:
            break
        at = source.randrange(len(work)) if source.random() < 0.7 else source.randrange(min(len(work), 120))
        size = source.choice((1, 1, 2, 4, 16, 200))
        kind = source.randrange(6)
        if kind == 0:
            work[at] ^= 1 << source.randrange(8)
        elif kind == 1:
            work[at : at + size] = bytes(
                source.choice((_TEXT[source.randrange(len(_TEXT))], 0xFF, 0)) for _ in range(size)
            )
        elif kind == 2:
            del work[at : at + size]
        elif kind == 3:
            work[at:at] = source.randbytes(size)
        elif kind == 4:
            work[at:at] = work[at : at + size]
        else:
            del work[source.randrange(len(work)) :]
    return bytes(work)


def try_one(file: tuple[str, bytes], seed: float, longest_s: float = LONGEST_S) -> tuple[str, str]:
    """('read' or 'refused' or what went wrong, and its words). A quarter is read as what it was, the others as what
    they are recognised as."""
    source = random.Random(seed)
    kind, content = file[0], damaged(file[1], source)
    if source.random() < 0.75:
        kind = recognise(content[:65536])

    def read() -> None:
        reader = _READERS.get(kind)
        image = reader(io.BytesIO(content), "bees") if reader else read_raw(content, "bees", 0)
        look_into(image)
        part = source.choice(PARTS)
        hold_against(part, find_dialect(part.dialect), {"flash": image})

    ended, words = how_it_ends(read, (ImageFault,), longest_s, _words)
    return ended, f"{file[0]} {words}"


def _words(fault: Exception) -> str:
    """The cause, where there is something to try besides."""
    assert isinstance(fault, ImageFault)
    return fault.finding.cause if fault.finding.attempts else ""


def main() -> int:
    number, first, _ = asked_for(20_000)
    files = samples()
    rows = [(files[seed % len(files)], seed) for seed in range(first, first + number)]
    results = [(file[0], seed, *try_one(file, seed)) for file, seed in rows]
    show_counts(((kind, ended) for kind, _, ended, _ in results), 20)
    wrong = [row for row in results if row[2].startswith("WRONG")]
    return show_wrong(wrong, f"{number:,} damaged files, {len(wrong)} neither read nor refused")


if __name__ == "__main__":
    sys.exit(main())
