"""TI-TXT, read and written (Texas Instruments, "MSP430 Assembly Language Tools User's Guide", TI-TXT hex format).

`@` and a hexadecimal address begin a section, lines of hexadecimal bytes follow, `q` ends the file.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import BinaryIO

from ..quantities import show_address
from .model import Chunk, Image, ImageFault, add_chunk, merge
from .text_lines import BLANKS, CUT, find_clash, line_chunks, quoted

_SECTION = re.compile(rb"@[ \t]*([0-9A-Fa-f]+)")
_BYTE = re.compile(rb"[0-9A-Fa-f]{2}")
_PLAIN = re.compile(rb"(?:[0-9A-Fa-f]{2}[ \t]+)*[0-9A-Fa-f]{2}")


def read_ti_txt(stream: BinaryIO, name: str) -> Image:
    """An image from a seekable binary stream. Raises ImageFault for anything that is no address, byte or end, for
    data before an address or after the end, for overlapping data that disagree (both lines named), and for a file
    without data."""
    reader = _Reader(name)
    for chunk in line_chunks(stream):
        for _ in reader.take(chunk):
            pass
    return reader.finish(stream)


class _Reader:
    def __init__(self, name: str) -> None:
        self.name = name
        self.line = 1
        self.at: int | None = None
        self.chunks: list[Chunk] = []
        self.end_line: int | None = None

    def take(self, chunk: bytes) -> Iterator[tuple[int, int, bytes]]:
        """The chunk's lines of data, each (line, address, bytes), as soon as it is read."""
        for line in chunk.splitlines():
            text = line.strip(BLANKS)
            number, self.line = self.line, self.line + 1
            if not text:
                continue
            if self.end_line is not None:
                raise ImageFault(
                    self.name,
                    number,
                    f"{quoted(text)} after the end 'q' of line {self.end_line}",
                    "nothing after the end",
                    "if two files were glued together, give both files instead",
                )
            if text in (b"q", b"Q"):
                self.end_line = number
            elif text.startswith(b"@"):
                self.at = self._section(text, number)
            else:
                yield self._data(text, number)

    def _section(self, text: bytes, number: int) -> int:
        match = _SECTION.fullmatch(text)
        if match is None:
            raise ImageFault(self.name, number, f"{quoted(text)}", "'@' and an address in hexadecimal")
        address = int(match[1], 16)
        if address >= 1 << 32:
            raise ImageFault(self.name, number, f"{quoted(text)}: an address beyond FFFFFFFF", "32-bit addresses")
        return address

    def _data(self, text: bytes, number: int) -> tuple[int, int, bytes]:
        if self.at is None:
            raise ImageFault(self.name, number, f"{quoted(text)} before any address", "'@' and an address first")
        if not _PLAIN.fullmatch(text):
            for column, word in enumerate(text.split(), 1):
                if not _BYTE.fullmatch(word):
                    raise ImageFault(
                        self.name,
                        number,
                        f"{quoted(word)} as byte {column} of the line",
                        "two hex digits per byte, spaces between",
                        CUT,
                    )
        data = bytes.fromhex(text.decode("ascii"))
        if self.at + len(data) > 1 << 32:
            raise ImageFault(self.name, number, "data beyond address FFFFFFFF", "32-bit addresses")
        at = self.at
        add_chunk(self.chunks, at, data, number, self.name)
        self.at = at + len(data)
        return number, at, data

    def finish(self, stream: BinaryIO) -> Image:
        def clash(address: int, one: Chunk, other: Chunk) -> Exception:
            stream.seek(0)
            again = _Reader(self.name)
            return find_clash((row for chunk in line_chunks(stream) for row in again.take(chunk)), address, self.name)

        pieces = merge(self.chunks, clash)
        if not pieces:
            raise ImageFault(self.name, None, "no data in the file", "'@' and an address, and bytes after it")
        notes = () if self.end_line else ("no end 'q': the file may be cut short",)
        return Image(self.name, pieces, None, "TI-TXT", notes)


def write_ti_txt(image: Image, line_bytes: int = 16) -> Iterator[str]:
    """The lines of a TI-TXT file, each with its LF. The format has no start address.

    `line_bytes` is 1 to 255. Raises ValueError if an address is out of reach.
    """
    if not 1 <= line_bytes <= 255:
        raise ValueError(f"{line_bytes} bytes per line: 1 to 255 are possible")
    if image.end > 1 << 32:
        raise ValueError(f"address {show_address(image.end - 1)} is out of reach of TI-TXT")
    for piece in image.pieces:
        yield f"@{piece.address:04X}\n"
        for offset in range(0, len(piece.data), line_bytes):
            yield piece.data[offset : offset + line_bytes].hex(" ").upper() + "\n"
    yield "q\n"
