"""Kits: images and boards in one file to hand over (docs/kit.md has the format).

A kit comes from somebody else, so nothing in it is trusted: every member is named in the manifest with its size and
SHA-256, lies in one of two folders, and is read no further than its stated size.
"""

from __future__ import annotations

import errno
import hashlib
import io
import re
import struct
import tomllib
import zipfile
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import field
from pathlib import Path
from typing import Any

from greenstep.core.errors import RefusedFault, UsageFault, usage
from greenstep.core.frozen import frozen
from greenstep.core.hookup.outside import reaches_outside
from greenstep.core.quantities import parse_number, show_size

from .board import BoardSettings
from .board_keys import board_from_table, file_of_setting
from .image_saving import check_place
from .placing import TableWanted, load_all
from .whole_files import write_whole

MANIFEST = "kit.toml"
FORMAT = 1
MOST_MEMBERS = 200
LARGEST_BYTES = 256 << 20
_LARGEST_MANIFEST = 1 << 20
_MEMBER = re.compile(r"(images|pictures|loaders)/[A-Za-z0-9][A-Za-z0-9._+ -]*")
_KEYS = (
    "format",
    "name",
    "made",
    "opening",
    "closing",
    "question",
    "picture",
    "loader",
    "file",
    "board",
    "answer",
    "flash_size",
)
_FILES = ("picture", "loader")
_STAMP = (1980, 1, 1, 0, 0, 0)  # the same kit has the same bytes, whenever it is made
_ENDING = ".kit"
_DAMAGE = (
    *(zipfile.BadZipFile, zlib.error, struct.error, EOFError, NotImplementedError, RuntimeError),
    UnicodeDecodeError,
)
"""What the standard library raises for an archive that was tampered with."""


@frozen
class Notes:
    """What the recipient is told and asked. `answers` and `flash_sizes` (bytes) are by board; `picture` and
    `loader`, a bootloader for boards that have none yet, are files."""

    opening: str = ""
    closing: str = ""
    question: str = ""
    picture: Path | None = None
    loader: Path | None = None
    answers: Mapping[str, str] = field(default_factory=dict)
    flash_sizes: Mapping[str, int] = field(default_factory=dict)


@frozen
class Kit:
    """A kit that was read completely and checked. `members` are its files by name; `tables` its boards as in
    greenstep.toml, whose images are members."""

    name: str
    made: str
    notes: Notes
    tables: Mapping[str, Mapping[str, Any]]
    members: Mapping[str, bytes]

    def unpack(self, folder: Path) -> dict[str, BoardSettings]:
        """The files into a folder, and the boards that use them. Raises UsageFault."""
        for name, data in self.members.items():
            place = folder / name
            place.parent.mkdir(exist_ok=True)
            place.write_bytes(data)
        return {
            name: board_from_table(table, f"kit.toml: board.{name}", folder) for name, table in self.tables.items()
        }


def is_kit(path: Path) -> bool:
    """By its content if that can be seen, else by its ending: a damaged kit is still treated as one."""
    if not path.is_file():
        return False
    try:
        with zipfile.ZipFile(path) as file:
            return MANIFEST in file.namelist()
    except (*_DAMAGE, OSError):
        return path.suffix.lower() == _ENDING


# --- making


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
    """The board's table with its images as members, and without the port of this machine."""
    if reaches_outside(table.get("hookup")):
        raise usage(
            "kit-program",
            f"{board} runs programs to move its pins, or pins of this computer, and a kit may not",
            "another hookup for the kit",
        )
    packed = {key: value for key, value in table.items() if key not in ("port", "images", "elf")}
    images = []
    for number, image in enumerate(table.get("images", ())):
        entry = {"file": image} if isinstance(image, str) else dict(image)
        if "folder" in entry:
            entry = _packed_folder(board, table, folder, number, members)
        else:
            entry["file"] = _add(members, "images", folder / entry["file"])
        images.append(entry)
    if isinstance(table.get("set"), dict):
        packed["set"] = {
            name: {"file": _add(members, "images", folder / file)} if (file := file_of_setting(one)) else one
            for name, one in table["set"].items()
        }
    if not images:
        raise usage("no-image", f"{board} has no image to put into a kit", "images = [ … ] in greenstep.toml")
    return {**packed, "images": images}


def _packed_folder(
    board: str, table: Mapping[str, Any], folder: Path, number: int, members: dict[str, bytes]
) -> dict[str, Any]:
    """A folder of the board as a raw file with its address. Raises UsageFault."""
    files = board_from_table({"images": table["images"]}, f"board.{board}", folder).images or ()
    try:
        image = load_all(files, lambda memory: 0)[number]
    except TableWanted:
        raise usage(
            "kit-folder",
            f"{board}: a kit packs its folders now, and none of its images brings a partition table",
            "give at and size as numbers, or add the table to the images",
        ) from None
    piece = image.pieces[0]
    name = f"images/{number}-{re.sub(r'[^A-Za-z0-9._-]', '-', files[number].file.name)}.{files[number].pack}"
    members[name] = piece.data
    return {"file": name, "at": piece.address}


def _add(members: dict[str, bytes], folder: str, path: Path) -> str:
    """Add a file as a member; equal bytes are stored once. Returns its name."""
    try:
        data = path.read_bytes()
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


# --- reading


def read_kit(path: Path) -> Kit:
    """Read a kit completely. Raises UsageFault if the file is missing, RefusedFault if anything in it is wrong."""
    try:
        with zipfile.ZipFile(path) as file:
            return _read(path.name, file)
    except _DAMAGE as error:
        raise _refused(path.name, "is damaged", str(error) or type(error).__name__) from None
    except OSError as error:
        if error.errno == errno.EINVAL:  # an offset in it points before its beginning
            raise _refused(path.name, "is damaged", "its directory points outside of it") from None
        raise usage("no-such-file", f"{path} cannot be read: {error.strerror or error}") from None


def _read(name: str, file: zipfile.ZipFile) -> Kit:
    infos = {info.filename: info for info in file.infolist()}
    if len(infos) != len(file.infolist()):
        raise _refused(name, "holds a member twice", "")
    if MANIFEST not in infos:
        raise _refused(name, "is not a kit", f"no {MANIFEST} in it")
    manifest = _manifest(name, _bytes(name, file, infos[MANIFEST], _LARGEST_MANIFEST))
    listed = _table(name, manifest, "file")
    if len(listed) > MOST_MEMBERS:
        raise _refused(name, f"holds more than {MOST_MEMBERS} files", "")
    sizes = {member: _size(name, member, entry) for member, entry in listed.items()}
    if sum(sizes.values()) > LARGEST_BYTES:
        raise _refused(name, f"would unpack to more than {show_size(LARGEST_BYTES)}", "")
    for member in infos:
        if member != MANIFEST and member not in listed:
            raise _refused(name, "holds a file that its manifest does not name", member[:80])
    members = {}
    for member, entry in listed.items():
        if not _MEMBER.fullmatch(member) or ".." in member:
            raise _refused(name, "names a file outside of its folders", member[:80])
        if member not in infos:
            raise _refused(name, "lacks a file that its manifest names", member)
        data = _bytes(name, file, infos[member], sizes[member])
        if len(data) != sizes[member] or hashlib.sha256(data).hexdigest() != entry.get("sha256"):
            raise _refused(name, "is damaged", f"{member} is not what the manifest says")
        members[member] = data
    return _checked(name, manifest, members)


def _bytes(name: str, file: zipfile.ZipFile, info: zipfile.ZipInfo, most: int) -> bytes:
    """A member, read no further than it may be long."""
    if info.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
        raise _refused(name, "is damaged", f"{info.filename[:80]} is packed in a way that no kit is")
    with file.open(info) as stream:
        data = stream.read(most + 1)
    if len(data) > most:
        raise _refused(name, "unpacks to more than it says", f"{info.filename[:80]}: more than {most:,} bytes")
    return data


def _manifest(name: str, data: bytes) -> dict[str, Any]:
    try:
        manifest = tomllib.loads(data.decode("utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise _refused(name, f"has a {MANIFEST} that cannot be read", str(error)[:120]) from None
    if manifest.get("format") != FORMAT:
        raise _refused(name, f"is of format {manifest.get('format')}", f"this version reads {FORMAT}")
    for key in manifest:
        if key not in _KEYS:
            raise _refused(name, f"has a {MANIFEST} with an unknown '{key}'", "")
    return manifest


def _table(name: str, manifest: Mapping[str, Any], key: str) -> dict[str, dict[str, Any]]:
    table = manifest.get(key, {})
    if not isinstance(table, dict) or not all(isinstance(entry, dict) for entry in table.values()):
        raise _refused(name, f"has a {MANIFEST} whose '{key}' is not a table of tables", "")
    return table


def _size(name: str, member: str, entry: Mapping[str, Any]) -> int:
    size = entry.get("bytes")
    if isinstance(size, bool) or not isinstance(size, int) or size < 0:
        raise _refused(name, f"does not say how long {member[:80]} is", "")
    return size


def _checked(name: str, manifest: Mapping[str, Any], members: Mapping[str, bytes]) -> Kit:
    tables = _table(name, manifest, "board")
    if not tables:
        raise _refused(name, "holds no board", "")
    for board, table in tables.items():
        images = table.get("images")
        entries = images if isinstance(images, list) else []
        files = [
            entry if isinstance(entry, str) else entry.get("file")
            for entry in entries
            if isinstance(entry, str | dict)
        ]
        own = table.get("set")
        named = [file for file in map(file_of_setting, own.values() if isinstance(own, dict) else ()) if file]
        if not files or any(file not in members for file in (*files, *named)):
            raise _refused(name, f"does not hold the images of {board}", "")
        if "port" in table:
            raise _refused(name, f"names a port for {board}", "ports are this machine's own")
        if reaches_outside(table.get("hookup")):
            raise _refused(
                name,
                f"would run programs to move the pins of {board}, or use pins of this computer",
                "only your own project file may",
            )
    texts = {key: manifest.get(key, "") for key in ("name", "made", "opening", "closing", "question", *_FILES)}
    answers, sizes = manifest.get("answer", {}), manifest.get("flash_size", {})
    right = all(isinstance(text, str) for text in texts.values())
    right = right and isinstance(answers, dict) and all(isinstance(text, str) for text in answers.values())
    right = right and isinstance(sizes, dict) and all(isinstance(size, int) for size in sizes.values())
    if not right or set(answers) - set(tables) or set(sizes) - set(tables):
        raise _refused(name, f"has a {MANIFEST} with a value of the wrong kind", "")
    for key in _FILES:
        if texts[key] and texts[key] not in members:
            raise _refused(name, f"lacks its {key}", texts[key][:80])
    picture, loader = (Path(texts[key]) if texts[key] else None for key in _FILES)
    notes = Notes(texts["opening"], texts["closing"], texts["question"], picture, loader, answers, sizes)
    return Kit(texts["name"] or name, texts["made"], notes, tables, members)


def _refused(name: str, what: str, seen: str) -> RefusedFault:
    attempts = ("have it sent again, or made again: greenstep kit make",)
    return RefusedFault.of("kit", f"{name} {what}", (seen,) if seen else (), attempts)


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
