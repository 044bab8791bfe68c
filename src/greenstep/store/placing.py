"""The images of a board: files at addresses or in partitions, and folders packed as file systems."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from greenstep.core.errors import Finding, UsageFault, usage
from greenstep.core.image import Image, Piece
from greenstep.core.image.esp_tables import MOST_BYTES, USUAL_PLACE, Partition, read_table
from greenstep.core.image.file_system import Kind, pack
from greenstep.core.quantities import show_size
from greenstep.core.safety.plain_files import read_plain
from greenstep.core.suggestions import nearest

from .board import ImageFile
from .image_files import load_image

_LITTER = (".DS_Store", "Thumbs.db", "desktop.ini")
_LARGEST_BYTES = 64 << 20


class TableWanted(UsageFault):
    """A partition is named, and no image of the upload brings a partition table: the chip's own is wanted."""

    @classmethod
    def for_name(cls, name: str) -> TableWanted:
        return cls(
            Finding(
                "partition-table",
                f"where is '{name}'? none of the images brings a partition table",
                (),
                (
                    "greenstep upload and greenstep verify read it from the chip",
                    "or give the address",
                    "or add the table to the images",
                ),
            )
        )


def load_all(
    files: Sequence[ImageFile], base_of: Callable[[str], int], table: Sequence[Partition] = ()
) -> list[Image]:
    """One image for each, in order; `base_of` gives where a memory begins, `table` is the chip's partition table.
    Raises UsageFault, ImageFault, and TableWanted if a name needs a table and there is none."""
    made: dict[int, Image] = {}
    for number, file in enumerate(files):
        if not _needs_table(file):
            made[number] = _load(file, base_of(file.memory), file.at if isinstance(file.at, int) else None)
    rows = next((found for image in made.values() if (found := _table_in(image))), list(table))
    for number, file in enumerate(files):
        if number not in made:
            made[number] = _placed(file, rows)
    return [made[number] for number in range(len(files))]


def _needs_table(file: ImageFile) -> bool:
    return isinstance(file.at, str) or (file.pack is not None and file.size is None)


def _table_in(image: Image) -> list[Partition]:
    return read_table(image.cut(USUAL_PLACE, MOST_BYTES, 0xFF)) if image.covers(USUAL_PLACE, 32) else []


def _placed(file: ImageFile, rows: list[Partition]) -> Image:
    if file.at is None:
        raise usage("folder-place", f"where does {file.file.name} belong?", 'at = "pages", or at and size')
    if not rows:
        raise TableWanted.for_name(str(file.at) if isinstance(file.at, str) else f"0x{file.at:X}")
    row = _row(file, rows)
    if file.pack is None:
        return _load(file, 0, row.offset)
    return _packed(file, file.pack, row.offset, file.size or row.size)


def _row(file: ImageFile, rows: list[Partition]) -> Partition:
    if isinstance(file.at, str):
        found = next((row for row in rows if row.label == file.at), None)
        names = [row.label for row in rows]
        if found is None:
            near = nearest(file.at, names, 1, 0.5) or names
            raise usage("no-such-partition", f"no partition is called '{file.at}'", f"there is {', '.join(near)}")
        return found
    found = next((row for row in rows if row.offset == file.at), None)
    if found is None:
        raise usage("folder-place", f"no partition begins at 0x{file.at:X}", "at = a partition's name, or a size")
    return found


def _load(file: ImageFile, base: int, at: int | None) -> Image:
    if file.pack is None:
        return load_image(file.file, base, at)
    if at is None or file.size is None:
        raise usage("folder-place", f"where does {file.file.name} belong?", 'at = "pages", or at and size')
    return _packed(file, file.pack, at, file.size)


def _packed(file: ImageFile, kind: Kind, at: int, size: int) -> Image:
    files, folders = files_in(file.file)
    name = f"{file.file.name}/"
    data = pack(name, kind, files, folders, size)
    held = sum(map(len, files.values()))
    note = f"{name} packed as {kind}: {len(files)} files, {held:,} bytes in {show_size(size)}"
    return Image(name, (Piece(at, data),), format=f"{kind} of a folder", notes=(note,))


def files_in(folder: Path) -> tuple[dict[str, bytes], tuple[str, ...]]:
    """The files of a folder by their paths in it, and its folders; what systems leave lying about is left out. Raises
    UsageFault."""
    if not folder.is_dir():
        raise usage("no-such-file", f"there is no folder {folder}", "build it first?")
    files: dict[str, bytes] = {}
    folders = []
    try:
        for path in sorted(folder.rglob("*")):
            inside = path.relative_to(folder).as_posix()
            if path.is_dir():
                folders.append(inside)
            elif path.name not in _LITTER:
                files[inside] = read_plain(path, _LARGEST_BYTES)
            if sum(map(len, files.values())) > _LARGEST_BYTES:
                raise usage(
                    "folder-too-large", f"{folder} holds more than {show_size(_LARGEST_BYTES)}", "fewer files"
                )
    except OSError as error:
        raise usage("unreadable-file", f"{error.filename} cannot be read: {error.strerror}") from None
    return files, tuple(folders)
