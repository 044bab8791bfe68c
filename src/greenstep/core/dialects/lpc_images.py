"""How data gets into the RAM of an LPC and from there into its flash: encoded lines, copies, runs of sectors.

What the ROM of an LPC checks in an image: the sum of its vectors, and code read protection."""

from __future__ import annotations

import binascii
from collections.abc import Sequence

from ..chips.part import EraseUnit, Part
from ..errors import RefusedFault
from ..image import Image
from ..image.edit import with_bytes
from ..quantities import show_address, show_span
from .spec import Cost

COPY_SIZES = (4096, 1024, 512, 256, 128, 64)
"""Byte counts that 'copy RAM to flash' accepts, if the part's own limits allow them."""
LINE_BYTES, LINES_A_SUM = 45, 20


def uu_line(data: bytes) -> bytes:
    """One line of at most 45 bytes, zero written as '`'."""
    return binascii.b2a_uu(data, backtick=True).rstrip(b"\n") + b"\r\n"


def uu_length(first: int) -> int:
    """The length of a line including its end, from its first character."""
    return 1 + -(-(first - 32 & 63) // 3) * 4 + 2


def cost_of_data(part: Part, size: int) -> Cost:
    """The cost of sending `size` bytes to the RAM."""
    if not part.extra["uu"]:
        return Cost(size, 4, 1)
    lines = -(-size // LINE_BYTES)
    sums = -(-lines // LINES_A_SUM)
    return Cost(3 * lines + -(-size // 3) * 4 + 8 * sums, 4 * sums, sums)


def copies_of(part: Part, address: int, size: int) -> list[tuple[int, int]]:
    """(offset, size) of copies that the ROM accepts, the largest first."""
    largest = part.flash.block or COPY_SIZES[0]
    copies, at = [], 0
    while at < size:
        fitting = next(s for s in COPY_SIZES if s <= min(largest, size - at))
        copies.append((at, fitting))
        at += fitting
    return copies


def neighbours(units: Sequence[EraseUnit]) -> list[tuple[int, int, list[int]]]:
    """(first, last, sizes) of sectors whose numbers follow each other."""
    runs: list[tuple[int, int, list[int]]] = []
    for unit in units:
        if runs and runs[-1][1] + 1 == unit.number:
            runs[-1] = (runs[-1][0], unit.number, [*runs[-1][2], unit.size])
        else:
            runs.append((unit.number, unit.number, [unit.size]))
    return runs


# Code read protection, a word at 2FC, on ARM7 at 1FC: UM10360 and UM10139, "Code Read Protection"
_PROTECTION_AT = 0x2FC
_PROTECTIONS = {0x12345678: "CRP1", 0x87654321: "CRP2", 0x43218765: "CRP3", 0x4E697370: "no ISP"}
_FOR_GOOD = {"CRP3", "no ISP"}


def as_the_rom_wants(image: Image, part: Part, even_if: frozenset[str]) -> tuple[Image, list[str]]:
    """The image with its vectors' sum filled in; and notes. Raises RefusedFault for read protection."""
    start = part.flash.start
    notes = _protection(image, start + int(part.extra.get("protection", _PROTECTION_AT)), even_if)
    if image.covers(start, 32):
        place = 5 if part.core == "arm7" else 7  # UM10360, "Criterion for valid user code"; UM10161 for ARM7
        words = [int.from_bytes(image.cut(start + 4 * n, 4, 0xFF), "little") for n in range(8)]
        total = -sum(word for n, word in enumerate(words) if n != place) & 0xFFFFFFFF
        if words[place] != total:
            image = with_bytes(image, start + 4 * place, total.to_bytes(4, "little"))
            notes.append(
                f"vector checksum {total:08X} filled in at {show_address(start + 4 * place)}, "
                f"where {words[place]:08X} stood; the file stays unchanged"
            )
    return image, notes


def refuse_without_beginning(image: Image, part: Part, even_if: frozenset[str]) -> None:
    """A backup that lacks the bytes under the boot ROM would not run. Raises RefusedFault."""
    start, shadow = part.flash.start, int(part.extra["shadow"])
    if not shadow or not image.touches(start, part.flash.units_touched(start, 1)[0].size):
        return
    whole = image.covers(start, shadow)
    if whole and (_sums_to_zero(image.cut(start, 32, 0xFF)) or "vectors" in even_if):
        return
    where = show_span(start, shadow)
    seen = "they sum to no valid vectors: the boot ROM's own bytes?" if whole else "they were hidden by the boot ROM"
    raise RefusedFault.of(
        "hidden",
        f"the backup lacks {where}, and the chip would not run without it",
        (seen,),
        (
            "upload the program that was in the chip: its file has them",
            "for the rest: greenstep image join BACKUP PROGRAM --save BOTH.hex, and upload that",
        ),
    )


def _sums_to_zero(vectors: bytes) -> bool:
    """Whether the ROM would start a program with these first eight words."""
    return not sum(int.from_bytes(vectors[at : at + 4], "little") for at in range(0, 32, 4)) & 0xFFFFFFFF


def _protection(image: Image, place: int, even_if: frozenset[str]) -> list[str]:
    """What the image would protect, as a note. Raises RefusedFault unless allowed, and allowed twice if it is
    permanent."""
    if not image.covers(place, 4):
        return []
    word = int.from_bytes(image.cut(place, 4, 0xFF), "little")
    name = _PROTECTIONS.get(word)
    if name is None:
        return []
    wanted = {"protection", "lock-out"} if name in _FOR_GOOD else {"protection"}
    if wanted <= even_if:
        return [f"the image turns {name} on: written anyway"]
    cause = f"{image.name} would lock the chip: {name}"
    if name in _FOR_GOOD:
        cause = f"{image.name} would lock you out for good: {name}"
    said = " ".join(f"--even-if {word}" for word in sorted(wanted, reverse=True))
    raise RefusedFault.of(
        "would-lock",
        cause,
        (f"the word at {show_address(place)} is {word:08X}",),
        ("build it without code read protection", f"if you mean it: {said}"),
    )
