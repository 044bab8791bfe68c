"""Small ELF files, built field by field (System V ABI, "ELF Header", "Program Header", "Sections")."""

from __future__ import annotations

import struct
from collections.abc import Sequence

AVR, ARM = 83, 40
_HEADER, _PROGRAM, _SECTION = 52, 32, 40


def elf_file(
    segments: Sequence[tuple[int, bytes]],
    machine: int = ARM,
    entry: int = 0,
    kind: int = 2,
    sections: Sequence[tuple[str, int, int, int]] = (),
    memory_only: int = 0,
    virtual: int | None = None,
) -> bytes:
    """A 32-bit little-endian file. `segments` are (physical address, bytes); `sections` (name, number of the segment,
    offset in it, size); `memory_only` more bytes in memory than in the file; `virtual` an address to run at."""
    contents = b"".join(data for _, data in segments)
    begin = _HEADER + _PROGRAM * len(segments)
    names = b"\x00" + b"".join(name.encode() + b"\x00" for name, *_ in sections) + b".shstrtab\x00"
    table = begin + len(contents) + len(names)
    count = len(sections) + 2
    out = b"\x7fELF\x01\x01\x01" + bytes(9)
    out += struct.pack(
        "<HHIIIIIHHHHHH", kind, machine, 1, entry, _HEADER, table, 0, _HEADER, _PROGRAM, len(segments), _SECTION,
        count, count - 1,
    )  # fmt: skip
    offsets, at = [], begin
    for address, data in segments:
        offsets.append(at)
        used_at = address if virtual is None else virtual
        out += struct.pack("<8I", 1, at, used_at, address, len(data), len(data) + memory_only, 5, 1)
        at += len(data)
    out += contents + names + bytes(_SECTION)
    name_at = 1
    for name, number, offset, size in sections:
        address = segments[number][0] + offset
        out += struct.pack("<10I", name_at, 1, 2, address, offsets[number] + offset, size, 0, 0, 1, 0)
        name_at += len(name) + 1
    return out + struct.pack("<10I", name_at, 3, 0, 0, begin + len(contents), len(names), 0, 0, 1, 0)
