"""Intel HEX, read and written (Intel, "Hexadecimal Object File Format Specification", revision A, 1988).

Lines are read in chunks. A large chunk in which every line is a plain record is checked and unpacked with arrays; any
other is read line by line, which copes with what real files contain, and gives every fault its line.
"""

from __future__ import annotations

import binascii
from collections.abc import Iterator
from itertools import islice, pairwise
from typing import TYPE_CHECKING, BinaryIO, Literal, NamedTuple

from ..quantities import show_address
from .model import Chunk, Image, ImageFault, add_chunk, merge
from .text_lines import (
    ARRAYS_PAY_BYTES,
    BLANKS,
    CUT,
    bad_digits,
    behind_the_end,
    clash_fault,
    line_chunks,
    quoted,
    wrong_checksum,
    wrong_length,
)

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

DATA, END, SEGMENT, START_SEGMENT, LINEAR, START_LINEAR = range(6)
_LENGTHS = {END: 0, SEGMENT: 2, START_SEGMENT: 4, LINEAR: 2, START_LINEAR: 4}


class Record(NamedTuple):
    """One line: its type (0-5), 16-bit address and data, and its line number."""

    type: int
    address: int
    data: bytes
    line: int


def read_intel_hex(stream: BinaryIO, name: str) -> Image:
    """An image from a seekable binary stream. `name` is used in messages.

    Raises ImageFault for every line that is not a valid record, for overlapping data that disagree (both lines
    named), and for a file without data.
    """
    reader = _Reader(name)
    for chunk in line_chunks(stream):
        if not reader.take_plain(chunk):
            reader.take_lines(chunk)
    return reader.finish(stream)


def _digits_only(
    chunk: bytes,
    text: npt.NDArray[np.uint8],
    colons: npt.NDArray[np.int64],
    line_ends: npt.NDArray[np.int64],
    digits: npt.NDArray[np.int64],
) -> bytes:
    """The hex digits of all lines in a row.

    Deleting characters one by one costs more than all the rest of the parse, so lines of equal length are treated as
    the rows of a table.
    """
    import numpy as np

    edges = _runs_of_one((line_ends - colons) * 1024 + digits)
    if len(edges) > len(digits) // 4 + 3:
        return chunk.translate(None, b":\r\n")
    rows = []
    for begin, end in pairwise(edges):
        width = int(line_ends[begin] - colons[begin]) + 1
        table = text[colons[begin] : line_ends[end - 1] + 1].reshape(end - begin, width)
        # copied first: not every numpy version accepts the bytes of a narrower table quickly
        rows.append(np.ascontiguousarray(table[:, 1 : 1 + int(digits[begin])]).tobytes())
    return b"".join(rows)


def _runs_of_one(values: npt.NDArray[np.int64]) -> list[int]:
    """The bounds of runs of equal values, including both ends."""
    import numpy as np

    return [0, *(np.flatnonzero(values[1:] != values[:-1]) + 1).tolist(), len(values)]


def _all_sum_to_zero(
    raw: npt.NDArray[np.uint8], starts: npt.NDArray[np.int64], lengths: npt.NDArray[np.int64]
) -> bool:
    """Whether the bytes of every record do, modulo 256."""
    import numpy as np

    edges = _runs_of_one(lengths)
    if len(edges) > len(lengths) // 4 + 3:
        return not np.add.reduceat(raw, starts, dtype=np.uint8).any()
    for begin, end in pairwise(edges):
        low, size = int(starts[begin]), int(lengths[begin])
        table = raw[low : low + size * (end - begin)].reshape(end - begin, size)
        if np.ascontiguousarray(table.T).sum(axis=0, dtype=np.uint8).any():  # along the records, not across each
            return False
    return True


class _Reader:
    def __init__(self, name: str) -> None:
        self.name = name
        self.line = 1  # the number of the next line
        self.base = 0
        self.segmented = False  # a segment wraps at 64 KiB; linear addresses wrap at 4 GiB
        self.chunks: list[Chunk] = []
        self.start: int | None = None
        self.records = 0
        self.end_line: int | None = None

    # --- whole chunks of plain records, as arrays

    def take_plain(self, chunk: bytes) -> bool:
        """Read a chunk if every line in it is a plain and valid record; else change nothing and return False."""
        if len(chunk) < ARRAYS_PAY_BYTES or self.end_line is not None or not chunk.endswith(b"\n"):
            return False
        import numpy as np

        text = np.frombuffer(chunk, np.uint8)
        line_ends = np.flatnonzero(text == 0x0A)
        colons = np.flatnonzero(text == 0x3A)
        if len(colons) != len(line_ends) or colons[0] != 0 or (colons[1:] != line_ends[:-1] + 1).any():
            return False
        stops = line_ends - (text[line_ends - 1] == 0x0D)
        digits = stops - colons - 1
        if (digits < 10).any() or (digits > 520).any() or (digits & 1).any():
            return False
        try:
            raw = np.frombuffer(binascii.unhexlify(_digits_only(chunk, text, colons, line_ends, digits)), np.uint8)
        except binascii.Error:
            return False
        lengths = digits >> 1
        starts = np.cumsum(lengths) - lengths
        if starts[-1] + lengths[-1] != len(raw):
            return False
        counts = raw[starts].astype(np.int64)
        if (counts + 5 != lengths).any() or not _all_sum_to_zero(raw, starts, lengths):
            return False
        types = raw[starts + 3]
        control = np.flatnonzero(types != DATA)
        if any(not self._is_plain(int(types[i]), int(counts[i])) for i in control):
            return False
        if (types == END).any() and types[-1] != END:
            return False
        addresses = (raw[starts + 1].astype(np.int64) << 8) | raw[starts + 2]
        if (addresses + counts > 0x10000).any():
            return False
        at, first_line = 0, self.line
        for index in [*control.tolist(), len(types)]:
            if index > at:
                self._take_run(raw, starts[at:index], counts[at:index], addresses[at:index], first_line + at)
            if index < len(types):
                low = int(starts[index])
                data = raw[low + 4 : low + 4 + int(counts[index])].tobytes()
                self._take(Record(int(types[index]), int(addresses[index]), data, first_line + index))
            at = index + 1
        self.records += len(types)
        self.line += len(types)
        return True

    @staticmethod
    def _is_plain(record_type: int, size: int) -> bool:
        return _LENGTHS.get(record_type) == size

    def _take_run(
        self,
        raw: npt.NDArray[np.uint8],
        starts: npt.NDArray[np.int64],
        counts: npt.NDArray[np.int64],
        addresses: npt.NDArray[np.int64],
        first_line: int,
    ) -> None:
        """Consecutive data records: one chunk for each unbroken stretch of addresses."""
        import numpy as np

        low, high = int(starts[0]), int(starts[-1] + counts[-1] + 5)
        size = int(counts[0])
        if (counts == size).all():
            payload = np.ascontiguousarray(raw[low:high].reshape(len(counts), size + 5)[:, 4:-1]).tobytes()
        else:
            keep = np.ones(high - low, bool)
            for offset in range(4):
                keep[starts - low + offset] = False
            keep[starts - low + counts + 4] = False
            payload = raw[low:high][keep].tobytes()
        breaks = np.flatnonzero(addresses[1:] != addresses[:-1] + counts[:-1]) + 1
        begins = np.concatenate(([0], breaks))
        edges = [*(np.cumsum(counts) - counts)[begins].tolist(), len(payload)]
        places, lines = (addresses[begins] + self.base).tolist(), (begins + first_line).tolist()
        self._add(places[0], payload[: edges[1]], lines[0])
        if len(places) > 2:  # none of those between continues the one before it, nor is continued
            between = islice(zip(places, edges, edges[1:], lines, strict=False), 1, len(places) - 1)
            name = self.name
            self.chunks += [Chunk(at, payload[low:high], line, name) for at, low, high, line in between]
        if len(places) > 1:
            self._add(places[-1], payload[edges[-2] :], lines[-1])

    # --- line by line

    def take_lines(self, chunk: bytes) -> None:
        lines = chunk.splitlines()
        at = 0
        while at < len(lines):
            taken = self._take_going_on(lines, at)
            if not taken:
                self._take_line(lines[at])
            at += taken or 1

    def _take_going_on(self, lines: list[bytes], begin: int) -> int:
        """Read lines from `begin` for as long as each is a valid data record that continues where the one before it
        ended, which nearly all do. Returns how many; the line that stopped it is left alone."""
        if not self.chunks or self.end_line is not None:
            return 0
        taken, data, low = 0, bytearray(), self.chunks[-1].end - self.base
        for line in islice(lines, begin, None):
            if line[:1] != b":":
                break
            try:
                raw = binascii.unhexlify(line[1:])
            except binascii.Error:
                break
            size = len(raw) - 5
            if size < 0 or raw[0] != size or raw[3] != DATA or sum(raw) & 0xFF:
                break
            if low != raw[1] << 8 | raw[2] or low + size > 0x10000:
                break
            data += raw[4:-1]
            low += size
            taken += 1
        self.chunks[-1].data += data
        self.records += taken
        self.line += taken
        return taken

    def _records(self, chunk: bytes) -> Iterator[Record]:
        """The records of a chunk, each as soon as it is read."""
        for line in chunk.splitlines():
            record = self._take_line(line)
            if record is not None:
                yield record

    def _take_line(self, line: bytes) -> Record | None:
        record = self._parse(line, self.line)
        self.line += 1
        if record is not None:
            self.records += 1
            self._take(record)
        return record

    def _parse(self, line: bytes, number: int) -> Record | None:
        text = line.strip(BLANKS)
        if not text:
            return None
        if self.records == 0:  # text before the first colon is no part of the file
            colon = text.find(b":")
            if colon < 0:
                return None
            text = text[colon:]
        if self.end_line is not None:
            if not text.startswith(b":"):
                return None
            raise behind_the_end(self.name, number, self.end_line)
        if not text.startswith(b":"):
            raise ImageFault(self.name, number, f"{quoted(text)} at the start of the line", "a colon ':'")
        return self._parse_record(text[1:], number)

    def _parse_record(self, digits: bytes, number: int) -> Record:
        try:
            raw = binascii.unhexlify(digits)
        except binascii.Error:
            raise bad_digits(self.name, number, digits, 2) from None
        if len(raw) < 5:
            raise ImageFault(
                self.name, number, f"only {len(digits)} hex digits", "at least 10 (an empty record)", CUT
            )
        held = len(raw) - 5
        if raw[0] != held:
            raise wrong_length(self.name, number, held, raw[0], "data bytes")
        if sum(raw) & 0xFF:
            raise wrong_checksum(self.name, number, raw[-1], -sum(raw[:-1]) & 0xFF)
        record_type = raw[3]
        if record_type > START_LINEAR:
            raise ImageFault(self.name, number, f"record type {record_type:02X}", "a type from 00 to 05")
        if record_type != DATA and held != _LENGTHS[record_type]:
            raise ImageFault(
                self.name,
                number,
                f"{held} data bytes in a record of type {record_type:02X}",
                f"{_LENGTHS[record_type]}",
            )
        return Record(record_type, raw[1] << 8 | raw[2], raw[4:-1], number)

    # --- records of any type, in the order of the file

    def _take(self, record: Record) -> None:
        if record.type == DATA:
            self._take_data(record)
        elif record.type == END:
            self.end_line = record.line
        elif record.type in (SEGMENT, LINEAR):
            self.segmented = record.type == SEGMENT
            self.base = int.from_bytes(record.data, "big") << (4 if self.segmented else 16)
        elif record.type == START_SEGMENT:
            self.start = (int.from_bytes(record.data[:2], "big") << 4) + int.from_bytes(record.data[2:], "big")
        else:
            self.start = int.from_bytes(record.data, "big")

    def _take_data(self, record: Record) -> None:
        beyond = record.address + len(record.data) - 0x10000
        if beyond > 0 and self.segmented:
            kept = len(record.data) - beyond
            self._add(self.base + record.address, record.data[:kept], record.line)
            self._add(self.base, record.data[kept:], record.line)
            return
        address = self.base + record.address
        if address + len(record.data) > 1 << 32:
            raise ImageFault(self.name, record.line, "data beyond address FFFFFFFF", "32-bit addresses")
        self._add(address, record.data, record.line)

    def _add(self, address: int, data: bytes, line: int) -> None:
        add_chunk(self.chunks, address, data, line, self.name)

    def finish(self, stream: BinaryIO) -> Image:
        if not self.records:
            raise ImageFault(self.name, None, "no Intel HEX record in the file", "lines that begin with ':'")

        def clash(address: int, one: Chunk, other: Chunk) -> Exception:
            return self._clash(stream, address)

        chunks, self.chunks = self.chunks, []
        pieces = merge(chunks, clash)
        if not pieces:
            raise ImageFault(self.name, None, "records, but no data", "at least one data record")
        if not self.end_line:
            raise ImageFault(
                self.name,
                None,
                f"no end record: the file is cut off after line {self.line - 1}",
                "a last line :00000001FF",
                "copy or download it again, completely",
                "if it is complete, add that line",
            )
        return Image(self.name, pieces, self.start, "Intel HEX")

    def _clash(self, stream: BinaryIO, address: int) -> ImageFault:
        """Read the file again, line by line, to name both lines that give `address` a different byte."""
        stream.seek(0)
        again = _Reader(self.name)
        seen: tuple[Record, int] | None = None
        for chunk in line_chunks(stream):
            for record in again._records(chunk):
                value = again._pop_byte(address)
                if value is None:
                    continue
                if seen is not None and seen[1] != value:
                    return self._disagreement(address, (record, value), seen)
                seen = seen or (record, value)
        raise AssertionError("the file changed while it was read")

    def _disagreement(self, address: int, later: tuple[Record, int], earlier: tuple[Record, int]) -> ImageFault:
        """If each record continues half its length after the last one, addresses count words of two bytes."""
        one, other = earlier[0], later[0]
        if other.line == one.line + 1 and 2 * (other.address - one.address) == len(one.data):
            return ImageFault(
                self.name,
                other.line,
                f"{len(one.data)} bytes at {one.address:04X}, and the next at {other.address:04X}: "
                "its addresses count words",
                "addresses that count bytes",
                "have the compiler's tools make Intel HEX with byte addresses",
                key="word-addresses",
            )
        return clash_fault(self.name, address, (other.line, later[1]), (one.line, earlier[1]))

    def _pop_byte(self, address: int) -> int | None:
        """The byte that the record just read gives to `address`; forgets that record's data."""
        chunks, self.chunks = self.chunks, []
        for chunk in chunks:
            if chunk.address <= address < chunk.end:
                return chunk.data[address - chunk.address]
        return None


def write_intel_hex(
    image: Image, record_bytes: int = 16, addressing: Literal["linear", "segment"] = "linear"
) -> Iterator[str]:
    """The lines of an Intel HEX file, each with its LF.

    `record_bytes` is 1 to 255. Linear addressing (types 04 and 05) reaches 4 GiB, segment addressing (02 and 03) 1
    MiB. Raises ValueError if an address is out of reach.
    """
    if not 1 <= record_bytes <= 255:
        raise ValueError(f"{record_bytes} bytes per record: 1 to 255 are possible")
    reach = 1 << 32 if addressing == "linear" else 0x100000
    if image.end > reach:
        raise ValueError(f"address {show_address(image.end - 1)} is out of reach of {addressing} addressing")
    high = 0
    for piece in image.pieces:
        at = piece.address
        while at < piece.end:
            if at >> 16 != high:
                high = at >> 16
                if addressing == "linear":
                    yield _line(LINEAR, 0, high.to_bytes(2, "big"))
                else:
                    yield _line(SEGMENT, 0, (high << 12).to_bytes(2, "big"))
            stop = min(piece.end, at + record_bytes, (high + 1) << 16)
            yield _line(DATA, at & 0xFFFF, piece.data[at - piece.address : stop - piece.address])
            at = stop
    if image.start is not None:
        if addressing == "linear":
            yield _line(START_LINEAR, 0, image.start.to_bytes(4, "big"))
        else:
            segment = (image.start >> 4) & 0xF000
            offset = image.start - (segment << 4)
            yield _line(START_SEGMENT, 0, segment.to_bytes(2, "big") + offset.to_bytes(2, "big"))
    yield _line(END, 0, b"")


def _line(record_type: int, address: int, data: bytes) -> str:
    body = bytes([len(data), address >> 8, address & 0xFF, record_type]) + data
    return f":{(body + bytes([-sum(body) & 0xFF])).hex().upper()}\n"
