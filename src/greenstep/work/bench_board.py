"""A simulated board needs no describing: the bench knows what was not said."""

from __future__ import annotations

from typing import Any

from greenstep.store.board import BoardSettings, TalkEntry


def with_bench_board(said: BoardSettings) -> BoardSettings:
    """What is said, completed by what the board at a port `bench:…` is. Raises UsageFault."""
    from greenstep.bench.address import parse_address

    address = parse_address(said.port.name if said.port else "")
    board = address.board
    if not address.is_known:
        return said
    if said.chip is not None and _dialect_of(said.chip) != _dialect_of(board.chip):
        return said  # another chip was declared: nothing is known here about that one
    known = BoardSettings(
        chip=board.chip,
        dialect=board.dialect or None,
        baud=board.baud,
        hookup=board.circuit.hookup,
        console_baud=board.console,
        set={name: _as_written(value) for name, value in board.settings} or None,
    )
    return said.over(known)


def _dialect_of(chip: str) -> str:
    from greenstep.core.chips import Catalogue, UnknownChip

    try:
        return Catalogue.load().find(chip).dialect
    except UnknownChip:
        return ""


def _as_written(value: Any) -> Any:
    """A setting of the board, as it is read from a project file."""
    if isinstance(value, tuple):
        return tuple(TalkEntry(turn.expect, turn.within_s, turn.send) for turn in value)
    return value
