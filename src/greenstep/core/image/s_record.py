"""Motorola S-records, read and written (Motorola M68000 Family Programmer's Reference Manual, appendix C).

In a large file, runs of equal lines are checked and unpacked with arrays; any other chunk is read line by line, which
gives every fault its line.
"""

from __future__ import annotations

import binascii
from collections.abc import Iterator
from itertools import pairwise
from typing import TYPE_CHECKING, BinaryIO, NamedTuple

from ..quantities import show_address
from .model import Chunk, Image, ImageFault, add_chunk, merge
from .text_lines import (
    ARRAYS_PAY_BYTES,
    BLANKS,
    CUT,
    bad_digits,
    behind_the_end,
    find_clash,
    line_chunks,
    quoted,
    wrong_checksum,
    wrong_length,
)

if TYPE_CHECKING:
    import numpy as np

HEADER, START_32, START_24, START_16 = 0, 7, 8, 9
_COUNTS = (5, 6)
_DATA = (1, 2, 3)
_ADDRESS_BYTES = (2, 2, 3, 4, 0, 2, 3, 4, 3, 2)
"""By the type's digit; 4 is reserved."""
_ORDINARY_BYTES = 8
"""Runs of fewer equal lines are not worth an array each."""


class SRecord(NamedTuple):
    """One line: the digit of its type, its address, its data, and its line number."""

    type: int
    address: int
    data: bytes
    line: int


def read_s_record(stream: BinaryIO, name: str) -> Image:
    """An image from a seekable binary stream. A start address of 0 counts as none, which is what it means.

    Raises ImageFault for every line that is not a valid record, for a wrong count of records, for overlapping data
    that disagree (both lines named), and for a file without data.
    """
    reader = _Reader(name)
    for chunk in line_chunks(stream):
        if not reader.take_plain(chunk):
            for _ in reader.take_lines(chunk):
                pass
    return reader.finish(stream)


class _Reader:
    def __init__(self, name: str) -> None:
        self.name = name
        self.line = 1
        self.chunks: list[Chunk] = []
        self.records = 0
        self.data_records = 0
        self.header = ""
        self.start: int | None = None
        self.end_line: int | None = None
        self.counted = False

    # --- runs of equal data records, as arrays

    def take_plain(self, chunk: bytes) -> bool:
        """Read a chunk if it consists of valid data records in few runs of equal length; else change nothing and
        return False."""
        if len(chunk) < ARRAYS_PAY_BYTES or self.end_line is not None or not chunk.endswith(b"\n"):
            return False
        import numpy as np

        text = np.frombuffer(chunk, np.uint8)
        ends = np.flatnonzero(text == 0x0A)
        starts = np.concatenate(([0], ends[:-1] + 1))
        lengths = ends - starts + 1
        if (lengths < 11).any() or (text[starts] != 0x53).any():
            return False
        shape = lengths * 256 + text[starts + 1]
        edges = [0, *(np.flatnonzero(shape[1:] != shape[:-1]) + 1).tolist(), len(shape)]
        if len(edges) > len(shape) // _ORDINARY_BYTES + 3:
            return False
        found: list[Chunk] = []
        for begin, end in pairwise(edges):
            low, high = int(starts[begin]), int(ends[end - 1]) + 1
            run = self._plain_run(text[low:high].reshape(end - begin, -1), self.line + begin)
            if run is None:
                return False
            found += run
        for run_of_bytes in found:
            add_chunk(self.chunks, run_of_bytes.address, run_of_bytes.data, run_of_bytes.line, self.name)
        self.records += len(ends)
        self.data_records += len(ends)
        self.line += len(ends)
        return True

    def _plain_run(
        self, table: np.ndarray[tuple[int, int], np.dtype[np.uint8]], first_line: int
    ) -> list[Chunk] | None:
        """The chunks of lines of one type and length; None if any of them is not a plain and valid data record."""
        import numpy as np

        kind = int(table[0, 1]) - 0x30
        width = table.shape[1] - 1 - int(table[0, -2] == 0x0D)
        if kind not in _DATA or width % 2:
            return None
        try:
            raw = np.frombuffer(binascii.unhexlify(np.ascontiguousarray(table[:, 2:width]).tobytes()), np.uint8)
        except binascii.Error:
            return None
        rows = raw.reshape(len(table), -1)
        at = 1 + _ADDRESS_BYTES[kind]
        if rows.shape[1] < at + 1 or (rows[:, 0] != rows.shape[1] - 1).any():
            return None
        if (np.ascontiguousarray(rows.T).sum(axis=0, dtype=np.uint8) != 0xFF).any():  # along the lines, not across
            return None
        addresses = np.zeros(len(rows), np.int64)
        for column in range(1, at):
            addresses = addresses << 8 | rows[:, column]
        size = rows.shape[1] - at - 1
        if int(addresses.max()) + size > 1 << 32:
            return None
        payload = np.ascontiguousarray(rows[:, at:-1]).tobytes()
        breaks = [0, *(np.flatnonzero(addresses[1:] != addresses[:-1] + size) + 1).tolist(), len(rows)]
        return [
            Chunk(int(addresses[begin]), payload[begin * size : end * size], first_line + begin)
            for begin, end in pairwise(breaks)
        ]

    # --- line by line

    def take_lines(self, chunk: bytes) -> Iterator[SRecord]:
        """Read a chunk's records; each is yielded as soon as it is read."""
        for line in chunk.splitlines():
            record = self._parse(line.strip(BLANKS), self.line)
            self.line += 1
            if record is not None:
                self.records += 1
                self._take(record)
                yield record

    def _parse(self, text: bytes, number: int) -> SRecord | None:
        if not text:
            return None
        if not text.startswith((b"S", b"s")):
            if not self.records or self.end_line is not None:  # text around the records is no part of the file
                return None
            raise ImageFault(self.name, number, f"{quoted(text)} at the start of the line", "an S-record: 'S'")
        if self.end_line is not None:
            raise behind_the_end(self.name, number, self.end_line)
        return self._parse_record(text, number)

    def _parse_record(self, text: bytes, number: int) -> SRecord:
        if text[1:2] not in (b"0", b"1", b"2", b"3", b"5", b"6", b"7", b"8", b"9"):
            raise ImageFault(self.name, number, f"record type {quoted(text[:2])}", "S0 to S9, but no S4")
        kind = text[1] - 0x30
        digits = text[2:]
        try:
            raw = binascii.unhexlify(digits)
        except binascii.Error:
            raise bad_digits(self.name, number, digits, 3) from None
        least = 1 + _ADDRESS_BYTES[kind] + 1
        if len(raw) < least:
            raise ImageFault(
                self.name, number, f"only {len(digits)} hex digits", f"at least {2 * least} in an S{kind} record", CUT
            )
        if raw[0] != len(raw) - 1:
            raise wrong_length(self.name, number, len(raw) - 1, raw[0], "bytes")
        if sum(raw) & 0xFF != 0xFF:
            raise wrong_checksum(self.name, number, raw[-1], ~sum(raw[:-1]) & 0xFF)
        at = 1 + _ADDRESS_BYTES[kind]
        return SRecord(kind, int.from_bytes(raw[1:at], "big"), raw[at:-1], number)

    def _take(self, record: SRecord) -> None:
        if record.type in _DATA:
            self.data_records += 1
            if record.address + len(record.data) > 1 << 32:
                raise ImageFault(self.name, record.line, "data beyond address FFFFFFFF", "32-bit addresses")
            add_chunk(self.chunks, record.address, record.data, record.line, self.name)
        elif record.type == HEADER:
            self.header = record.data.decode("ascii", "replace").strip("\x00 \r\n\t")
            self.header = self.header if self.header.isprintable() else ""
        elif record.type in _COUNTS:
            self.counted = True
            wrap = 1 << (16 if record.type == 5 else 24)
            if record.address != self.data_records % wrap:
                raise ImageFault(
                    self.name,
                    record.line,
                    f"{self.data_records:,} data records before this count",
                    f"{record.address:,}, as it says",
                    "lines were lost: copy or build the file again",
                )
        else:
            self.end_line = record.line
            if record.data:
                raise ImageFault(
                    self.name, record.line, f"{len(record.data)} data bytes in an S{record.type} record", "none"
                )
            self.start = record.address or None

    def finish(self, stream: BinaryIO) -> Image:
        if not self.records:
            raise ImageFault(self.name, None, "no S-record in the file", "lines that begin with 'S'")

        def clash(address: int, one: Chunk, other: Chunk) -> Exception:
            stream.seek(0)
            again = _Reader(self.name)
            records = (record for chunk in line_chunks(stream) for record in again.take_lines(chunk))
            return find_clash(((r.line, r.address, r.data) for r in records if r.type in _DATA), address, self.name)

        pieces = merge(self.chunks, clash)
        if not pieces:
            raise ImageFault(self.name, None, "records, but no data", "at least one data record")
        whole = self.end_line is not None or self.counted
        notes = () if whole else ("no end record: the file may be cut short",)
        return Image(self.name, pieces, self.start, "S-record", notes, header=self.header)


def write_s_record(image: Image, record_bytes: int = 16) -> Iterator[str]:
    """The lines of an S-record file, each with its LF: a header with the image's name, data with the shortest
    addresses that reach, a count, and the start address (0 if there is none).

    `record_bytes` is 1 to 250. Raises ValueError if an address is out of reach.
    """
    if not 1 <= record_bytes <= 250:
        raise ValueError(f"{record_bytes} bytes per record: 1 to 250 are possible")
    highest = max(image.end - 1, image.start or 0)
    if highest >= 1 << 32:
        raise ValueError(f"address {show_address(highest)} is out of reach of S-records")
    kind = 1 if highest < 1 << 16 else 2 if highest < 1 << 24 else 3
    yield _line(HEADER, 0, image.name.encode("ascii", "replace")[:40])
    number = 0
    for piece in image.pieces:
        for offset in range(0, len(piece.data), record_bytes):
            yield _line(kind, piece.address + offset, piece.data[offset : offset + record_bytes])
            number += 1
    if number < 1 << 24:
        yield _line(5 if number < 1 << 16 else 6, number, b"")
    yield _line(10 - kind, image.start or 0, b"")


def _line(kind: int, address: int, data: bytes) -> str:
    place = address.to_bytes(_ADDRESS_BYTES[kind], "big")
    body = bytes([len(place) + len(data) + 1]) + place + data
    return f"S{kind}{(body + bytes([~sum(body) & 0xFF])).hex().upper()}\n"
