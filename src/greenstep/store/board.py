"""What is known of a board, from options, environment, project file; and which of them wins."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import fields
from pathlib import Path
from typing import Any

from greenstep.core.errors import UsageFault, check_keys, usage
from greenstep.core.frozen import frozen
from greenstep.core.quantities import parse_number
from greenstep.core.talk import LINE_ENDS
from greenstep.core.wishes import DESPITE, Keep


@frozen
class ImageFile:
    """A file to upload: where a raw one goes, and to which memory."""

    file: Path
    at: int | None = None
    memory: str = "flash"


@frozen
class PortChoice:
    """A port by name, by the USB serial number of its adapter, or by the name that `greenstep spot` remembered it
    under (`spot`). With name and serial number, the name is opened and the number tells where it went if it is not
    there."""

    name: str = ""
    serial: str = ""
    spot: str = ""

    def over(self, other: PortChoice | None) -> PortChoice:
        """This choice, with what `other` knows besides."""
        return PortChoice(self.name, self.serial or other.serial, self.spot or other.spot) if other else self


@frozen
class TalkEntry:
    """A turn of the talk after an upload: wait for `expect`, then send `send`, or the secret of the name `secret`,
    which stands in an environment variable of that name or is asked for."""

    expect: str = ""
    within: float = 5.0
    send: str | None = None
    secret: str = ""


@frozen
class BoardSettings:
    """Every value that a board can have; None (or empty) where it is not said.

    The names are those of the keys in greenstep.toml and of the options.
    """

    chip: str | None = None
    dialect: str | None = None
    port: PortChoice | None = None
    baud: int | None = None
    frame: str | None = None
    hookup: str | Mapping[str, Any] | None = None
    enter: str | None = None
    leave: str | None = None
    images: tuple[ImageFile, ...] | None = None
    expect: str | None = None
    expect_within: float | None = None
    console_baud: int | None = None
    patience: float | None = None
    keep: tuple[Keep, ...] | None = None
    also_ident: tuple[int, ...] | None = None
    bootloader_bytes: int | None = None
    erase: str | None = None
    despite: tuple[str, ...] | None = None
    compare: bool | None = None
    trust_journal: bool | None = None
    verify: bool | None = None
    start: bool | None = None
    talk: tuple[TalkEntry, ...] | None = None
    line_end: str | None = None
    set: Mapping[str, Any] | None = None

    def over(self, other: BoardSettings) -> BoardSettings:
        """These values, and `other`'s where nothing is said here."""
        values = {}
        for field in fields(self):
            mine = getattr(self, field.name)
            values[field.name] = getattr(other, field.name) if mine is None else mine
        if self.port is not None:
            values["port"] = self.port.over(other.port)
        if self.set is not None and other.set is not None:
            values["set"] = {**other.set, **self.set}
        return BoardSettings(**values)


ERASE_WAYS = ("touched", "all")


def board_from_table(table: Mapping[str, Any], where: str, folder: Path) -> BoardSettings:
    """A board of the project file; file names are relative to `folder`. Raises UsageFault."""
    check_keys(table, [field.name for field in fields(BoardSettings)], where, "project-key")
    reader = _Reader(table, where)
    return BoardSettings(
        chip=reader.text("chip"),
        dialect=reader.text("dialect"),
        port=reader.port(),
        baud=reader.number("baud"),
        frame=reader.text("frame"),
        hookup=reader.hookup(),
        enter=reader.text("enter"),
        leave=reader.text("leave"),
        images=reader.images(folder),
        expect=reader.text("expect"),
        expect_within=reader.seconds("expect_within"),
        console_baud=reader.number("console_baud"),
        patience=reader.seconds("patience"),
        keep=reader.keeps(),
        also_ident=reader.idents(),
        bootloader_bytes=reader.number("bootloader_bytes"),
        erase=reader.choice("erase", ERASE_WAYS),
        despite=reader.choices("despite", DESPITE),
        compare=reader.truth("compare"),
        trust_journal=reader.truth("trust_journal"),
        verify=reader.truth("verify"),
        start=reader.truth("start"),
        talk=reader.talk(),
        line_end=reader.choice("line_end", tuple(LINE_ENDS)),
        set=reader.settings(),
    )


class _Reader:
    """Values of one table, each checked for its type."""

    def __init__(self, table: Mapping[str, Any], where: str) -> None:
        self._table = table
        self._where = where

    def _wrong(self, key: str, wanted: str) -> UsageFault:
        return usage("project-value", f"{self._where}.{key} is {self._table[key]!r}", f"write {wanted}")

    def text(self, key: str) -> str | None:
        value = self._table.get(key)
        if value is not None and not isinstance(value, str):
            raise self._wrong(key, "it in quotes")
        return value

    def truth(self, key: str) -> bool | None:
        value = self._table.get(key)
        if value is not None and not isinstance(value, bool):
            raise self._wrong(key, "true or false")
        return value

    def number(self, key: str) -> int | None:
        value = self._table.get(key)
        if value is None:
            return None
        if isinstance(value, bool) or not isinstance(value, int) or value < 0:
            raise self._wrong(key, "a whole number")
        return value

    def seconds(self, key: str) -> float | None:
        value = self._table.get(key)
        if value is None:
            return None
        if isinstance(value, bool) or not isinstance(value, int | float) or value < 0:
            raise self._wrong(key, "a number of seconds")
        return float(value)

    def choice(self, key: str, among: tuple[str, ...]) -> str | None:
        value = self.text(key)
        if value is not None and value not in among:
            raise self._wrong(key, " or ".join(f'"{word}"' for word in among))
        return value

    def choices(self, key: str, among: tuple[str, ...]) -> tuple[str, ...] | None:
        values = self._list(key)
        if values is None:
            return None
        if any(value not in among for value in values):
            raise self._wrong(key, f"a list of {' or '.join(among)}")
        return tuple(values)

    def _list(self, key: str) -> list[Any] | None:
        value = self._table.get(key)
        if value is not None and not isinstance(value, list):
            raise self._wrong(key, "a list: [ … ]")
        return value

    def port(self) -> PortChoice | None:
        value = self._table.get("port")
        if value is None:
            return None
        if isinstance(value, str):
            return PortChoice(name=value)
        if isinstance(value, dict) and value and not value.keys() - {"name", "serial", "spot"}:
            texts = {key: text for key, text in value.items() if isinstance(text, str)}
            if len(texts) == len(value):
                return PortChoice(**texts)
        raise self._wrong("port", '"/dev/ttyUSB0", { serial = "…" } or { spot = "…" }')

    def hookup(self) -> str | Mapping[str, Any] | None:
        value = self._table.get("hookup")
        if value is not None and not isinstance(value, str | dict):
            raise self._wrong("hookup", "a name in quotes, or a table")
        return value

    def images(self, folder: Path) -> tuple[ImageFile, ...] | None:
        values = self._list("images")
        if values is None:
            return None
        return tuple(self._image(value, folder) for value in values)

    def _image(self, value: Any, folder: Path) -> ImageFile:
        if isinstance(value, str):
            return ImageFile(folder / value)
        wanted = 'a file name, or { file = "…", at = 0x08000000, memory = "flash" }'
        if not isinstance(value, dict) or not isinstance(value.get("file"), str):
            raise self._wrong("images", wanted)
        at, memory = value.get("at"), value.get("memory", "flash")
        if value.keys() - {"file", "at", "memory"} or not isinstance(at, int | None) or not isinstance(memory, str):
            raise self._wrong("images", wanted)
        return ImageFile(folder / value["file"], at, memory)

    def keeps(self) -> tuple[Keep, ...] | None:
        values = self._list("keep")
        if values is None:
            return None
        keeps = []
        for value in values:
            numbers = isinstance(value, dict) and all(isinstance(value.get(k), int) for k in ("from", "size"))
            if not numbers or value.keys() - {"from", "size", "why"}:
                raise self._wrong("keep", '[ { from = 0x9000, size = 0x6000, why = "settings" } ]')
            keeps.append(Keep(value["from"], value["size"], str(value.get("why", ""))))
        return tuple(keeps)

    def talk(self) -> tuple[TalkEntry, ...] | None:
        values = self._list("talk")
        if values is None:
            return None
        entries = []
        for value in values:
            entry = _talk_entry(value)
            if entry is None:
                raise self._wrong("talk", _TALK_EXAMPLE)
            entries.append(entry)
        return tuple(entries)

    def settings(self) -> Mapping[str, Any] | None:
        """The dialect's own settings; whoever knows the dialect checks them."""
        value = self._table.get("set")
        if value is not None and not isinstance(value, dict):
            raise self._wrong("set", "a table: { crystal-khz = 12000 }")
        return value

    def idents(self) -> tuple[int, ...] | None:
        values = self._list("also_ident")
        if values is None:
            return None
        if not all(isinstance(value, int) for value in values):
            raise self._wrong("also_ident", "numbers, such as [ 0x1E950F ]")
        return tuple(values)


def talk_entries(value: Any) -> tuple[TalkEntry, ...] | None:
    """Turns from a list of tables; None if it is none."""
    entries = [_talk_entry(item) for item in value] if isinstance(value, list) else [None]
    return tuple(entry for entry in entries if entry is not None) if None not in entries else None


def set_argument(text: str) -> tuple[str, Any]:
    """A setting as written on the command line: `crystal-khz=12000`, `before=[ … ]`. Raises UsageFault."""
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


_TALK_EXAMPLE = '[ { expect = "name?", send = "hive-7" }, { expect = "key?", secret = "HIVE_KEY" } ]'


def _talk_entry(value: Any) -> TalkEntry | None:
    """A turn from its table; None if it is none."""
    if not isinstance(value, dict) or not value or value.keys() - {"expect", "within", "send", "secret"}:
        return None
    within = value.get("within", 5.0)
    texts = [value[key] for key in ("expect", "send", "secret") if key in value]
    if not texts or not all(isinstance(text, str) for text in texts):
        return None
    if isinstance(within, bool) or not isinstance(within, int | float) or within <= 0:
        return None
    if "send" in value and "secret" in value:
        return None
    return TalkEntry(value.get("expect", ""), float(within), value.get("send"), value.get("secret", ""))


def talk_argument(text: str) -> TalkEntry:
    """A turn as written on the command line, like a table of the project file. Raises UsageFault."""
    try:
        value = tomllib.loads(f"talk = {text}")["talk"]
    except tomllib.TOMLDecodeError:
        value = None
    entry = _talk_entry(value)
    if entry is None:
        raise usage("talk", f"--talk {text}", 'write \'{ expect = "name?", send = "hive-7" }\'')
    return entry


def image_arguments(words: Sequence[str], memory: str = "flash") -> tuple[ImageFile, ...]:
    """Files as named on the command line: `scale.hex pages.bin at 0x08004000`. Raises UsageFault."""
    files: list[ImageFile] = []
    at = 0
    while at < len(words):
        file = Path(words[at])
        if " at " in words[at] and not file.exists():  # in one word, as an option takes it
            files += image_option(words[at], memory)
            at += 1
            continue
        if list(words[at + 1 : at + 2]) != ["at"]:
            files.append(ImageFile(file, None, memory))
            at += 1
            continue
        if at + 2 == len(words):
            raise usage("address-given", f"no address behind '{file} at'", "write FILE at 0x08000000")
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
    """Room to keep as written on the command line: `0x9000:0x6000`. Raises UsageFault."""
    start, sign, size = text.partition(":")
    try:
        if sign:
            return Keep(parse_number(start), parse_number(size))
    except ValueError as error:
        raise usage("keep", f"--keep {text}: {error}", "write FROM:SIZE, such as 0x9000:0x6000") from None
    raise usage("keep", f"--keep {text} has no size", "write FROM:SIZE, such as 0x9000:0x6000")
