"""What is known of a board, from options, environment, project file; and which of them wins."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields
from pathlib import Path
from typing import Any, Final, Literal

from greenstep.core.frozen import frozen
from greenstep.core.image.file_system import Kind
from greenstep.core.plan.write_options import Keep


@frozen
class ImageFile:
    """A file to upload: the address for a raw one, or the name of a partition, and the memory it is for. With `pack`,
    `file` is a folder that becomes a file system of that kind, `size` bytes long (None: as long as its partition)."""

    file: Path
    at: int | str | None = None
    memory: str = "flash"
    pack: Kind | None = None
    size: int | None = None


@frozen
class PortChoice:
    """A port by name, by the USB serial number of its adapter, or by the name under which `greenstep find-port`
    remembered it. With name and serial number, the name is opened and the number tells where it went if it is not
    there."""

    name: str = ""
    serial: str = ""
    remembered: str = ""

    def over(self, other: PortChoice | None) -> PortChoice:
        """This choice, completed by what `other` knows."""
        return (
            PortChoice(self.name, self.serial or other.serial, self.remembered or other.remembered) if other else self
        )


@frozen
class TalkEntry:
    """A turn of the talk after an upload: wait for `expect`, then send `send`, or the secret named `secret`, from the
    environment variable of that name or asked for. With both, `send` is the secret's value, already known."""

    expect: str = ""
    within: float = 5.0
    send: str | None = None
    secret: str = ""


FASTEST: Final = "fastest"
"""As a baud rate: the highest that both ends carry, found and remembered."""


@frozen
class BoardSettings:
    """Every value that a board can have; None (or empty) if it was not given.

    The names are those of the keys in greenstep.toml and of the options.
    """

    chip: str | None = None
    dialect: str | None = None
    port: PortChoice | None = None
    baud: int | Literal["fastest"] | None = None
    frame: str | None = None
    hookup: str | Mapping[str, Any] | None = None
    enter: str | None = None
    leave: str | None = None
    by_hand: Mapping[str, tuple[str, ...]] | None = None
    wait: bool | None = None
    images: tuple[ImageFile, ...] | None = None
    expect: str | None = None
    expect_within: float | None = None
    console_baud: int | None = None
    elf: Path | None = None
    patience: float | None = None
    keep: tuple[Keep, ...] | None = None
    also_accept: tuple[int, ...] | None = None
    bootloader_bytes: int | None = None
    erase: str | None = None
    even_if: tuple[str, ...] | None = None
    compare: str | None = None
    verify: bool | None = None
    start: bool | None = None
    talk: tuple[TalkEntry, ...] | None = None
    line_end: str | None = None
    set: Mapping[str, Any] | None = None

    @property
    def rate(self) -> int | None:
        """The baud rate, if it was given as a number."""
        return None if self.baud == FASTEST else self.baud

    def over(self, other: BoardSettings) -> BoardSettings:
        """These values, and `other`'s where nothing is given here."""
        values = {}
        for field in fields(self):
            mine = getattr(self, field.name)
            values[field.name] = getattr(other, field.name) if mine is None else mine
        if self.port is not None:
            values["port"] = self.port.over(other.port)
        if self.set is not None and other.set is not None:
            values["set"] = {**other.set, **self.set}
        return BoardSettings(**values)
