"""The model of an image: sorted, unbroken pieces of bytes at addresses, none touching another; and what is wrong with
an image file: file, line, what was found and what was expected."""

from __future__ import annotations

import zlib
from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from itertools import pairwise

from ..errors import Finding, RefusedFault
from ..frozen import changing, frozen
from ..quantities import show_address
from ..spans import Span


class ImageFault(RefusedFault):
    """An image file that cannot be read. `line` counts from 1; None if the fault has no line."""

    def __init__(
        self, file: str, line: int | None, found: str, expected: str, *attempts: str, key: str = "image-format"
    ) -> None:
        place = file if line is None else f"{file}, line {line}"
        super().__init__(
            Finding(
                key,
                f"{place}: {found}",
                evidence=(f"expected {expected}",) if expected else (),
                attempts=attempts or ("build or copy the file again",),
            )
        )
        self.file = file
        self.line = line
        self.found = found
        self.expected = expected


Bytes = bytes | bytearray
_STRETCH = 1 << 20


@frozen
class Piece:
    """One unbroken run of bytes from `address` on."""

    address: int
    data: bytes

    @property
    def end(self) -> int:
        """The address after the last byte."""
        return self.address + len(self.data)

    @property
    def span(self) -> Span:
        return Span(self.address, self.end)

    def part(self, span: Span) -> Piece:
        """The bytes within a span, which overlaps the piece."""
        shared = self.span.shared(span)
        return Piece(shared.start, self.data[shared.start - self.address : shared.end - self.address])


@frozen
class Section:
    """A stretch that the file has a name for."""

    name: str
    address: int
    size: int

    @property
    def end(self) -> int:
        return self.address + self.size


@frozen
class Image:
    """Bytes at addresses.

    `pieces` are sorted by address and never touch or overlap. `start` is the entry address in the file, if any.
    `format` is what the content was recognised as; `notes` are what a careful person should know about the file
    although it could be read. `header` is the text at the start of an S-record file; `sections` and `machine` (avr,
    arm, …) are further content of an ELF file.
    """

    name: str
    pieces: tuple[Piece, ...]
    start: int | None = None
    format: str = "raw"
    notes: tuple[str, ...] = ()
    header: str = ""
    sections: tuple[Section, ...] = ()
    machine: str = ""

    @cached_property
    def size_bytes(self) -> int:
        """How many bytes the image holds, gaps not counted."""
        return sum(len(piece.data) for piece in self.pieces)

    @property
    def lowest(self) -> int:
        return self.pieces[0].address

    @property
    def end(self) -> int:
        """The address after the highest byte."""
        return self.pieces[-1].end

    def covers(self, address: int, size: int) -> bool:
        """Whether every one of `size` bytes from `address` is in the image."""
        piece = self._piece_at(address)
        return piece is not None and address + size <= piece.end

    def touches(self, address: int, size: int) -> bool:
        """Whether any of `size` bytes from `address` is in the image."""
        return any(address < piece.end for piece in self._pieces_from(address, address + size))

    def cut(self, address: int, size: int, fill: int) -> bytes:
        """`size` bytes from `address`; bytes that the image does not hold are `fill` (0-255)."""
        piece = self._piece_at(address)
        if piece is not None and address + size <= piece.end:
            return piece.data[address - piece.address : address - piece.address + size]
        block = bytearray([fill]) * size
        for piece in self._pieces_from(address, address + size):
            low, high = max(piece.address, address), min(piece.end, address + size)
            if low < high:
                block[low - address : high - address] = piece.data[low - piece.address : high - piece.address]
        return bytes(block)

    def crc32(self, fill: int = 0xFF) -> int:
        """CRC-32 (IEEE 802.3) from the lowest to the highest byte, gaps counted as `fill`."""
        crc = 0
        for data in self.filled(fill):
            crc = zlib.crc32(data, crc)
        return crc

    def filled(self, fill: int) -> Iterator[Bytes]:
        """Everything from the lowest to the highest byte, gaps as `fill`, in stretches of about a megabyte: small
        pieces are put together, large ones stay as they are."""
        stretch, at, blank = bytearray(), self.lowest, bytes([fill])
        for piece in self.pieces:
            data, gap = piece.data, piece.address - at
            at = piece.address + len(data)
            if gap + len(data) < _STRETCH:
                stretch += blank * gap
                stretch += data
                if len(stretch) >= _STRETCH:
                    yield stretch
                    stretch = bytearray()
                continue
            yield stretch
            stretch = bytearray()
            while gap > 0:
                yield blank * min(gap, _STRETCH)
                gap -= _STRETCH
            yield data
        yield stretch

    def _pieces_from(self, address: int, end: int) -> Iterator[Piece]:
        """Those that begin before `end`, from the last one on that begins at or before `address`."""
        first = bisect_right(self.pieces, address, key=lambda piece: piece.address) - 1
        for index in range(max(first, 0), len(self.pieces)):
            if self.pieces[index].address >= end:
                return
            yield self.pieces[index]

    def _piece_at(self, address: int) -> Piece | None:
        index = bisect_right(self.pieces, address, key=lambda piece: piece.address) - 1
        if index >= 0 and address < self.pieces[index].end:
            return self.pieces[index]
        return None


def joined(pieces: Iterable[Piece]) -> tuple[Piece, ...]:
    """In order of address, with touching pieces merged. None of them overlap."""
    runs: list[list[Piece]] = []
    for piece in sorted(pieces, key=lambda piece: piece.address):
        if runs and runs[-1][-1].end == piece.address:
            runs[-1].append(piece)
        else:
            runs.append([piece])
    return tuple(Piece(run[0].address, b"".join(piece.data for piece in run)) for run in runs)


@changing
class Chunk:
    """Bytes as a reader found them, before they are sorted and merged. `line` is where they began."""

    address: int
    data: Bytes
    line: int = 0
    source: str = ""

    @property
    def end(self) -> int:
        return self.address + len(self.data)


def add_chunk(chunks: list[Chunk], address: int, data: Bytes, line: int, source: str) -> None:
    """Lengthen the last chunk if the data continue it, else begin another; its data is a bytearray."""
    last = chunks[-1] if chunks else None
    if last is not None and last.address + len(last.data) == address:
        assert isinstance(last.data, bytearray)
        last.data += data
    elif data:
        chunks.append(Chunk(address, bytearray(data), line, source))


Clash = Callable[[int, Chunk, Chunk], Exception]
"""Makes the error for an address at which two chunks disagree."""


def merge(chunks: Sequence[Chunk], clash: Clash) -> tuple[Piece, ...]:
    """Sorted pieces from chunks in any order; overlaps that agree are merged.

    Raises the error that `clash` makes of the first address at which two chunks disagree.
    """
    ordered = [chunk for chunk in chunks if chunk.data]
    if all(later.address > chunk.address + len(chunk.data) for chunk, later in pairwise(ordered)):
        return tuple([Piece(chunk.address, bytes(chunk.data)) for chunk in ordered])
    pieces: list[Piece] = []
    ordered.sort(key=lambda chunk: chunk.address)
    index = 0
    while index < len(ordered):
        first = ordered[index]
        index += 1
        data: Bytes = first.data
        end = first.address + len(data)
        if index == len(ordered) or ordered[index].address > end:
            pieces.append(Piece(first.address, bytes(data)))
            continue
        owners = [first]
        while index < len(ordered) and ordered[index].address <= end:
            chunk = ordered[index]
            index += 1
            if len(owners) == 1:
                data = bytearray(data)
            overlap = min(end, chunk.end) - chunk.address
            if overlap > 0:
                at = chunk.address - first.address
                if data[at : at + overlap] != chunk.data[:overlap]:
                    raise _first_clash(owners, chunk, clash)
            if chunk.end > end:
                assert isinstance(data, bytearray)
                data += chunk.data[end - chunk.address :]
                end = chunk.end
            owners.append(chunk)
        pieces.append(Piece(first.address, bytes(data)))
    return tuple(pieces)


def _first_clash(owners: Iterable[Chunk], chunk: Chunk, clash: Clash) -> Exception:
    for owner in owners:
        low, high = max(owner.address, chunk.address), min(owner.end, chunk.end)
        for address in range(low, high):
            if owner.data[address - owner.address] != chunk.data[address - chunk.address]:
                return clash(address, owner, chunk)
    raise AssertionError("two chunks were said to disagree and do not")


def name_of_all(images: Sequence[Image]) -> str:
    """What several images are called together: "a + b", or "a and 2 more"."""
    names = [image.name for image in images]
    return " + ".join(names) if len(names) < 3 else f"{names[0]} and {len(names) - 1} more"


def join(images: Sequence[Image]) -> Image:
    """Several images as one. Overlaps that agree are merged; those that disagree are an ImageFault."""
    if len(images) == 1:
        return images[0]

    def clash(address: int, one: Chunk, other: Chunk) -> Exception:
        return ImageFault(
            other.source,
            None,
            f"byte {other.data[address - other.address]:02X} at {show_address(address)}, "
            f"where {one.source} has {one.data[address - one.address]:02X}",
            "images that agree where they overlap",
            "leave one of the two out, or give it another address",
            key="image-overlap",
        )

    chunks = [Chunk(p.address, p.data, source=image.name) for image in images for p in image.pieces]
    starts = [image.start for image in images if image.start is not None]
    return Image(
        name_of_all(images),
        merge(chunks, clash),
        start=starts[0] if starts else None,
        format=" + ".join(dict.fromkeys(image.format for image in images)),
        notes=tuple(note for image in images for note in image.notes),
        sections=tuple(section for image in images for section in image.sections),
        machine=next((image.machine for image in images if image.machine), ""),
    )
