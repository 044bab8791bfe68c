"""Which board of a kit is meant: by its name, by what the chip reports, or by an answer."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from greenstep.core.chips import Choice, Part
from greenstep.core.engine.job import Job
from greenstep.core.errors import RefusedFault, usage
from greenstep.core.quantities import show_size
from greenstep.store.board import BoardSettings, TalkEntry
from greenstep.store.kit import Kit

from .board import Board
from .jobs import make_job


def board_by_name(kit: Kit, boards: Mapping[str, Board], name: str | None) -> Board | None:
    """The board with that name, or the only one; None if the chip has to be asked. Raises UsageFault."""
    if name is not None:
        if name not in boards:
            raise usage("no-such-board", f"the kit has no board '{name}'", f"it has {', '.join(boards)}")
        return boards[name]
    return next(iter(boards.values())) if len(boards) == 1 and not kit.notes.flash_sizes else None


def with_secrets(said: BoardSettings, values: Mapping[str, str]) -> BoardSettings:
    """The board with the values of its secrets filled in, by their names."""
    changed: dict[str, Any] = {name: _filled(value, values) for name, value in said.__dict__.items()}
    return BoardSettings(**changed)


def _filled(value: Any, values: Mapping[str, str]) -> Any:
    match value:
        case TalkEntry() if value.secret in values:
            return replace(value, send=values[value.secret])
        case tuple():
            return tuple(_filled(one, values) for one in value)
        case Mapping():
            return {name: _filled(one, values) for name, one in value.items()}
    return value


def greeting(boards: Mapping[str, Board]) -> Job:
    """A job that greets whatever is there, as any of the boards' chips. Raises UsageFault if they are reached
    differently."""
    ways = {
        (board.dialect.name, str(board.said.hookup or board.choice.first.hookup), board.said.baud, board.said.enter)
        for board in boards.values()
    }
    if len(ways) > 1:
        raise usage(
            "kit-which-board",
            "the boards of this kit are reached in different ways",
            f"name one: {', '.join(boards)}",
        )
    parts = {part.name: part for board in boards.values() for part in board.choice.parts}
    job = make_job("greet", replace(next(iter(boards.values())), name=""))
    return replace(job, choice=Choice("one of the kit's", tuple(parts.values())))


def boards_for(kit: Kit, boards: Mapping[str, Board], part: Part) -> list[Board]:
    """The boards that it may be, by the chip that answered. Raises RefusedFault if there is none."""
    left = [board for board in boards.values() if _suits(kit, board, part)]
    if not left:
        listed = tuple(f"{name}: {board.said.chip}{_size_words(kit, name)}" for name, board in boards.items())
        raise RefusedFault.of(
            "kit-no-board",
            f"no board of this kit has the {part.title} with {show_size(part.flash.size)}",
            listed,
            ("is it the right kit?",),
        )
    return left


def _size_words(kit: Kit, name: str) -> str:
    return f", {show_size(kit.notes.flash_sizes[name])}" if name in kit.notes.flash_sizes else ""


def _suits(kit: Kit, board: Board, part: Part) -> bool:
    size = kit.notes.flash_sizes.get(board.name)
    return part.name in (one.name for one in board.choice.parts) and size in (None, part.flash.size)
