"""ESP: boot headers and partition tables (Espressif, "Firmware Image Format", "Partition Tables")."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ..chips.part import Part
from ..image import Image, Piece
from ..image.esp_tables import (
    MAGIC,
    SIZES,
    SIZES_8266,
    BootHeader,
    HeaderError,
    name_of,
    read_header,
    read_table,
    rewritten,
    size_bytes,
)
from ..quantities import show_address
from .family import Family, Origin, Verdict

_SECTOR = 0x1000


def origins_in(piece: Piece) -> Iterator[Origin]:
    """Headers and tables begin pieces, or 4 KiB sectors inside a merged image; the latter only with correct sums."""
    end = summed = 0
    whole = memoryview(piece.data)  # a merged image has thousands of sectors, none of which should be copied
    first = -piece.address % _SECTOR
    places = sorted({0, *range(first, len(piece.data), _SECTOR)})
    for at in places:
        if at < end or piece.data[at] not in (MAGIC, 0xAA):
            continue
        if summed > 4 * len(piece.data):  # headers after headers, each with the rest of the file as its own
            return
        header, cost = _header(whole[at:]) if piece.data[at] == MAGIC else (None, 0)
        summed += cost
        if header is not None and (header.checksum_right or at == 0):
            yield Origin("esp", piece.address + at, header.length, header.entry, header=header)
            end = at + header.length
            continue
        rows = read_table(piece.data[at : at + 0xC00])
        if rows:
            yield Origin("esp partitions", piece.address + at, 32 * len(rows), partitions=tuple(rows))


def _header(data: memoryview) -> tuple[BootHeader | None, int]:
    """The kind of header for which the sum comes out right, else the kind that can be read; and how many bytes were
    summed for that."""
    readable = []
    for extended in (True, False):
        try:
            header = read_header(data, extended)
        except HeaderError:
            continue
        readable.append(header)
        if header.checksum_right and header.segments:
            break
    summed = sum(header.length for header in readable)
    with_segments = [header for header in readable if header.segments]
    best = [header for header in with_segments if header.checksum_right] or with_segments
    return (best[0] if best else None), summed


def flash_bytes_said(image: Image) -> int | None:
    """How much flash the first boot header in the image claims for the chip; None if there is none."""
    for piece in image.pieces:
        for origin in origins_in(piece):
            if origin.header is not None:
                sizes = SIZES_8266 if origin.header.chip_id is None else SIZES
                name = name_of(origin.header.size, sizes)
                return size_bytes(name) if name in sizes else None
    return None


def renew_headers(image: Image, origins: Sequence[Origin]) -> tuple[Image, tuple[str, ...]]:
    """Recompute the sums of boot headers; `origins` were found before the image was changed. Returns notes."""
    from ..image.edit import with_bytes

    notes = []
    for origin in origins:
        if origin.header is None or not image.covers(origin.address, origin.header.length):
            continue
        extended = origin.header.chip_id is not None
        data = image.cut(origin.address, origin.header.length, 0xFF)
        place = show_address(origin.address)
        try:
            renewed = rewritten(data, extended, None, None, None)
        except HeaderError as error:
            notes.append(f"the boot header at {place} is no longer valid: {error}")
            continue
        if renewed == data:
            notes.append(f"the sums of the boot header at {place} were right")
            continue
        hashed = " and SHA-256" if read_header(renewed, extended).hashed else ""
        notes.append(f"boot header at {place}: checksum{hashed} recomputed")
        image = with_bytes(image, origin.address, renewed)
    return image, tuple(notes)


def _judge(image: Image, part: Part) -> Verdict:
    """Boot headers are judged by the dialect, which knows where the ROM looks for them."""
    return Verdict()


ESP = Family(
    "esp", ("xtensa", "riscv"), "an ESP boot header", 1, False,
    lambda piece, image: next(origins_in(piece), None), _judge,
    no_room="its first bootloader is in ROM, and the partition table says where programs lie", partitioned=True,
)  # fmt: skip
