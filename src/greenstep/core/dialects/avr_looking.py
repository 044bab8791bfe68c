"""What is checked on an AVR before anything is written: where its bootloader begins, and whether reset reaches it by
a jump in the program's own space. None of the dialects reports either."""

from __future__ import annotations

from collections.abc import Mapping

from ..chips.part import Memory, Part
from ..errors import Finding, RefusedFault
from ..families.avr import boot_sections, leads_to_loader, loader_start
from ..image import Image, Piece
from ..quantities import show_address, show_bytes, show_size
from .dialect import Dialect
from .errors import ChipRefusal

_SIZES = (8, 16, 32, 64, 128, 256)
"""Flash in KiB of parts with a boot section."""


def look_at_avr(dialect: Dialect, part: Part, images: Mapping[str, Image]) -> tuple[str, ...]:
    """Raises RefusedFault if an image would overwrite the loader, or remove the jump that leads to it."""
    image, memory = images.get("flash"), part.flash
    if image is None or part.core != "avr" or memory.size // 1024 not in _SIZES:
        return ()
    try:
        said = () if dialect.loader_is_said else _refuse_into_loader(dialect, memory, image)
        _refuse_to_cut_off(dialect, memory, image)
    except ChipRefusal:  # this loader cannot be read
        return ("the bootloader lets nothing be read: where it begins is not known",)
    return said


def loader_room(dialect: Dialect, part: Part) -> int | None:
    """How much of the top of the flash the loader takes, read from the chip, in bytes; None if that is not known."""
    memory = part.flash
    if part.core != "avr" or memory.size // 1024 not in _SIZES:
        return None
    room = boot_sections(memory.size)[0]
    try:
        start = loader_start(memory, _read(dialect, memory, memory.end - room, room))
    except ChipRefusal:
        return None
    return None if start is None or start == memory.end else memory.end - start


def _refuse_into_loader(dialect: Dialect, memory: Memory, image: Image) -> tuple[str, ...]:
    """Returns notes."""
    room = boot_sections(memory.size)[0]
    first = memory.end - room
    if image.end <= first or memory.reserved_top >= room:
        return ()
    start = loader_start(memory, _read(dialect, memory, first, room))
    if start is None:
        return (
            "where the bootloader begins cannot be told from what is in the chip: taken as "
            f"{show_address(memory.usable_end)}",
        )
    last = memory.units_touched(image.end - 1, 1)[0]
    if start >= last.end:
        return ()
    size = memory.end - start
    raise RefusedFault.of(
        "hits-bootloader",
        f"the image runs into the bootloader, which begins at {show_address(start)} on this chip",
        (
            f"the image ends at {show_address(image.end - 1)}",
            f"read from the chip: what only a loader has, from {show_address(start)} on, {show_size(size)}",
        ),
        (
            f"build a smaller program: --bootloader-bytes {size} checks that first",
            "if you know its size better, say it: --bootloader-bytes SIZE decides",
        ),
        "likely",
    )


def _refuse_to_cut_off(dialect: Dialect, memory: Memory, image: Image) -> None:
    """If reset does not begin in the loader, the loader is reached by the jump at 0."""
    if not image.touches(memory.start, memory.units_touched(memory.start, 1)[0].size):
        return
    held = _read(dialect, memory, memory.start, 4)
    if not leads_to_loader(memory, held):
        return
    wanted = image.cut(memory.start, 4, memory.erased)
    if leads_to_loader(memory, wanted):
        return
    raise RefusedFault.of(
        "cuts-off-bootloader",
        "the image would remove the jump that leads to the bootloader",
        (
            f"the chip has {show_bytes(held)} at {show_address(memory.start)}, the image {show_bytes(wanted)}",
            "without it this bootloader is out of reach for good",
        ),
        (
            "move the program's reset: greenstep loader room PROGRAM --save MOVED, then upload that",
            "or program the fuse BOOTRST, so that reset begins in the bootloader",
        ),
    )


def into_loader(part: Part | None, error: Exception) -> Finding | None:
    """What a refused write to the boot section was about."""
    if part is None or part.core != "avr" or not isinstance(error, ChipRefusal) or error.address is None:
        return None
    memory = part.flash
    if memory.size // 1024 not in _SIZES or error.address < memory.end - boot_sections(memory.size)[0]:
        return None
    size = memory.end - error.address
    return Finding(
        "hits-bootloader",
        f"the chip refuses to write at {show_address(error.address)}: that is the bootloader",
        (f"it said {error.said}",),
        (f"build a smaller program: --bootloader-bytes {size} checks that first",),
        "likely",
    )


def jump_to_loader(dialect: Dialect, part: Part) -> Piece | None:
    """The jump at 0, where that leads to the bootloader."""
    memory = part.flash
    if part.core != "avr" or memory.size // 1024 not in _SIZES:
        return None
    try:
        held = _read(dialect, memory, memory.start, 4)
    except ChipRefusal:  # this loader cannot be read
        return None
    size = 4 if held[1] & 0xFE == 0x94 else 2
    return Piece(memory.start, held[:size]) if leads_to_loader(memory, held) else None


def _read(dialect: Dialect, memory: Memory, address: int, size: int) -> bytes:
    block = dialect.read_block(memory)
    return b"".join(
        dialect.read(memory, at, min(block, address + size - at)) for at in range(address, address + size, block)
    )
