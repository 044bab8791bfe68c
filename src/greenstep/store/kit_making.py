"""Making a kit: everything that its boards name goes into it, or it is refused."""

from __future__ import annotations

import hashlib
import io
import re
import zipfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from greenstep.core.errors import UsageFault, usage
from greenstep.core.quantities import parse_number, show_size
from greenstep.core.safety.plain_files import read_plain

from .board import ImageFile
from .board_keys import KEYS, board_from_table
from .board_tables import table_of
from .image_files import check_place
from .kit import FORMAT, LARGEST_BYTES, MANIFEST, Kit, Notes, read_kit, too_long
from .placing import TableWanted, load_all
from .reach import Reach
from .whole_files import write_whole

_STAMP = (1980, 1, 1, 0, 0, 0)  # the same kit has the same bytes, whenever it is made


def make_kit(
    path: Path,
    name: str,
    made: str,
    tables: Mapping[str, Mapping[str, Any]],
    folder: Path,
    notes: Notes,
    replace: bool,
) -> Kit:
    """Write a kit of boards as they stand in greenstep.toml in `folder`; ports stay behind. Returns what it holds.

    Raises UsageFault for a file that is missing or there already, and for notes about boards that are not in it."""
    check_place(path, replace)
    members: dict[str, bytes] = {}
    packed = {board: _packed(board, table, folder, members) for board, table in tables.items()}
    for what, about in (("answer", notes.answers), ("flash_size", notes.flash_sizes)):
        for board in about:
            if board not in tables:
                raise usage("kit-board", f"--{what.replace('_', '-')} {board}: no such board in this kit")
    if notes.question and set(notes.answers) != set(tables):
        missing = ", ".join(board for board in tables if board not in notes.answers)
        raise usage(
            "kit-answer", f"the question has no answer that means {missing}", "--answer 'BOARD=TEXT' for each"
        )
    if trouble := too_long(name, notes):
        raise usage("kit-text", trouble, "shorten it")
    manifest: dict[str, Any] = {"format": FORMAT, "name": name, "made": made}
    manifest |= {key: text for key in ("opening", "closing", "question") if (text := getattr(notes, key))}
    if notes.picture is not None:
        manifest["picture"] = _add(members, "pictures", notes.picture)
    if notes.loader is not None:
        manifest["loader"] = _add(members, "loaders", notes.loader)
    if notes.answers:
        manifest["answer"] = dict(notes.answers)
    if notes.flash_sizes:
        manifest["flash_size"] = dict(notes.flash_sizes)
    manifest["file"] = {
        member: {"bytes": len(data), "sha256": hashlib.sha256(data).hexdigest()} for member, data in members.items()
    }
    manifest["board"] = packed
    import tomlkit

    packed_file = io.BytesIO()
    with zipfile.ZipFile(packed_file, "w", zipfile.ZIP_DEFLATED) as file:
        file.writestr(zipfile.ZipInfo(MANIFEST, _STAMP), tomlkit.dumps(manifest), zipfile.ZIP_DEFLATED)
        for member, data in members.items():
            file.writestr(zipfile.ZipInfo(member, _STAMP), data, zipfile.ZIP_DEFLATED)
    try:
        write_whole(path, [packed_file.getvalue()])
    except OSError as error:
        raise usage("file", f"{path} cannot be written: {error.strerror}", "--save FILE") from None
    return read_kit(path)


def _packed(board: str, table: Mapping[str, Any], folder: Path, members: dict[str, bytes]) -> dict[str, Any]:
    """The board's table with its files as members, and without the port of this machine."""
    where = f"board.{board}"
    table = {name: value for name, value in table.items() if name != "port"}
    for key in KEYS:
        if key.name not in table:
            continue
        kinds = {one.kind for one in key.reached(key.of(table[key.name], where, folder))}
        if kinds & {Reach.PROGRAM, Reach.PIN}:
            raise usage(
                "kit-program",
                f"{board} runs programs to move its pins, or pins of this computer, and a kit may not",
                "another hookup for the kit",
            )
    said = board_from_table(table, where, folder)
    if not said.images:
        raise usage("no-image", f"{board} has no image to put into a kit", "images = [ … ] in greenstep.toml")
    folders = _packed_folders(board, said.images, members)
    said = replace(
        said,
        images=tuple(folders.get(number, image) for number, image in enumerate(said.images)),
    )

    def into_kit(path: Path) -> Path:
        return path if path.as_posix() in members else Path(_add(members, "images", path))

    values = {name: _with_files(value, into_kit) for name, value in said.__dict__.items()}
    return table_of(replace(said, **values), Path())


def _with_files(value: Any, place: Callable[[Path], Path]) -> Any:
    """A value with every file in it in another place."""
    match value:
        case ImageFile():
            return replace(value, file=place(value.file))
        case Path():
            return place(value)
        case Mapping():
            return {name: _with_files(one, place) for name, one in value.items()}
        case list() | tuple():
            return type(value)(_with_files(one, place) for one in value)
    return value


def _packed_folders(board: str, files: Sequence[ImageFile], members: dict[str, bytes]) -> dict[int, ImageFile]:
    """The folders among the images as raw files with their addresses, by number. Raises UsageFault."""
    numbers = [number for number, file in enumerate(files) if file.pack]
    if not numbers:
        return {}
    try:
        images = load_all(files, lambda memory: 0)
    except TableWanted:
        raise usage(
            "kit-folder",
            f"{board}: a kit packs its folders now, and none of its images brings a partition table",
            "give at and size as numbers, or add the table to the images",
        ) from None
    made = {}
    for number in numbers:
        piece, kind = images[number].pieces[0], files[number].pack
        name = f"images/{number}-{re.sub(r'[^A-Za-z0-9._-]', '-', files[number].file.name)}.{kind}"
        members[name] = piece.data
        made[number] = ImageFile(Path(name), piece.address, files[number].memory)
    return made


def _add(members: dict[str, bytes], folder: str, path: Path) -> str:
    """Add a file as a member; equal bytes are stored once. Returns its name."""
    try:
        data = read_plain(path, LARGEST_BYTES)
    except OSError as error:
        raise usage("no-such-file", f"{path} cannot be read: {error.strerror}", "build it first?") from None
    clean = re.sub(r"[^A-Za-z0-9._+ -]", "-", path.name).lstrip("-. ") or "file"
    number, name = 1, f"{folder}/{clean}"
    while name in members and members[name] != data:
        number += 1
        name = f"{folder}/{number}-{clean}"
    members[name] = data
    if sum(len(content) for content in members.values()) > LARGEST_BYTES:
        raise usage("kit-size", f"more than {show_size(LARGEST_BYTES)} in one kit", "fewer boards")
    return name


def pairs_of(texts: Sequence[str], option: str) -> dict[str, str]:
    """`BOARD=TEXT` of an option that may be given several times. Raises UsageFault."""
    found = {}
    for text in texts:
        board, sign, value = text.partition("=")
        if not sign or not board.strip() or not value.strip():
            raise usage("kit-option", f"{option} {text}", f"write {option} 'BOARD=…'")
        found[board.strip()] = value.strip()
    return found


def sizes_of(texts: Sequence[str], option: str) -> dict[str, int]:
    """`BOARD=4M`, in bytes. Raises UsageFault."""
    found = {}
    for board, value in pairs_of(texts, option).items():
        try:
            found[board] = parse_number(value)
        except ValueError as error:
            raise _no_size(option, board, error) from None
    return found


def _no_size(option: str, board: str, error: ValueError) -> UsageFault:
    return usage("kit-option", f"{option} {board}: {error}", f"write {option} {board}=4M")
