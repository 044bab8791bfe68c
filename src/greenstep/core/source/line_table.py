"""The line number program of one unit (DWARF 5, section 6.2.5), as a table that addresses are looked up in.

pyelftools reads its header; the program itself is run here, because only the last row at an address is wanted, and a
unit can have tens of thousands.
"""

from __future__ import annotations

from bisect import bisect_right
from typing import Any

from ..frozen import frozen

_COPY, _ADVANCE_PC, _ADVANCE_LINE, _SET_FILE, _SET_COLUMN = 1, 2, 3, 4, 5
_CONST_ADD_PC, _FIXED_ADVANCE_PC = 8, 9
_END_SEQUENCE, _SET_ADDRESS = 1, 2


@frozen
class LineTable:
    """Rows in order of address: where each begins, and (file, line) from there on; (0, 0) where a sequence of code
    ends."""

    starts: tuple[int, ...]
    rows: tuple[tuple[int, int], ...]

    def at(self, address: int) -> tuple[int, int] | None:
        """(file, line); None between sequences."""
        place = bisect_right(self.starts, address) - 1
        row = self.rows[place] if place >= 0 else (0, 0)
        return None if row == (0, 0) else row


def decode(header: Any, program: bytes, address_bytes: int, big_endian: bool) -> LineTable:
    """Run a program with the header that pyelftools parsed. Raises IndexError for one that ends in the middle."""
    sequences: list[list[tuple[int, tuple[int, int]]]] = []
    order = "big" if big_endian else "little"
    base, span, step = header.opcode_base, header.line_range, header.minimum_instruction_length
    lowest, lengths = header.line_base, header.standard_opcode_lengths
    const_advance = (255 - base) // span * step
    # for each special opcode: how far address and line move
    moves = [((code - base) // span * step, lowest + (code - base) % span) for code in range(base, 256)]
    at, end = 0, len(program)
    address, file, line = 0, 1, 1
    sequence: list[tuple[int, tuple[int, int]]] = []
    append = sequence.append
    while at < end:
        code = program[at]
        at += 1
        if code >= base:
            further, down = moves[code - base]
            address += further
            line += down
            append((address, (file, line)))
        elif code == 0:
            size, at = _unsigned(program, at)
            kind = program[at]
            if kind == _END_SEQUENCE:
                append((address, (0, 0)))
                sequences.append(sequence)
                sequence = []
                append = sequence.append
                address, file, line = 0, 1, 1
            elif kind == _SET_ADDRESS:
                address = int.from_bytes(program[at + 1 : at + 1 + address_bytes], order)  # type: ignore[arg-type]
            at += size
        elif code == _COPY:
            append((address, (file, line)))
        elif code == _ADVANCE_PC:
            value, at = _unsigned(program, at)
            address += value * step
        elif code == _ADVANCE_LINE:
            value, at = _signed(program, at)
            line += value
        elif code == _SET_FILE:
            file, at = _unsigned(program, at)
        elif code == _CONST_ADD_PC:
            address += const_advance
        elif code == _FIXED_ADVANCE_PC:
            address += int.from_bytes(program[at : at + 2], order)  # type: ignore[arg-type]
            at += 2
        elif code == _SET_COLUMN:
            while program[at] & 0x80:
                at += 1
            at += 1
        else:  # with as many arguments as the header says
            for _ in range(lengths[code - 1]):
                _, at = _unsigned(program, at)
    return _table(sequences)


def _table(sequences: list[list[tuple[int, tuple[int, int]]]]) -> LineTable:
    """The sequences one after the other; those that the linker threw away begin at 0."""
    last: dict[int, tuple[int, int]] = {}
    for sequence in sorted((one for one in sequences if one[0][0] or len(sequences) == 1), key=lambda one: one[0][0]):
        for address, row in sequence:
            # the end of one sequence may be the beginning of the next, whichever comes first
            if row != (0, 0) or address not in last:
                last[address] = row
    starts = sorted(last)
    return LineTable(tuple(starts), tuple(last[start] for start in starts))


def _unsigned(data: bytes, at: int) -> tuple[int, int]:
    """A LEB128 number, and where it ends (DWARF 5, section 7.6)."""
    value = data[at]
    at += 1
    if value < 0x80:
        return value, at
    value &= 0x7F
    shift = 7
    while True:
        byte = data[at]
        at += 1
        value |= (byte & 0x7F) << shift
        shift += 7
        if byte < 0x80:
            return value, at


def _signed(data: bytes, at: int) -> tuple[int, int]:
    value, shift = 0, 0
    while True:
        byte = data[at]
        at += 1
        value |= (byte & 0x7F) << shift
        shift += 7
        if byte < 0x80:
            return (value - (1 << shift) if byte & 0x40 else value), at
