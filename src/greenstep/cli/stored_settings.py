"""An image that would overwrite what the program has stored: the person is asked what to do about it."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.core.dialects.esp_images import OVERWRITES
from greenstep.core.engine.connect import refuse_unfit
from greenstep.core.errors import RefusedFault
from greenstep.core.image.esp_tables import MOST_BYTES, USUAL_PLACE, read_table
from greenstep.core.plan.write_options import Keep
from greenstep.core.quantities import show_span
from greenstep.work.board import Board
from greenstep.work.jobs import make_job

from .options import How
from .screen import ask_number, say

if TYPE_CHECKING:
    from greenstep.core.image import Image
    from greenstep.core.image.esp_tables import Partition

_ANSWERS = ("keep it", "save it to a file, then overwrite it", "overwrite it", "stop")


def asked_about(board: Board, images: dict[str, Image], how: How) -> tuple[Board, int]:
    """The board with what the person decided, and the exit status of a backup that failed. Other refusals are left to
    the run. Raises click.Abort."""
    try:
        refuse_unfit(make_job("upload", board.without_port, images=images))
    except RefusedFault as fault:
        if fault.finding.key != OVERWRITES:
            return board, 0
    else:
        return board, 0
    rows = [row for row in read_table(images["flash"].cut(USUAL_PLACE, MOST_BYTES, 0xFF)) if row.holds_settings]
    rows = [row for row in rows if images["flash"].touches(row.offset, row.size)]
    where = ", ".join(f"{row.label} at {show_span(row.offset, row.size)}" for row in rows)
    say(f"The image would overwrite what the program has stored: {where}.", err=True)
    for number, answer in enumerate(_ANSWERS, 1):
        say(f"  {number}. {answer}", err=True)
    return _done(_ANSWERS[ask_number("Your choice", len(_ANSWERS)) - 1], board, rows, how)


def _done(answer: str, board: Board, rows: list[Partition], how: How) -> tuple[Board, int]:
    if answer == "stop":
        raise click.Abort
    if answer == "keep it":
        kept = tuple(Keep(row.offset, row.size, row.label) for row in rows)
        return Board(board.name, replace(board.said, keep=(*(board.said.keep or ()), *kept))), 0
    if answer != "overwrite it":
        from .backup import back_up

        at = datetime.now().astimezone().strftime("%Y%m%d-%H%M%S")
        for row in rows:
            save = Path(f"{board.name or board.choice.name}-{row.label}-{at}.bin")
            status = back_up(board, save, False, ("flash", row.offset, row.size), replace(how, listen=False))
            if status:
                return board, status
            say()
    return Board(board.name, replace(board.said, even_if=(*(board.said.even_if or ()), "settings"))), 0
