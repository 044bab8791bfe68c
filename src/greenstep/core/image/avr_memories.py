"""An AVR's ELF file holds all its memories in one: each has its own offset in the linker's addresses (GNU Binutils,
avr linker scripts: data 800000, eeprom 810000, fuse 820000, lock 830000, signature 840000)."""

from __future__ import annotations

from dataclasses import replace

from ..quantities import count
from .edit import cut_out, moved
from .model import Image, ImageFault

_SPACE = 0x10000
_EEPROM = 0x810000
_OTHERS = ((_EEPROM, "EEPROM"), (0x820000, "fuses"), (0x830000, "lock bits"), (0x840000, "signature"))


def memory_of(image: Image, memory: str) -> Image:
    """The part of an AVR's ELF file that belongs to `memory` (flash, eeprom), at that memory's own addresses, with a
    note about the rest; any other image unchanged. Raises ImageFault if nothing belongs there."""
    if image.machine != "avr" or image.format != "ELF":
        return image
    if memory == "eeprom":
        part = cut_out(image, _EEPROM, _EEPROM + _SPACE)
        if not part.pieces:
            raise ImageFault(image.name, None, "this ELF file has no EEPROM in it", "a section .eeprom")
        return moved(replace(part, start=None), -_EEPROM)
    flash = cut_out(image, 0, _EEPROM - _SPACE)
    if not flash.pieces:
        raise ImageFault(image.name, None, "this ELF file has no program in it", "a section .text")
    notes = []
    for start, name in _OTHERS:
        size = cut_out(image, start, start + _SPACE).size_bytes
        if size:
            how = f": give it with --eeprom {image.name}" if start == _EEPROM else ": a bootloader does not set them"
            notes.append(f"{count(size, 'byte')} of {name} in the file left out{how}")
    return replace(flash, notes=(*image.notes, *notes))
