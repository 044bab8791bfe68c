"""What the text formats have in common: lines in chunks, and faults that name a line."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import BinaryIO

from ..quantities import show_address
from .model import ImageFault

BLANKS = b" \t\r\n\x0b\x0c\x1a\x00"
"""A DOS end-of-file mark and padding NULs are ignored."""
CUT = "the file may be cut short: copy or build it again"
_CHUNK_BYTES = 1 << 19
ARRAYS_PAY_BYTES = 1 << 17
"""Shorter chunks are read line by line in less time than it takes to import numpy."""


def line_chunks(stream: BinaryIO) -> Iterator[bytes]:
    """The file in pieces that end at the end of a line."""
    rest = b""
    while block := stream.read(_CHUNK_BYTES):
        block = rest + block
        cut = block.rfind(b"\n") + 1
        if cut == 0:  # no LF in sight: a file of CR alone, or one enormous line
            cut = block.rfind(b"\r", 0, len(block) - 1) + 1
        rest = block[cut:]
        if cut:
            yield block[:cut]
    if rest:
        yield rest


def quoted(text: bytes) -> str:
    """The beginning of a line, fit to be shown."""
    shown = text[:12].decode("ascii", "backslashreplace")
    return f"'{shown}…'" if len(text) > 12 else f"'{shown}'"


def bad_digits(name: str, number: int, digits: bytes, first_column: int) -> ImageFault:
    """Why a line's digits, which begin in `first_column`, are not bytes."""
    for column, byte in enumerate(digits, first_column):
        if byte not in b"0123456789abcdefABCDEF":
            return ImageFault(name, number, f"{quoted(bytes([byte]))} in column {column}", "a hex digit")
    return ImageFault(name, number, f"{len(digits)} hex digits, an odd number", "two digits per byte", CUT)


def wrong_length(name: str, number: int, held: int, said: int, noun: str) -> ImageFault:
    """A line with another number of bytes than its count says."""
    more = "is cut short or lost characters" if held < said else "has too many characters"
    return ImageFault(
        name, number, f"{held} {noun}: the line {more}", f"{said}, as the record's count {said:02X} says", CUT
    )


def wrong_checksum(name: str, number: int, found: int, wanted: int) -> ImageFault:
    """A line with a wrong checksum."""
    return ImageFault(
        name,
        number,
        f"checksum {found:02X}",
        f"{wanted:02X} from the line's bytes",
        "the file is damaged: build or copy it again",
    )


def behind_the_end(name: str, number: int, end_line: int) -> ImageFault:
    """A record after the end of the file."""
    return ImageFault(
        name,
        number,
        f"a record after the end record of line {end_line}",
        "nothing after the end record",
        "if two files were glued together, give both files instead",
    )


def find_clash(records: Iterable[tuple[int, int, bytes]], address: int, name: str) -> ImageFault:
    """The fault that names both lines which give `address` a different byte; `records` are (line, address, data) in
    the order of the file."""
    seen: tuple[int, int] | None = None
    for line, at, data in records:
        if not at <= address < at + len(data):
            continue
        value = data[address - at]
        if seen is not None and seen[1] != value:
            return clash_fault(name, address, (line, value), seen)
        seen = seen or (line, value)
    raise AssertionError("the file changed while it was read")


def clash_fault(name: str, address: int, later: tuple[int, int], earlier: tuple[int, int]) -> ImageFault:
    """Two lines, each (line, value), that disagree on the byte at `address`."""
    return ImageFault(
        name,
        later[0],
        f"byte {later[1]:02X} at {show_address(address)}, where line {earlier[0]} has {earlier[1]:02X}",
        "records that agree where they overlap",
        "the file was joined from two builds: build it again",
        key="image-overlap",
    )
