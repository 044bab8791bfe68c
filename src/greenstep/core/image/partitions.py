"""The partition table of an ESP's flash, usually at 8000: read and checked for overlap.

Espressif's "Partition Tables": rows of 32 bytes, AA 50, type, subtype, offset, size, label, flags; the end is a row
EB EB with an MD5 of everything before it, or blank.
"""

from __future__ import annotations

from itertools import pairwise

from ..frozen import frozen
from ..quantities import show_span

USUAL_PLACE = 0x8000
ROW, MOST_BYTES = 32, 0xC00
_ROW_MARK, _MD5_MARK = b"\xaa\x50", b"\xeb\xeb"
APPLICATION, _DATA, _SETTINGS = 0, 1, 2


@frozen
class Partition:
    """One row. `kind` 0 is an application, 1 data."""

    label: str
    kind: int
    subtype: int
    offset: int
    size: int

    @property
    def end(self) -> int:
        return self.offset + self.size

    @property
    def holds_settings(self) -> bool:
        """Whether a program keeps its settings there."""
        return self.kind == _DATA and self.subtype == _SETTINGS


def read_table(data: bytes) -> list[Partition]:
    """The rows of a table that begins at `data[0]`; empty if none begins there."""
    rows = []
    for at in range(0, min(len(data), MOST_BYTES), ROW):
        row = data[at : at + ROW]
        if row[:2] != _ROW_MARK or len(row) < ROW:
            break
        label = row[12:28].partition(b"\x00")[0].decode("ascii", "replace")
        rows.append(
            Partition(label, row[2], row[3], int.from_bytes(row[4:8], "little"), int.from_bytes(row[8:12], "little"))
        )
    return rows


def faults_in(data: bytes, rows: list[Partition], flash_bytes: int) -> list[str]:
    """What is wrong with a table: overlap, the end of the flash, a wrong MD5."""
    faults = []
    ordered = sorted(rows, key=lambda row: row.offset)
    for before, after in pairwise(ordered):
        if after.offset < before.end:
            faults.append(
                f"{before.label} ({show_span(before.offset, before.size)}) and "
                f"{after.label} ({show_span(after.offset, after.size)}) overlap"
            )
    faults += [f"{row.label} ends at {row.end - 1:X}, beyond the flash" for row in ordered if row.end > flash_bytes]
    end = len(rows) * ROW
    last = data[end : end + ROW]
    if last[:2] == _MD5_MARK and last[16:] != _md5(data[:end]):
        faults.append("its MD5 is not that of its rows")
    return faults


def _md5(data: bytes) -> bytes:
    import hashlib  # imports a large library

    return hashlib.md5(data, usedforsecurity=False).digest()
