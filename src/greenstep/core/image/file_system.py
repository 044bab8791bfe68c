"""A folder as a file system of a partition, and back: littlefs by littlefs-python, FAT by pyfatfs.

The same files always give the same bytes, so that only what changed is written.
"""

from __future__ import annotations

import io
import struct
import warnings
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Any, Literal

from ..frozen import frozen
from ..quantities import count, show_size
from .fat_chains import chains_end
from .faults import ImageFault
from .model import Image

if TYPE_CHECKING:
    from littlefs import LittleFS

Kind = Literal["littlefs", "fat"]
KINDS: tuple[Kind, ...] = ("littlefs", "fat")
BLOCK = 4096
"""Of littlefs, and the sector of FAT: what the flash erases at once."""
_LEAST = 512
"""Bytes without which nothing says that it is one."""
_NAME_MOST = 64
"""A littlefs that was formatted for longer names is refused by drivers that are built for these."""
_DISK_VERSION = 0x00020000
"""2.0, which every driver since 2019 mounts; a newer one is refused by older drivers."""
_BLANK = b"\xff"
_FAT12_MOST = 8400 * BLOCK
"""Up to there pyfatfs makes no FAT16: it would have too few clusters (Microsoft, "FAT: General Overview of On-Disk
Format", section 3.5, with pairs of sectors as clusters)."""
_LARGEST = 256 << 20
_MOST_FILES, _DEEPEST = 65536, 64
_VOLUME = 0x4853_1980


@frozen
class Kept:
    """A file in an image: its path from the root, and its bytes."""

    path: str
    data: bytes


def pack(name: str, kind: Kind, files: Mapping[str, bytes], folders: tuple[str, ...], size: int) -> bytes:
    """An image of `size` bytes with the files, by path. `name` is the folder's, for messages. Raises ImageFault for
    what does not fit, with by how much."""
    if size <= 0 or size % BLOCK:
        raise ImageFault(
            name, None, f"{show_size(size)} is no place for {kind}", f"a multiple of {BLOCK} bytes",
            "the size of the partition",
        )  # fmt: skip
    packing = _littlefs if kind == "littlefs" else _fat
    made = packing(name, files, folders, size)
    if made is not None:
        if {kept.path: kept.data for kept in unpack(name, kind, made)} != dict(files):
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
class Found:
    """A file system in an image: where it begins, and its bytes."""

    address: int
    kind: Kind
    data: bytes


def file_systems_in(image: Image) -> list[Found]:
    """Those that begin at a multiple of 4 KiB from the start of a piece. A littlefs of which only the second block
    says so is taken for one at such a start alone: elsewhere that block is likelier the first of another."""
    found = []
    for piece in image.pieces:
        if len(piece.data) < _LEAST:
            continue
        at = 0
        while at < len(piece.data):
            head = piece.data[at : at + 2 * BLOCK]
            kind = kind_of(head if not at else head[:BLOCK])
            if kind is None:
                at += BLOCK
                continue
            size = min(_size_said(kind, head), len(piece.data) - at) // BLOCK * BLOCK or BLOCK
            found.append(Found(piece.address + at, kind, piece.data[at : at + size]))
            at += size
    return found


def _size_said(kind: Kind, head: bytes) -> int:
    """How long it is, by its own first block."""
    if kind == "fat":
        sectors = int.from_bytes(head[19:21], "little") or int.from_bytes(head[32:36], "little")
        return sectors * int.from_bytes(head[11:13], "little")
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
    try:
        found = _no_more_than_it_holds(len(data), _in_littlefs(data) if kind == "littlefs" else _in_fat(data))
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


@contextmanager
def _fixed_clock() -> Iterator[Any]:
    """pyfatfs, with times that are always the first that FAT can tell. Raises ImageFault if it cannot be loaded."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # that pkg_resources, which it still uses, will go
        try:
            from pyfatfs import FATDirectoryEntry, PyFat, PyFatFS
        except ImportError as error:
            raise ImageFault(
                "fat", None, f"pyfatfs cannot be loaded: {error}", "it to be installed",
                "pip install pyfatfs 'setuptools<81'", "littlefs needs neither",
            ) from None  # fmt: skip
        yield from _with_fixed_clock(FATDirectoryEntry, PyFat, PyFatFS)


def _with_fixed_clock(directory: Any, pyfat: Any, pyfatfs: Any) -> Iterator[Any]:
    real = directory.DosDateTime

    class Fixed(real):  # type: ignore[misc, valid-type]
        @classmethod
        def now(cls, tz: Any = None) -> Any:
            return cls(1980, 1, 1, tzinfo=tz)

    directory.DosDateTime = pyfatfs.DosDateTime = Fixed
    try:
        yield pyfat, pyfatfs
    finally:
        directory.DosDateTime = pyfatfs.DosDateTime = real


def _fat(name: str, files: Mapping[str, bytes], folders: tuple[str, ...], size: int) -> bytes | None:
    """None if it does not fit. It needs a real file to make a file system in."""
    import tempfile
    from pathlib import Path

    with _fixed_clock() as (pyfat, pyfatfs), tempfile.TemporaryDirectory() as kept:
        place = Path(kept) / "fat"
        place.write_bytes(bytes(size))
        try:
            formatted = pyfat.PyFat()
            kind = pyfat.PyFat.FAT_TYPE_FAT16 if size > _FAT12_MOST else pyfat.PyFat.FAT_TYPE_FAT12
            formatted.mkfs(
                str(place), kind, size=size, sector_size=BLOCK, number_of_fats=1, label="FILES", volume_id=_VOLUME
            )
            formatted.close()
            file_system = pyfatfs.PyFatFS(str(place))
            try:
                for folder in folders:
                    file_system.makedirs(folder, recreate=True)
                for path, data in files.items():
                    file_system.writebytes(path, data)
            finally:
                file_system.close()
        except _foreign() as error:
            if "space" in str(error).lower() or "cluster" in str(error).lower() or size < 16 * BLOCK:
                return None
            raise ImageFault(name, None, f"FAT refuses it: {error}", "files that it can hold", "") from None
        made = place.read_bytes()
    if len(made) != size:  # it writes beyond the end
        return None
    return made


def _in_fat(data: bytes) -> Iterator[Kept]:
    if not chains_end(data):
        raise ValueError("its chains of clusters do not end")
    with _fixed_clock() as (_, pyfatfs):
        file_system = pyfatfs.PyFatBytesIOFS(io.BytesIO(data))
        try:
            paths: list[str] = []
            folders = [""]
            for folder in folders:  # grows while it is walked
                for one in file_system.scandir(folder or "/"):
                    (folders if one.is_dir else paths).append(f"{folder}/{one.name}")
                if len(folders) + len(paths) > _MOST_FILES or folder.count("/") > _DEEPEST:
                    raise ValueError("its folders hold each other")
            for path in paths:
                yield Kept(path.lstrip("/"), file_system.readbytes(path))
        finally:
            file_system.close()


def _foreign() -> tuple[type[Exception], ...]:
    """What both libraries raise, and what they run into with damaged data."""
    from littlefs import LittleFSError

    foreign: list[type[Exception]] = [
        LittleFSError, OSError, ValueError, KeyError, IndexError, TypeError, AttributeError, OverflowError,
        MemoryError, RecursionError, RuntimeError, StopIteration, struct.error,
    ]  # fmt: skip
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            from fs.errors import FSError
            from pyfatfs._exceptions import PyFATException
    except ImportError:
        return tuple(foreign)
    return (*foreign, FSError, PyFATException)
