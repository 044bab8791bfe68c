"""The values that only a board's dialect has, and what is sent to its application: secrets filled in."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

from greenstep.core.dialects.settings import preset, read_settings
from greenstep.core.engine.job import TalkLine
from greenstep.core.errors import usage
from greenstep.core.safety.secrets import Secrets
from greenstep.store.board import TalkEntry
from greenstep.store.image_files import load_image

from .person import NOBODY, Person

if TYPE_CHECKING:
    from greenstep.core.image import Image

    from .board import Board


def settings_of(board: Board, person: Person = NOBODY, secrets: Secrets | None = None) -> dict[str, Any]:
    """The dialect's own settings, checked; turns of a talk with their secrets, files as images. Raises UsageFault,
    ImageFault."""
    pairs: dict[str, Any] = preset(board.choice.first) if board.dialect.name == board.choice.first.dialect else {}
    for name, value in (board.said.set or {}).items():
        if isinstance(value, tuple):
            value = tuple(_turn(entry, person, secrets or Secrets()) for entry in value)
        pairs[name] = _image(board, name, value) if isinstance(value, Path) else value
    return read_settings(board.dialect, pairs.items())


def _image(board: Board, name: str, file: Path) -> Image:
    """Raises UsageFault, ImageFault."""
    kinds = {setting.name: setting.kind for setting in board.dialect.spec.settings}
    if kinds.get(name) != "image":
        raise usage("setting", f"{board.dialect.name}: {name} is {str(file)!r}, a file", "it takes none")
    return load_image(file, board.choice.first.flash.start)


def _turn(entry: TalkEntry, person: Person, secrets: Secrets) -> TalkLine:
    sent = entry.send
    if entry.secret:
        sent = _secret(entry.secret, person) if sent is None else sent
        secrets.add(sent)
    return TalkLine(entry.expect, entry.within, sent, entry.secret)


def talk_lines(board: Board, person: Person, secrets: Secrets) -> tuple[TalkLine, ...]:
    """What is sent after the start, secrets filled in from the environment or asked for. Raises UsageFault."""
    return tuple(_turn(entry, person, secrets) for entry in board.said.talk or ())


def _secret(name: str, person: Person) -> str:
    value = os.environ.get(name)
    return person.secret(name) if value is None else value
