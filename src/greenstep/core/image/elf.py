"""ELF, read by pyelftools: what a debugger or a bootloader would load (System V ABI, "Object Files", "Program
Loading").

Segments of type PT_LOAD with bytes in the file, at their PHYSICAL addresses: initialised variables lie in flash,
whatever address they are used at.
"""

from __future__ import annotations

import struct
from typing import TYPE_CHECKING, Any, BinaryIO

from ..quantities import show_address, show_span
from .model import Chunk, Image, ImageFault, Section, merge

if TYPE_CHECKING:
    from elftools.elf.elffile import ELFFile

_ALLOCATED, _WITHOUT_BYTES = 0x2, "SHT_NOBITS"
_LARGEST_BYTES = 64 << 20
_KINDS = {"ET_REL": "an object file that is not linked yet", "ET_DYN": "a shared object", "ET_CORE": "a core dump"}
MACHINES = {
    "EM_AVR": "avr",
    "EM_ARM": "arm",
    "EM_XTENSA": "xtensa",
    "EM_RISCV": "riscv",
    "EM_MSP430": "msp430",
    "EM_386": "i386",
    "EM_X86_64": "x86-64",
    "EM_AARCH64": "aarch64",
}
"""The machines that a hobbyist's file may be for, by ELF's names (e_machine)."""


def read_elf(stream: BinaryIO, name: str) -> Image:
    """An image from a seekable binary stream, with its sections and its machine.

    Raises ImageFault for a damaged file, for one that is not linked, for segments that reach beyond the end of the
    file or disagree, and for one without anything to load.
    """
    from elftools.common.exceptions import ELFError
    from elftools.construct import ConstructError

    # raised inside pyelftools if a table of a damaged file points anywhere
    foreign = (ELFError, ConstructError, struct.error, ValueError, KeyError, IndexError, AttributeError, TypeError,
               OverflowError, MemoryError, AssertionError, OSError)  # fmt: skip
    try:
        return _read(stream, name)
    except ImageFault:
        raise
    except foreign as error:
        why = str(error).strip().splitlines()
        raise ImageFault(
            name,
            None,
            f"the ELF file is damaged: {why[0][:80] if why else type(error).__name__}",
            "headers and tables that agree with the file",
        ) from error


def _read(stream: BinaryIO, name: str) -> Image:
    from elftools.elf.elffile import ELFFile

    file = ELFFile(stream)
    kind = str(file["e_type"])
    if kind != "ET_EXEC":
        raise ImageFault(
            name,
            None,
            f"this is {_KINDS.get(kind, f'an ELF file of type {kind}')}, and no program to load",
            "an executable, as the linker makes it",
            key="image-kind",
        )
    stream.seek(0, 2)
    size = stream.tell()
    chunks = []
    for number in range(file.num_segments()):
        header = file.get_segment(number).header
        if header["p_type"] != "PT_LOAD" or not header["p_filesz"]:
            continue
        offset, length, address = header["p_offset"], header["p_filesz"], header["p_paddr"]
        if offset + length > size:
            raise ImageFault(
                name, None,
                f"segment {number} ends {offset + length - size:,} bytes after the end of the file", "a whole file",
                "the file is cut short: copy or build it again",
            )  # fmt: skip
        if length > _LARGEST_BYTES or address + length > 1 << 32:
            raise ImageFault(
                name, None, f"segment {number} has {length:,} bytes at {show_address(address)}",
                "segments of a microcontroller, below FFFFFFFF",
            )  # fmt: skip
        stream.seek(offset)
        chunks.append(Chunk(address, stream.read(length), number, name))
    pieces = merge(chunks, lambda address, one, other: _clash(name, address, one, other))
    if not pieces:
        raise ImageFault(
            name, None, "no segment to load", "at least one segment with bytes in it",
            "is it only the symbols, split from the program?",
        )  # fmt: skip
    machine = str(file["e_machine"])
    return Image(
        name,
        pieces,
        file["e_entry"],
        "ELF",
        sections=_sections(file),
        machine=MACHINES.get(machine, machine.removeprefix("EM_").lower()),
    )


def _sections(file: ELFFile) -> tuple[Section, ...]:
    """Named stretches with bytes in the file, at the physical address of the segment that holds them."""
    segments = [file.get_segment(number).header for number in range(file.num_segments())]
    loaded = [header for header in segments if header["p_type"] == "PT_LOAD" and header["p_filesz"]]
    found = []
    for section in file.iter_sections():
        header: Any = section.header
        if not header["sh_flags"] & _ALLOCATED or header["sh_type"] == _WITHOUT_BYTES or not header["sh_size"]:
            continue
        for segment in loaded:
            inside = header["sh_offset"] - segment["p_offset"]
            if inside >= 0 and inside + header["sh_size"] <= segment["p_filesz"]:
                found.append(Section(section.name, segment["p_paddr"] + inside, header["sh_size"]))
                break
    return tuple(sorted(found, key=lambda one: one.address))


def _clash(name: str, address: int, one: Chunk, other: Chunk) -> ImageFault:
    return ImageFault(
        name,
        None,
        f"byte {other.data[address - other.address]:02X} at {show_address(address)} in segment {other.line}, where "
        f"segment {one.line} ({show_span(one.address, len(one.data))}) has {one.data[address - one.address]:02X}",
        "segments that agree where they overlap",
        "the linker script puts two things in one place",
        key="image-overlap",
    )
