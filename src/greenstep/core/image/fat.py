"""FAT12 and FAT16 made from files, and files read from FAT12, 16 and 32 (Microsoft, "FAT: General Overview of On-Disk
Format", version 1.03).

Whatever is read may be damaged, or made to harm: no chain of clusters is followed farther than it can be long, no
folder twice, and nothing that the image does not hold is returned.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator, Mapping, Sequence
from pathlib import PurePosixPath
from typing import NamedTuple

from ..frozen import changing
from .file_system import Kept

SECTOR = 4096
"""What the flash erases at once."""
_ENTRY = 32
_FAT12_MOST, _FAT16_MOST = 4085, 65525
"""From so many clusters on it is the next wider kind (section 3.5)."""
_ROOT_ENTRIES, _ROOT_OF_SMALL, _SMALL_SECTORS = 512, 128, 64
_VOLUME, _LABEL = 0x48531980, b"FILES      "
_DATE = 0x0021
"""1 January 1980, the first day that can be written: the same files always give the same bytes."""
_FOLDER, _ARCHIVE, _LABELLED, _LONG = 0x10, 0x20, 0x08, 0x0F
_LAST, _IN_NAME = 0x40, 13
_FORBIDDEN = re.compile(r'["*/:<>?\\|\x00-\x1f\x7f]')
_SHORT = re.compile(r"[A-Z0-9!#$%&'()@^_`{}~-]{1,8}(\.[A-Z0-9!#$%&'()@^_`{}~-]{1,3})?")
_LOWER_BASE, _LOWER_ENDING = 0x08, 0x10
_MOST_FILES, _DEEPEST = 65536, 64


class Refused(ValueError):
    """A name that FAT cannot hold."""


# --- making


@changing
class _Folder:
    """One that is being made: its entries, and where it begins (0: the root)."""

    entries: list[tuple[str, int, bytes]]
    """Name, attributes, and what a file holds."""
    cluster: int = 0


class _Layout(NamedTuple):
    """In sectors; `clusters` of one sector each."""

    bits: int
    fat: int
    root: int
    clusters: int


def make_fat(files: Mapping[str, bytes], folders: Sequence[str], size: int) -> bytes | None:
    """A FAT of `size` bytes with files and folders by their paths; None if they do not fit. Raises Refused."""
    tree = _tree(files, folders)
    root = sum(_slots(tree[""]))
    layout = _layout(size // SECTOR, root + 1)
    if layout is None:
        return None
    made = _Making(layout)
    for path, folder in tree.items():  # the root first; every folder before what is in it
        if path:
            folder.cluster = made.take(-(-(sum(_slots(folder)) + 2) * _ENTRY // SECTOR))
    for path, folder in tree.items():
        made.write(path, folder, tree)
    return made.whole(size)


def _tree(files: Mapping[str, bytes], folders: Sequence[str]) -> dict[str, _Folder]:
    paths = {*folders}
    for path in (*files, *folders):
        paths |= {str(parent) for parent in PurePosixPath(path).parents if str(parent) != "."}
    tree = {"": _Folder([])}
    for path in sorted(paths, key=lambda path: (path.count("/"), path)):
        tree[path] = _Folder([])
        _put(tree, path, _FOLDER, b"")
    for path, data in sorted(files.items()):
        _put(tree, path, _ARCHIVE, data)
    return tree


def _put(tree: dict[str, _Folder], path: str, attributes: int, data: bytes) -> None:
    parent, _, name = path.rpartition("/")
    if _FORBIDDEN.search(name) or name != name.rstrip(" .") or len(name.encode("utf-16-le")) > 2 * 255:
        raise Refused(f"the name '{name[:60]}'")
    if any(name.casefold() == other.casefold() for other, *_ in tree[parent].entries):
        raise Refused(f"'{name[:60]}' twice: upper and lower case are the same to it")
    tree[parent].entries.append((name, attributes, data))


def _slots(folder: _Folder) -> list[int]:
    """How many entries each name takes."""
    return [1 if _SHORT.fullmatch(name) else 1 + _parts_of(name) for name, *_ in folder.entries]


def _parts_of(name: str) -> int:
    """How many entries a long name takes, besides its short one."""
    return -(-len(name.encode("utf-16-le")) // (2 * _IN_NAME))


def _layout(sectors: int, root_entries: int) -> _Layout | None:
    usual = _ROOT_OF_SMALL if sectors < _SMALL_SECTORS else _ROOT_ENTRIES
    root = -(-max(root_entries, usual) * _ENTRY // SECTOR)
    for bits, most in ((12, _FAT12_MOST), (16, _FAT16_MOST)):
        fat = 1
        while True:
            clusters = sectors - 1 - fat - root
            if clusters < 1:
                return None
            needed = -(-(clusters + 2) * bits // (8 * SECTOR))
            if needed <= fat:
                break
            fat = needed
        if clusters < most:
            return _Layout(bits, fat, root, clusters)
    return None


class _Full(Exception):
    """No cluster is left."""


class _Making:
    """The FAT and the clusters, filled one after the other."""

    def __init__(self, layout: _Layout) -> None:
        self._layout = layout
        last = 0xFFF if layout.bits == 12 else 0xFFFF
        self._end = last
        self._following = [last & ~7, last]
        self._data = bytearray()
        self._root = b""
        self.full = False

    def take(self, number: int, data: bytes = b"") -> int:
        """So many clusters in a row, with their data. Returns the first."""
        first = len(self._following)
        if first + number - 2 > self._layout.clusters:
            self.full = True
            return first
        self._following += [*range(first + 1, first + number), self._end]
        self._data += data.ljust(number * SECTOR, b"\0")
        return first

    def write(self, path: str, folder: _Folder, tree: Mapping[str, _Folder]) -> None:
        """A folder's entries, and the files in it."""
        out = bytearray()
        if path:
            above = tree[path.rpartition("/")[0]].cluster
            out += _entry(b".          ", _FOLDER, folder.cluster, 0) + _entry(b"..         ", _FOLDER, above, 0)
        else:
            out += _entry(_LABEL, _LABELLED, 0, 0)
        taken: set[bytes] = set()
        for name, attributes, data in folder.entries:
            if attributes & _FOLDER:
                first = tree[f"{path}/{name}".lstrip("/")].cluster
            else:
                first = self.take(-(-len(data) // SECTOR), data) if data else 0
            short = _short_name(name, taken)
            out += _long_entries(name, short) + _entry(short, attributes, first, len(data))
        if path and not self.full:
            at = (folder.cluster - 2) * SECTOR
            self._data[at : at + len(out)] = out
        elif not path:
            self._root = bytes(out)

    def whole(self, size: int) -> bytes | None:
        """Boot sector, FAT, root and clusters; None if something did not fit."""
        if self.full:
            return None
        layout = self._layout
        fat = _packed(self._following, layout.bits).ljust(layout.fat * SECTOR, b"\0")
        root = self._root.ljust(layout.root * SECTOR, b"\0")
        made = _boot_sector(layout, size // SECTOR) + fat + root + self._data
        return bytes(made.ljust(size, b"\0"))


def _packed(following: Sequence[int], bits: int) -> bytes:
    if bits == 16:
        return struct.pack(f"<{len(following)}H", *following)
    out = bytearray()
    for at in range(0, len(following), 2):
        pair = following[at] | (following[at + 1] if at + 1 < len(following) else 0) << 12
        out += pair.to_bytes(3, "little")
    return bytes(out)


def _boot_sector(layout: _Layout, sectors: int) -> bytearray:
    """Section 3.1. A disk image's figures of geometry, which nobody uses, are the usual ones."""
    made = bytearray(SECTOR)
    struct.pack_into(
        "<3s8sHBHBHHBHHHII", made, 0, b"\xeb\x3c\x90", b"MSDOS5.0", SECTOR, 1, 1, 1, layout.root * SECTOR // _ENTRY,
        sectors if sectors < 0x10000 else 0, 0xF8, layout.fat, 63, 255, 0, sectors if sectors >= 0x10000 else 0,
    )  # fmt: skip
    struct.pack_into("<BBBI11s8s", made, 36, 0x80, 0, 0x29, _VOLUME, _LABEL, f"FAT{layout.bits}   ".encode())
    made[510:512] = b"\x55\xaa"
    return made


def _entry(short: bytes, attributes: int, cluster: int, size: int) -> bytes:
    times = (0, 0, 0, _DATE, _DATE, 0, 0, _DATE)  # case, tenths and time of making; days; first cluster's high half
    return struct.pack("<11sBBBHHHHHHHI", short, attributes, *times[:5], 0, *times[6:], cluster, size)


def _short_name(name: str, taken: set[bytes]) -> bytes:
    """Eight and three characters, like no other in the folder."""
    if _SHORT.fullmatch(name):
        base, _, ending = name.partition(".")
        short = f"{base:<8}{ending:<3}".encode("ascii")
        if short not in taken:
            taken.add(short)
            return short
    stem, _, ending = name.rpartition(".") if "." in name.strip(".") else (name, "", "")
    base = re.sub(r"[^A-Z0-9_]", "", stem.upper()) or "FILE"
    ending = re.sub(r"[^A-Z0-9_]", "", ending.upper())[:3]
    number = 1
    while True:
        tail = f"~{number}"
        short = f"{base[: 8 - len(tail)] + tail:<8}{ending:<3}".encode("ascii")
        if short not in taken:
            taken.add(short)
            return short
        number += 1


def _long_entries(name: str, short: bytes) -> bytes:
    """Section 7; none for a name that is a short one."""
    if _SHORT.fullmatch(name):
        return b""
    text = name.encode("utf-16-le")
    number = _parts_of(name)
    if len(text) % (2 * _IN_NAME):
        text = (text + b"\0\0").ljust(number * 2 * _IN_NAME, b"\xff")
    sum_ = _sum_of(short)
    out = b""
    for order in range(number, 0, -1):
        part = text[(order - 1) * 26 : order * 26]
        mark = order | (_LAST if order == number else 0)
        out += struct.pack("<B10sBBB12sH4s", mark, part[:10], _LONG, 0, sum_, part[10:22], 0, part[22:])
    return out


def _sum_of(short: bytes) -> int:
    sum_ = 0
    for value in short:
        sum_ = ((sum_ & 1) << 7 | sum_ >> 1) + value & 0xFF
    return sum_


# --- reading


def size_said(head: bytes) -> int:
    """How long a FAT is, by its boot sector; 0 if that makes no sense."""
    sectors = int.from_bytes(head[19:21], "little") or int.from_bytes(head[32:36], "little")
    return sectors * int.from_bytes(head[11:13], "little")


def files_of(data: bytes) -> Iterator[Kept]:
    """The files of a FAT. Raises ValueError for a damaged one."""
    volume = _Volume(data)
    folders = [("", volume.root())]
    seen, number = {0}, 0
    for path, entries in folders:  # grows while it is walked
        for name, attributes, cluster, size in _named(entries):
            number += 1
            inside = f"{path}{name}"
            if number > _MOST_FILES or inside.count("/") > _DEEPEST:
                raise ValueError("its folders hold each other")
            if not attributes & _FOLDER:
                yield Kept(inside, volume.file(cluster, size))
            elif cluster in seen:
                raise ValueError("its folders hold each other")
            else:
                seen.add(cluster)
                folders.append((f"{inside}/", volume.chain(cluster)))


class _Volume:
    """Where everything is. Raises ValueError."""

    def __init__(self, data: bytes) -> None:
        (sector, self._per_cluster, reserved, fats, root, few, _, fat, *_, many) = struct.unpack_from(
            "<HBHBHHBHHHII", data, 11
        )
        fat = fat or int.from_bytes(data[36:40], "little")
        sectors = few or many
        if sector not in (512, 1024, 2048, 4096) or not self._per_cluster or not reserved or not fats or not fat:
            raise ValueError("its first sector makes no sense")
        if sectors * sector > len(data):
            raise ValueError("it is cut short")
        self._data = data
        self._root_at = (reserved + fats * fat) * sector
        self._root_end = self._root_at + root * _ENTRY
        self._first = -(-self._root_end // sector) * sector
        self._cluster = self._per_cluster * sector
        self._clusters = (sectors * sector - self._first) // self._cluster
        if self._clusters <= 0:
            raise ValueError("it has no room for files")
        self._bits = 12 if self._clusters < _FAT12_MOST else 16 if self._clusters < _FAT16_MOST else 32
        self._fat = data[reserved * sector : (reserved + fat) * sector]
        if len(self._fat) * 8 < (self._clusters + 2) * self._bits:
            raise ValueError("its table is too short")

    def root(self) -> bytes:
        """The root's entries."""
        if self._bits == 32:
            return self.chain(int.from_bytes(self._data[44:48], "little"))
        return self._data[self._root_at : self._root_end]

    def file(self, cluster: int, size: int) -> bytes:
        if not size:
            return b""
        data = self.chain(cluster, size)
        if len(data) < size:
            raise ValueError("a file is cut short")
        return data[:size]

    def chain(self, cluster: int, size: int | None = None) -> bytes:
        """The clusters of a chain, as far as `size` bytes if that is given."""
        parts: list[bytes] = []
        most = self._clusters if size is None else -(-size // self._cluster)
        while 2 <= cluster < self._clusters + 2:
            if len(parts) == most:
                if size is None:
                    raise ValueError("its chains of clusters do not end")
                break
            at = self._first + (cluster - 2) * self._cluster
            parts.append(self._data[at : at + self._cluster])
            cluster = self._following(cluster)
        return b"".join(parts)

    def _following(self, cluster: int) -> int:
        if self._bits == 12:
            pair = int.from_bytes(self._fat[cluster * 3 // 2 :][:2], "little")
            return pair >> 4 if cluster & 1 else pair & 0xFFF
        size = self._bits // 8
        return int.from_bytes(self._fat[cluster * size : (cluster + 1) * size], "little") & 0x0FFFFFFF


def _named(entries: bytes) -> Iterator[tuple[str, int, int, int]]:
    """Name, attributes, first cluster and size of what a folder holds."""
    long: dict[int, bytes] = {}
    sum_ = -1
    for at in range(0, len(entries) - _ENTRY + 1, _ENTRY):
        entry = entries[at : at + _ENTRY]
        if not entry[0]:
            return
        attributes = entry[11] & 0x3F
        if entry[0] == 0xE5:
            long.clear()
        elif attributes == _LONG:
            if entry[0] & _LAST:
                long.clear()
                sum_ = entry[13]
            if entry[13] == sum_:
                long[entry[0] & 0x1F] = entry[1:11] + entry[14:26] + entry[28:32]
        else:
            name = _long_name(long) if long and sum_ == _sum_of(entry[:11]) else _read_short(entry)
            long.clear()
            if not attributes & _LABELLED and entry[:1] != b".":
                cluster = int.from_bytes(entry[26:28], "little") | int.from_bytes(entry[20:22], "little") << 16
                yield name, attributes, cluster, int.from_bytes(entry[28:32], "little")


def _long_name(parts: Mapping[int, bytes]) -> str:
    text = b"".join(parts[order] for order in sorted(parts))
    units = [text[at : at + 2] for at in range(0, len(text), 2)]
    end = next((at for at, unit in enumerate(units) if unit == b"\0\0"), len(units))
    return b"".join(units[:end]).decode("utf-16-le", "replace").replace("/", "_") or "_"


def _read_short(entry: bytes) -> str:
    first = b"\xe5" if entry[0] == 0x05 else entry[:1]
    base, ending = (first + entry[1:8]).decode("cp437").rstrip(), entry[8:11].decode("cp437").rstrip()
    base = base.lower() if entry[12] & _LOWER_BASE else base
    ending = ending.lower() if entry[12] & _LOWER_ENDING else ending
    return (f"{base}.{ending}" if ending else base).replace("/", "_") or "_"
