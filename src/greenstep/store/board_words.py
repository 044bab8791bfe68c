"""Values of a board as written on the command line."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from greenstep.core.errors import usage
from greenstep.core.hookup.outside import runs_programs
from greenstep.core.quantities import parse_number
from greenstep.core.wishes import Keep

from .board import ImageFile, TalkEntry
from .board_keys import talk_entry


def set_argument(text: str) -> tuple[str, Any]:
    """A setting as written on the command line: `crystal-khz=12000`, `opening=[ … ]`. Raises UsageFault."""
    name, sign, value = text.partition("=")
    if not sign or not name.strip():
        raise usage("setting", f"--set {text}", "write NAME=VALUE, such as crystal-khz=12000")
    value = value.strip()
    if value.startswith("["):
        try:
            return name.strip(), tomllib.loads(f"value = {value}")["value"]
        except tomllib.TOMLDecodeError as error:
            raise usage("setting", f"--set {name}: {error}", "write it as in greenstep.toml, on one line") from None
    return name.strip(), value


def talk_argument(text: str) -> TalkEntry:
    """A turn as written on the command line, like a table of the project file. Raises UsageFault."""
    try:
        value = tomllib.loads(f"talk = {text}")["talk"]
    except tomllib.TOMLDecodeError:
        value = None
    entry = talk_entry(value)
    if entry is None:
        raise usage("talk", f"--talk {text}", 'write \'{ expect = "name?", send = "hive-7" }\'')
    return entry


def image_arguments(words: Sequence[str], memory: str = "flash") -> tuple[ImageFile, ...]:
    """Files as named on the command line: `scale.hex pages.bin at 0x08004000`. Raises UsageFault."""
    files: list[ImageFile] = []
    at = 0
    while at < len(words):
        file = Path(words[at])
        if " at " in words[at] and not file.exists():  # in one word, like an option's value
            files += image_option(words[at], memory)
            at += 1
            continue
        if list(words[at + 1 : at + 2]) != ["at"]:
            files.append(ImageFile(file, None, memory))
            at += 1
            continue
        if at + 2 == len(words):
            raise usage("address-given", f"no address after '{file} at'", "write FILE at 0x08000000")
        try:
            files.append(ImageFile(file, parse_number(words[at + 2]), memory))
        except ValueError as error:
            raise usage("address-given", f"{file} at: {error}", "write FILE at 0x08000000") from None
        at += 3
    return tuple(files)


def image_option(text: str, memory: str = "flash") -> tuple[ImageFile, ...]:
    """The value of an option that names a file: `pages.bin`, `pages.bin at 0x08004000`. Raises UsageFault."""
    file, word, address = text.rpartition(" at ")
    return image_arguments([file.strip(), "at", address.strip()] if word else [text], memory)


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
    if not text.lstrip().startswith("{"):
        return text
    try:
        table: Mapping[str, Any] = tomllib.loads(f"hookup = {text}")["hookup"]
    except tomllib.TOMLDecodeError as error:
        raise usage("hookup", f"--hookup: {error}", "write it as in greenstep.toml, on one line") from None
    if runs_programs(table):
        raise usage(
            "hookup-program",
            "--hookup: programs are only run from your own project file",
            "[board.NAME] hookup = { … } in greenstep.toml",
        )
    return table
