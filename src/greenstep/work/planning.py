"""What an upload would do, without doing it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from greenstep.core.chips.part import Part
from greenstep.core.dialects.abilities import ProvesRate
from greenstep.core.errors import RefusedFault
from greenstep.core.frozen import frozen
from greenstep.core.image import Image
from greenstep.core.link import LineSettings
from greenstep.core.plan.layout import PlanCosts, make_plan, price
from greenstep.core.plan.model import Plan

from .board import Board
from .jobs import load_images, write_options_of

USUAL_HIGHEST = 921_600
"""What most adapters, wires and chips carry."""
_HIGHEST_LISTED = 1_000_000
"""The same, of the rates that a loader has in a list."""


@frozen
class Planned:
    """What would be erased and written, and its cost at the rate and frame of `line`. `faster` is the highest rate
    that its line was `found` to carry, or a usual one if that was not looked for; None if the loader has one rate."""

    plan: Plan
    costs: PlanCosts
    line: LineSettings
    faster: LineSettings | None = None
    found: bool = False

    @property
    def seconds(self) -> float:
        """How long it would take."""
        return self.costs.seconds(self.line)


def plan_for(board: Board, parts: Sequence[Part] | None = None, images: dict[str, Image] | None = None) -> Planned:
    """For the first of the parts (those that the board may have) that accepts the images (the board's). Raises
    UsageFault, ImageFault, or the refusal of the first part."""
    images, options = images or load_images(board), write_options_of(board)
    refusals = []
    for part in parts or board.choice.parts:
        try:
            plan = make_plan(part.with_loader_room(board.settings.bootloader_bytes), board.dialect, images, options)
        except RefusedFault as refusal:
            refusals.append(refusal)
        else:
            known = _found_rate(board)
            faster = _faster(board, known or _usual_highest(board))
            return Planned(plan, price(plan, board.dialect, options.verify), board.line, faster, known is not None)
    raise refusals[0]


def _found_rate(board: Board) -> int | None:
    """The highest rate that the board's line was found to carry."""
    from .line_memory import known_of

    known = known_of(board)
    return None if known is None else known.recent_baud


def _usual_highest(board: Board) -> int:
    rates = board.dialect.spec.rates
    return max((baud for baud in rates if baud <= _HIGHEST_LISTED), default=0) if rates else USUAL_HIGHEST


def _faster(board: Board, baud: int) -> LineSettings | None:
    return replace(board.line, baud=baud) if issubclass(board.dialect, ProvesRate) and baud > board.baud else None
