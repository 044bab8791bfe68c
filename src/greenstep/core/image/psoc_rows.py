"""Rows of a PSoC's flash, read (Cypress AN60317, "Bootloadable output files").

A line tells the silicon id, its revision and the loader's kind of checksum; each of the others, after a colon, an
array, a row, a length, the row's bytes and their checksum. There are no addresses: rows are laid one behind the
other, 288 bytes apart if they have 256 or more (some have 32 of configuration behind them).
"""

from __future__ import annotations

from typing import BinaryIO

from ..quantities import count
from .model import Image, ImageFault, Piece, joined
from .text_lines import BLANKS, CUT, bad_digits, line_chunks, quoted, wrong_checksum, wrong_length

FORMAT = "PSoC rows"
ROWS_OF_AN_ARRAY = {64: 1024, 128: 512, 288: 256}
"""By how far rows are apart."""
_HEAD_DIGITS = 12


def row_pitch(row_bytes: int) -> int:
    """How far rows of so many bytes are laid apart. Raises KeyError if no PSoC has such rows."""
    return {64: 64, 128: 128, 256: 288, 288: 288}[row_bytes]


def read_psoc_rows(stream: BinaryIO, name: str) -> Image:
    """An image from a binary stream; its `header` has silicon id, revision and kind of checksum. Raises ImageFault
    for a line that is no row, a wrong length or checksum, rows of different lengths, and a row that is there twice
    with different bytes."""
    lines = [line.strip(BLANKS) for chunk in line_chunks(stream) for line in chunk.splitlines()]
    head = lines[0].decode("ascii", "replace")
    if lines[0].startswith(b":") or len(head) != _HEAD_DIGITS:
        raise ImageFault(name, 1, f"{quoted(lines[0])}", "silicon id, revision and kind of checksum: 12 hex digits")
    rows: dict[int, tuple[int, bytes]] = {}
    length = 0
    for number, line in enumerate(lines[1:], 2):
        if not line:
            continue
        address, data = _row(name, number, line)
        if length and len(data) != length:
            raise ImageFault(name, number, f"a row of {len(data)} bytes", f"{length}, as the others have", CUT)
        length = len(data)
        earlier = rows.setdefault(address, (number, data))
        if earlier[1] != data:
            raise ImageFault(name, number, f"the row of line {earlier[0]} again, with other bytes", "each row once")
    if not rows:
        raise ImageFault(name, None, "no row in the file", "rows after the first line", CUT)
    pieces = joined(Piece(address, data) for address, (_, data) in rows.items())
    header = f"{head[:8]} {head[8:10]} {head[10:]}"
    return Image(name, pieces, None, FORMAT, (f"{count(len(rows), 'row')} of {length} bytes",), header)


def _row(name: str, number: int, line: bytes) -> tuple[int, bytes]:
    """Where a line's row is laid, and its bytes. Raises ImageFault."""
    if not line.startswith(b":"):
        raise ImageFault(name, number, quoted(line), "a row, which begins with ':'")
    try:
        record = bytes.fromhex(line[1:].decode("ascii"))
    except (ValueError, UnicodeDecodeError):
        raise bad_digits(name, number, line[1:], 2) from None
    if len(record) < 6:
        raise ImageFault(name, number, quoted(line), "array, row, length, bytes and checksum", CUT)
    array, row, said = record[0], int.from_bytes(record[1:3], "big"), int.from_bytes(record[3:5], "big")
    if said != len(record) - 6:
        raise wrong_length(name, number, len(record) - 6, said, "bytes")
    if sum(record) & 0xFF:
        raise wrong_checksum(name, number, record[-1], -sum(record[:-1]) & 0xFF)
    try:
        pitch = row_pitch(said)
    except KeyError:
        raise ImageFault(name, number, f"a row of {said} bytes", "rows of 64, 128, 256 or 288") from None
    return (array * ROWS_OF_AN_ARRAY[pitch] + row) * pitch, record[5:-1]
