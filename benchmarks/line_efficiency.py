"""How near an upload comes to the best legal use of its protocol, on the bench's virtual clock.

The floor is reckoned here from the documents, not from the dialects: the largest blocks, no turnaround that
could be spared, the chip's busy times. What it leaves out (reset, synchronisation, identity) counts
against us.
"""

from __future__ import annotations

import random
import sys
from dataclasses import dataclass, replace

from greenstep.bench import avr, stm32
from greenstep.bench.samples import avr_image, stm32_image
from greenstep.bench.trial import run
from greenstep.core.image import Image, Piece

BAUD = 115200
LIMITS = {0.001: 1.06, 0.016: None, 0.0: None}


@dataclass(frozen=True)
class Floor:
    """Seconds, by what they are spent on."""

    bits_s: float
    turnarounds: int
    busy_s: float

    def seconds(self, turnaround_s: float) -> float:
        return self.bits_s + self.turnarounds * turnaround_s + self.busy_s


def stm32_floor(kind: stm32.Stm32Kind, size: int) -> Floor:
    """AN3155: write and read of 256 bytes, three answers each; one erase command; 11 bits a character."""
    blocks = -(-size // 256)
    pages = -(-size // kind.sectors[0])
    write = 2 + 1 + 5 + 1 + 1 + 256 + 1 + 1
    read = 2 + 1 + 5 + 1 + 2 + 1 + 256
    erase = 2 + 1 + (2 + 2 * pages if kind.extended_erase else 1 + pages) + 1 + 1
    characters = blocks * (write + read) + erase
    program_s = size / kind.program_unit * kind.program_s
    return Floor(characters * 11 / BAUD, blocks * 6 + 2, program_s + pages * kind.erase_s[kind.sectors[0]])


def avr_floor(kind: avr.AvrKind, size: int) -> Floor:
    """AVR061: address and page in one go, one turnaround a page; 10 bits a character; 9 ms a page."""
    pages = -(-size // kind.page)
    write = 4 + 2 + 4 + kind.page + 1 + 2
    read = 4 + 2 + 5 + 2 + kind.page
    return Floor(pages * (write + read) * 10 / BAUD, pages * 2, pages * 0.009)


def full_image(image: Image) -> Image:
    """The same with no blank room, so that nothing can be skipped."""
    piece = image.pieces[0]
    source = random.Random(7)
    data = bytes(byte if byte not in (0x00, 0xFF) else source.randrange(1, 255) for byte in piece.data[512:])
    return replace(image, pieces=(Piece(piece.address, piece.data[:512] + data),))


def main() -> int:
    print("upload with verify at 115200 baud; the floor is the best legal use of the protocol\n")
    print(
        f"{'chip':<12} {'size':>7} {'turn':>6}   {'bits':>8} {'turns':>8} {'busy':>8} {'floor':>8} {'took':>8} {'ratio':>7}"
    )
    failed = False
    cases: list[tuple[str, Image, Floor]] = []
    for name in ("stm32f072", "stm32f103", "stm32g071"):
        kind = stm32.KINDS[name]
        cases.append((name, full_image(stm32_image("brood probe", 65536, kind.ram_bytes)), stm32_floor(kind, 65536)))
    kind_328, kind_1284 = avr.KINDS["atmega328p"], avr.KINDS["atmega1284p"]
    cases.append(("atmega328p", full_image(avr_image("hive scale", 32256)), avr_floor(kind_328, 32256)))
    cases.append(("atmega1284p", full_image(avr_image("hive scale", 32768)), avr_floor(kind_1284, 32768)))
    for name, image, floor in cases:
        for turnaround_s, limit in LIMITS.items():
            trial = run(name, {"flash": image}, turnaround_s=turnaround_s, start=False)
            took = trial.end.elapsed_s
            assert trial.end.exit_code == 0 and trial.holds(image), trial.events
            wanted = floor.seconds(turnaround_s)
            ratio = took / wanted
            over = limit is not None and ratio > limit
            failed = failed or over
            print(
                f"{name:<12} {image.size_bytes:>7,} {turnaround_s * 1000:>3.0f} ms   {floor.bits_s:>6.2f} s "
                f"{floor.turnarounds * turnaround_s:>6.2f} s {floor.busy_s:>6.2f} s {wanted:>6.2f} s {took:>6.2f} s "
                f"{ratio:>7.3f}{f'  over {limit}' if over else f'  (at most {limit})' if limit else ''}"
            )
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
