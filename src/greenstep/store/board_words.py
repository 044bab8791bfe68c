"""Values of a board as written on the command line."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from greenstep.core.errors import usage
from greenstep.core.hookup.other_pins import runs_programs
from greenstep.core.image.file_system import KINDS, Kind
from greenstep.core.plan.write_options import Keep
from greenstep.core.quantities import parse_number
from greenstep.core.safety.harmless_text import is_plain

from .board import ImageFile, TalkEntry
from .board_keys import talk_entries, talk_entry

_NAME = re.compile(r"[A-Za-z_][\w.-]*")
"""Of a partition."""


def set_argument(text: str) -> tuple[str, Any]:
    """A setting as written on the command line: `crystal-khz=12000`, `opening=[ … ]`, `routines=@FILE`. Raises
    UsageFault."""
    from .project import TomlTrouble, toml_value

    name, sign, value = text.partition("=")
    if not sign or not name.strip():
        raise usage("setting", f"--set {text}", "write NAME=VALUE, such as crystal-khz=12000")
    value = value.strip()
    if value.startswith("@"):
        return name.strip(), Path(value[1:])
    if value.startswith("["):
        try:
            turns = toml_value(value)
            return name.strip(), turns if (entries := talk_entries(turns)) is None else entries
        except TomlTrouble as error:
            raise usage("setting", f"--set {name}: {error}", "write it as in greenstep.toml, on one line") from None
    return name.strip(), value


def talk_argument(text: str) -> TalkEntry:
    """A turn as written on the command line, like a table of the project file. Raises UsageFault."""
    from .project import TomlTrouble, toml_value

    try:
        value = toml_value(text)
    except TomlTrouble:
        value = None
    entry = talk_entry(value)
    if entry is None:
        raise usage("talk", f"--talk {text}", 'write \'{ expect = "name?", send = "hive-7" }\'')
    return entry


def image_arguments(words: Sequence[str], memory: str = "flash") -> tuple[ImageFile, ...]:
    """Files and folders as named on the command line: `scale.hex pages.bin at 0x08004000 web as littlefs at pages`.
    Raises UsageFault."""
    files: list[ImageFile] = []
    waiting = list(words)
    while waiting:
        word = waiting.pop(0)
        file = file_argument(word)
        if (" at " in word or " as " in word) and not file.exists():  # in one word, like an option's value
            files += image_option(word, memory)
            continue
        kind: Kind | None = None
        if waiting[:1] == ["as"]:
            named = waiting[1] if len(waiting) > 1 else ""
            kind = next((one for one in KINDS if one == named), None)
            if kind is None:
                raise usage("folder-kind", f"{file} as '{named}'", f"write {file} as {' or '.join(KINDS)} at NAME")
            del waiting[:2]
        at: int | str | None = None
        if waiting[:1] == ["at"]:
            if len(waiting) == 1:
                raise usage("address-given", f"no address after '{file} at'", "write FILE at 0x08000000")
            at = _place(file, waiting[1])
            del waiting[:2]
        files.append(ImageFile(file, at, memory, kind))
    return tuple(files)


def file_argument(word: str) -> Path:
    """A file by the name that was typed. Raises UsageFault for one with control characters."""
    if word and not is_plain(word):
        raise usage("file-name", f"the name '{word}' holds control characters", "rename the file")
    return Path(word)


def _place(file: Path, text: str) -> int | str:
    """An address, or the name of a partition. Raises UsageFault."""
    try:
        return parse_number(text)
    except ValueError as error:
        if _NAME.fullmatch(text):
            return text
        raise usage(
            "address-given", f"{file} at: {error}", "write FILE at 0x08000000, or a partition's name"
        ) from None


def image_option(text: str, memory: str = "flash") -> tuple[ImageFile, ...]:
    """The value of an option that names a file: `pages.bin`, `pages.bin at 0x08004000`, `web as littlefs at pages`.
    Raises UsageFault."""
    before, word, address = text.rpartition(" at ")
    file, packs, kind = (before if word else text).rpartition(" as ")
    words = [file.strip(), "as", kind.strip()] if packs else [(before if word else text).strip() if word else text]
    return image_arguments([*words, *(["at", address.strip()] if word else [])], memory)


def by_hand_arguments(texts: Iterable[str]) -> dict[str, tuple[str, ...]]:
    """Moves by hand as written on the command line: `load: short the two pads`. Raises UsageFault."""
    moves: dict[str, tuple[str, ...]] = {}
    for text in texts:
        when, colon, move = (part.strip() for part in text.partition(":"))
        if when not in ("load", "run") or not colon or not move:
            raise usage("by-hand", f"--by-hand {text}", "write 'load: MOVE' or 'run: MOVE', one for each move")
        moves[when] = (*moves.get(when, ()), move)
    return moves


def keep_argument(text: str) -> Keep:
    """A range to keep as written on the command line: `0x9000:0x6000`. Raises UsageFault."""
    start, sign, size = text.partition(":")
    try:
        if sign:
            return Keep(parse_number(start), parse_number(size))
    except ValueError as error:
        raise usage("keep", f"--keep {text}: {error}", "write FROM:SIZE, such as 0x9000:0x6000") from None
    raise usage("keep", f"--keep {text} has no size", "write FROM:SIZE, such as 0x9000:0x6000")


def hookup_argument(text: str) -> str | Mapping[str, Any]:
    """A hookup's name, or a table written as in greenstep.toml: '{ like = "cross-pair", … }'. Raises UsageFault."""
    from .project import TomlTrouble, toml_value

    if not text.lstrip().startswith("{"):
        return text
    try:
        table: Mapping[str, Any] = toml_value(text)
    except TomlTrouble as error:
        raise usage("hookup", f"--hookup: {error}", "write it as in greenstep.toml, on one line") from None
    if runs_programs(table):
        raise usage(
            "hookup-program",
            "--hookup: programs are only run from your own project file",
            "[board.NAME] hookup = { … } in greenstep.toml",
        )
    return table
