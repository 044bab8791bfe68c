"""A folder as a file system of a partition, and back: littlefs by littlefs-python, FAT by code of our own.

The same files always give the same bytes, so that only what changed is written.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator, Mapping
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Literal

from ..frozen import frozen
from ..quantities import count, show_size
from .model import Image, ImageFault, Piece

if TYPE_CHECKING:
    from littlefs import LittleFS

Kind = Literal["littlefs", "fat", "levelled-fat"]
KINDS: tuple[Kind, ...] = ("littlefs", "fat", "levelled-fat")
"""The last is a FAT above ESP32's wear levelling."""
BLOCK = 4096
"""Of littlefs, and the sector of FAT: what the flash erases at once."""
_LEAST = 512
"""Bytes without which nothing says that it is one."""
_NAME_MOST = 64
"""A littlefs that was formatted for longer names is refused by drivers that are built for these."""
_DISK_VERSION = 0x00020000
"""2.0, which every driver since 2019 mounts; a newer one is refused by older drivers."""
_BLANK = b"\xff"
_LARGEST = 256 << 20


def pack(name: str, kind: Kind, files: Mapping[str, bytes], folders: tuple[str, ...], size: int) -> bytes:
    """An image of `size` bytes with the files, by path. `name` is the folder's, for messages. Raises ImageFault for
    what does not fit, with by how much."""
    from .wear_levelling import inside, partitions_in

    if size <= 0 or size % BLOCK:
        raise ImageFault(
            name, None, f"{show_size(size)} is no place for {kind}", f"a multiple of {BLOCK} bytes",
            "the size of the partition",
        )  # fmt: skip
    packing = {"littlefs": _littlefs, "fat": _fat, "levelled-fat": _levelled_fat}[kind]
    made = packing(name, files, folders, size)
    if made is not None:
        seen = made
        if kind == "levelled-fat":
            seen = inside(made, next(partitions_in(made)))
        if {kept.path: kept.data for kept in unpack(name, kind, seen)} != dict(files):
            raise ImageFault(name, None, f"{kind} does not give the files back as they are", "every byte of them", "")
        return made
    needed = size
    while needed < _LARGEST:
        needed *= 2
        if packing(name, files, folders, needed) is not None:
            break
    least, most = needed // 2 // BLOCK, needed // BLOCK
    while most - least > 1:
        half = (least + most) // 2
        fits = packing(name, files, folders, half * BLOCK) is not None
        least, most = (least, half) if fits else (half, most)
    over = most * BLOCK - size
    held = sum(map(len, files.values()))
    raise ImageFault(
        name,
        None,
        f"{count(len(files), 'file')} of {held:,} bytes are {over:,} bytes too much for {show_size(size)} of {kind}",
        f"at most {size:,} bytes, with what {kind} adds",
        "leave files out, or make the partition larger",
        key="folder-too-large",
    )


def kind_of(data: bytes) -> Kind | None:
    """Which file system an image holds, by its first blocks."""
    if data[8:16] == b"littlefs" or data[BLOCK + 8 : BLOCK + 16] == b"littlefs":
        return "littlefs"
    fat = data[510:512] == b"\x55\xaa" and data[0:1] in (b"\xeb", b"\xe9")
    return "fat" if fat and b"FAT" in (data[54:57], data[82:85]) else None


@frozen
class Kept:
    """A file in an image: its path from the root, and its bytes."""

    path: str
    data: bytes


@frozen
class FileSystemFound:
    """A file system in an image: where it begins, and its bytes, in their order if sectors had been moved."""

    address: int
    kind: Kind
    data: bytes
    size: int
    """Of all that it occupies."""


def file_systems_in(image: Image) -> list[FileSystemFound]:
    """Those that begin at a multiple of 4 KiB from the start of a piece. A littlefs of which only the second block
    says so is taken for one at such a start alone: elsewhere that block is likelier the first of another."""
    return [found for piece in image.pieces if len(piece.data) >= _LEAST for found in _in_piece(piece)]


def _in_piece(piece: Piece) -> Iterator[FileSystemFound]:
    from .wear_levelling import inside, partitions_in

    at, moved = 0, {place.address: place for place in partitions_in(piece.data)}
    while at < len(piece.data):
        place = moved.get(at)
        if place is not None:
            seen = inside(piece.data[at : at + place.size], place)
            if kind_of(seen[: 2 * BLOCK]) == "fat":
                yield FileSystemFound(piece.address + at, "levelled-fat", seen, place.size)
            at += place.size
            continue
        head = piece.data[at : at + 2 * BLOCK]
        kind = kind_of(head if not at else head[:BLOCK])
        if kind is None:
            at += BLOCK
            continue
        size = min(_size_said(kind, head), len(piece.data) - at) // BLOCK * BLOCK or BLOCK
        yield FileSystemFound(piece.address + at, kind, piece.data[at : at + size], size)
        at += size


def _size_said(kind: Kind, head: bytes) -> int:
    """How long it is, by its own first block."""
    if kind != "littlefs":
        from .fat import size_said

        return size_said(head)
    # littlefs, SPEC.md: the superblock's version, block size and block count follow its magic and a tag
    first = head if head[8:16] == b"littlefs" else head[BLOCK:]
    return int.from_bytes(first[24:28], "little") * int.from_bytes(first[28:32], "little")


def unpack(name: str, kind: Kind, data: bytes) -> list[Kept]:
    """The files of an image, in order of their paths. Raises ImageFault for a damaged one."""
    said = _size_said(kind, data[: 2 * BLOCK])
    if said > len(data):
        raise ImageFault(
            name, None, f"this {kind} is cut short: {len(data):,} of {said:,} bytes", f"all {said:,} bytes",
            "read or copy all of the partition",
        )  # fmt: skip
    from .fat import files_of

    try:
        found = _no_more_than_it_holds(len(data), _in_littlefs(data) if kind == "littlefs" else files_of(data))
    except _foreign() as error:
        raise ImageFault(
            name, None, f"this {kind} cannot be read: {str(error)[:80]}", f"an undamaged {kind}", "copy it again"
        ) from None
    return sorted(found, key=lambda kept: kept.path)


def _no_more_than_it_holds(most: int, files: Iterable[Kept]) -> list[Kept]:
    """All files. Raises ValueError if several share their blocks, as happens in damaged ones, and in those that were
    made to fill a disk."""
    found = []
    for kept in files:
        most -= len(kept.data)
        if most < 0:
            raise ValueError("its files are longer than all of it: they share their blocks")
        found.append(kept)
    return found


# --- littlefs


def _mounted(data: bytes | None, size: int) -> LittleFS:
    from littlefs import LittleFS
    from littlefs.context import UserContext

    context = UserContext(size)
    context.buffer = bytearray(data if data is not None else _BLANK * size)
    file_system = LittleFS(
        context=context, mount=False, block_size=BLOCK, block_count=size // BLOCK, read_size=128, prog_size=128,
        cache_size=512, lookahead_size=128, name_max=_NAME_MOST if data is None else 0,
        disk_version=_DISK_VERSION if data is None else 0,
    )  # fmt: skip
    if data is None:
        file_system.format()
    file_system.mount()
    return file_system


def _littlefs(name: str, files: Mapping[str, bytes], folders: tuple[str, ...], size: int) -> bytes | None:
    """None if it does not fit."""
    from littlefs import LittleFSError

    for path in (*files, *folders):
        too_long = next((part for part in PurePosixPath(path).parts if len(part.encode()) > _NAME_MOST), None)
        if too_long is not None:
            raise ImageFault(
                name, None, f"'{too_long[:40]}…' has more than {_NAME_MOST} bytes", "shorter names", "rename it"
            )
    try:
        file_system = _mounted(None, size)
        for folder in folders:
            file_system.makedirs(folder, exist_ok=True)
        for path, data in files.items():
            with file_system.open(path, "wb") as stream:
                stream.write(data)
    except LittleFSError as error:
        if error.code == LittleFSError.Error.LFS_ERR_NOSPC or size < 2 * BLOCK:
            return None
        raise ImageFault(name, None, f"littlefs refuses it: {error}", "files that it can hold", "") from None
    return bytes(file_system.context.buffer)


def _in_littlefs(data: bytes) -> Iterator[Kept]:
    file_system = _mounted(data, len(data) // BLOCK * BLOCK)
    for folder, _, names in file_system.walk("/"):
        for one in names:
            path = f"{folder.rstrip('/')}/{one}".lstrip("/")
            with file_system.open(path, "rb") as stream:
                yield Kept(path, bytes(stream.read()))


# --- FAT


def _fat(name: str, files: Mapping[str, bytes], folders: tuple[str, ...], size: int) -> bytes | None:
    """None if it does not fit."""
    from .fat import Refused, make_fat

    try:
        return make_fat(files, folders, size)
    except Refused as error:
        raise ImageFault(name, None, f"FAT cannot hold {error}", "names that it can hold", "rename it") from None


def _levelled_fat(name: str, files: Mapping[str, bytes], folders: tuple[str, ...], size: int) -> bytes | None:
    from .wear_levelling import inner_size, levelled

    room = inner_size(size)
    made = _fat(name, files, folders, room) if room > 0 else None
    return None if made is None else levelled(made, size)


def _foreign() -> tuple[type[Exception], ...]:
    """What the library raises, and what either runs into with damaged data."""
    from littlefs import LittleFSError

    return (
        LittleFSError, OSError, ValueError, KeyError, IndexError, TypeError, AttributeError, OverflowError,
        MemoryError, RecursionError, RuntimeError, StopIteration, struct.error,
    )  # fmt: skip
