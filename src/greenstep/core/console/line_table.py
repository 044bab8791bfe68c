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
_WITHOUT_ARGUMENTS = (6, 7, 10, 11)  # negate statement, basic block, prologue end, epilogue begin
_END_SEQUENCE, _SET_ADDRESS = 1, 2


@frozen
class LineTable:
    """Rows in order of address: where each begins, and its file and line in one number; `_NOWHERE` where a sequence
    of code ends."""

    starts: list[int]
    rows: list[int]

    def at(self, address: int) -> tuple[int, int] | None:
        """(file, line); None between sequences."""
        place = bisect_right(self.starts, address) - 1
        row = self.rows[place] if place >= 0 else _NOWHERE
        return None if row == _NOWHERE else (row >> _LINE_BITS, row & (1 << _LINE_BITS) - 1)


_LINE_BITS, _NOWHERE = 32, -1


def decode(header: Any, program: bytes, address_bytes: int, big_endian: bool) -> LineTable:
    """Run a program with the header that pyelftools parsed. Raises IndexError for one that ends in the middle."""
    sequences: list[tuple[list[int], list[int]]] = []
    base, span, step = header.opcode_base, header.line_range, header.minimum_instruction_length
    lengths = header.standard_opcode_lengths
    const_advance = (255 - base) // span * step
    # for each special opcode: how far address and line move
    further = [max(0, code - base) // span * step for code in range(256)]
    down = [header.line_base + (code - base) % span for code in range(256)]
    at, end = 0, len(program)
    address, line, file = 0, 1, 1 << _LINE_BITS
    starts: list[int] = []
    rows: list[int] = []
    while at < end:
        code = program[at]
        at += 1
        if code >= base:
            line += down[code]
            if code_moves := further[code]:
                address += code_moves
            elif starts and starts[-1] == address:
                rows[-1] = file + line  # of several rows at an address, the last one holds
                continue
            starts.append(address)
            rows.append(file + line)
        elif code == _SET_COLUMN:
            while program[at] & 0x80:
                at += 1
            at += 1
        elif code == 0:
            size, at = _unsigned(program, at)
            kind = program[at]
            if kind == _END_SEQUENCE:
                starts.append(address)
                rows.append(_NOWHERE)
                sequences.append((starts, rows))
                starts, rows = [], []
                address, line, file = 0, 1, 1 << _LINE_BITS
            elif kind == _SET_ADDRESS:
                address = _number(program[at + 1 : at + 1 + address_bytes], big_endian)
            at += size
        elif code == _COPY:
            starts.append(address)
            rows.append(file + line)
        elif code == _ADVANCE_PC:
            value, at = _unsigned(program, at)
            address += value * step
        elif code == _ADVANCE_LINE:
            value, at = _signed(program, at)
            line += value
        elif code == _SET_FILE:
            value, at = _unsigned(program, at)
            file = value << _LINE_BITS
        elif code == _CONST_ADD_PC:
            address += const_advance
        elif code == _FIXED_ADVANCE_PC:
            address += _number(program[at : at + 2], big_endian)
            at += 2
        elif code in _WITHOUT_ARGUMENTS:
            continue
        else:  # with as many arguments as the header says
            for _ in range(lengths[code - 1]):
                _, at = _unsigned(program, at)
    return _table(sequences)


def _table(sequences: list[tuple[list[int], list[int]]]) -> LineTable:
    """The sequences one after the other; those that the linker threw away begin at 0."""
    kept = sorted((one for one in sequences if one[0][0] or len(sequences) == 1), key=lambda one: one[0][0])
    starts: list[int] = []
    rows: list[int] = []
    for one, its_rows in kept:
        if starts and starts[-1] >= one[0]:  # where one ends the next begins
            del starts[-1], rows[-1]
        starts += one
        rows += its_rows
    return LineTable(starts, rows)


def _number(data: bytes, big_endian: bool) -> int:
    return int.from_bytes(data, "big" if big_endian else "little")


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
    value, end = _unsigned(data, at)
    return (value - (1 << 7 * (end - at)) if data[end - 1] & 0x40 else value), end
