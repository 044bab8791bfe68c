"""Kits: images and boards in one file to hand over (docs/kit.md has the format).

A kit comes from somebody else, so nothing in it is trusted: every member is named in the manifest with its size and
SHA-256, lies in one of two folders, and is read no further than its stated size.
"""

from __future__ import annotations

import errno
import hashlib
import re
import struct
import zipfile
import zlib
from collections.abc import Mapping
from dataclasses import field, replace
from pathlib import Path
from typing import Any

from greenstep.core.errors import RefusedFault, UsageFault, usage
from greenstep.core.frozen import frozen
from greenstep.core.plan.write_options import FOR_GOOD
from greenstep.core.quantities import show_size
from greenstep.core.safety.harmless_text import harmless, is_plain
from greenstep.core.safety.plain_files import open_plain

from .board import BoardSettings
from .board_keys import KEYS, board_from_table
from .project import TomlTrouble, toml_table
from .reach import Reach

HANDED_OVER = "handed-over.kit"
"""The kit inside a program that was made of it."""

MANIFEST = "kit.toml"
FORMAT = 1
MOST_MEMBERS = 200
LARGEST_BYTES = 256 << 20
_LARGEST_MANIFEST = 1 << 18
_MEMBER = re.compile(r"(images|pictures|loaders)/[A-Za-z0-9][A-Za-z0-9._+ -]{0,99}")
_LONGEST_TEXT, _LONGEST_LINE = 2000, 200
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
    greenstep.toml, whose files are members; `secrets` the names of the secrets that each board would be sent."""

    name: str
    made: str
    notes: Notes
    tables: Mapping[str, Mapping[str, Any]]
    members: Mapping[str, bytes]
    secrets: Mapping[str, tuple[str, ...]]

    def unpack(self, folder: Path) -> dict[str, BoardSettings]:
        """The files into a folder, and the boards that use them. What cannot be undone on a chip, a kit cannot
        decide: the recipient has to say it too."""
        for name, data in self.members.items():
            place = folder / name
            place.parent.mkdir(exist_ok=True)
            place.write_bytes(data)
        boards = {name: board_from_table(table, _where(name), folder) for name, table in self.tables.items()}
        return {
            name: replace(said, even_if=tuple(why for why in said.even_if or () if why not in FOR_GOOD) or None)
            for name, said in boards.items()
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


# --- reading


def read_kit(path: Path) -> Kit:
    """Read a kit completely. Raises UsageFault if the file is missing, RefusedFault if anything in it is wrong."""
    try:
        with open_plain(path) as stream, zipfile.ZipFile(stream) as file:
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
        manifest = toml_table(data.decode("utf-8"))
    except (TomlTrouble, UnicodeDecodeError) as error:
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
    secrets = {}
    for board, table in tables.items():
        if not is_plain(board) or len(board) > _LONGEST_LINE:
            raise _refused(name, "has a board whose name is none", harmless(board)[:80])
        secrets[board] = _secrets_of(name, board, table, members)
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
    if trouble := too_long(texts["name"], notes):
        raise _refused(name, "has a text that is too long", trouble)
    return Kit(texts["name"] or name, texts["made"], notes, tables, members, secrets)


def _secrets_of(name: str, board: str, table: Mapping[str, Any], members: Mapping[str, bytes]) -> tuple[str, ...]:
    """The secrets that a board's table names. Raises RefusedFault for anything it reaches that is not the kit's."""
    secrets = []
    try:
        said = board_from_table(table, _where(board), Path())
        values = [(key, key.of(table[key.name], _where(board), Path())) for key in KEYS if key.name in table]
    except UsageFault as fault:
        raise _refused(name, f"has a {MANIFEST} that cannot be used", fault.finding.cause) from None
    if not said.images:
        raise _refused(name, f"does not hold the images of {board}", "")
    for key, value in values:
        for reached in key.reached(value):
            match reached.kind:
                case Reach.SECRET:
                    secrets.append(reached.name)
                case Reach.FILE if reached.name in members:
                    pass
                case Reach.FILE:
                    raise _refused(
                        name, f"names a file that it does not hold, as {key.name} of {board}", reached.name
                    )
                case Reach.PORT:
                    raise _refused(name, f"names a port for {board}", "ports are this machine's own")
                case _:
                    what = f"would {_USES[reached.kind]}, by {key.name} of {board}"
                    raise _refused(name, what, "only your own project file may")
    return tuple(dict.fromkeys(secrets))


_USES = {
    Reach.PROGRAM: "run a program",
    Reach.PIN: "move a pin of this computer",
    Reach.FOLDER: "read a folder of this computer",
}


def _where(board: str) -> str:
    return f"{MANIFEST}: board.{board}"


def too_long(name: str, notes: Notes) -> str:
    """Which text is longer than a person reads; empty if none is."""
    lines = {"name": name, "question": notes.question, **{f"answer {b}": text for b, text in notes.answers.items()}}
    texts = {"opening": notes.opening, "closing": notes.closing}
    for most, named in ((_LONGEST_LINE, lines), (_LONGEST_TEXT, texts)):
        for what, text in named.items():
            if len(text) > most:
                return f"the {what} has {len(text):,} characters, at most {most:,} are shown"
    return ""


def _refused(name: str, what: str, seen: str) -> RefusedFault:
    attempts = ("have it sent again, or made again: greenstep kit make",)
    return RefusedFault.of("kit", f"{name} {what}", (seen[:200],) if seen else (), attempts)
