"""`greenstep upload FILE.kit`: which of its boards is this, and then the upload of that one."""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable, Mapping
from pathlib import Path

import click

from greenstep.core.errors import usage
from greenstep.store.board import BoardSettings
from greenstep.store.kit import Kit, read_kit
from greenstep.work.board import Board
from greenstep.work.kits import board_by_name, boards_for, greeting
from greenstep.work.run import Run

from .drive import follow, make_view
from .options import How


def upload_kit(words: tuple[str, ...], said: BoardSettings, how: How, upload: Callable[[Board], int]) -> int:
    """`words` are the kit's file, and perhaps the board in it; `upload` does the work once it is known. Returns the
    exit status."""
    with tempfile.TemporaryDirectory(prefix="greenstep-kit-") as holder:
        kit = read_kit(Path(words[0]))
        if len(words) > 2:
            raise usage(
                "kit-words", f"'{words[2]}': one board at most", "greenstep upload FILE.kit, or FILE.kit BOARD"
            )
        unpacked = kit.unpack(Path(holder))
        boards = {name: Board(name, said.over(its_own)) for name, its_own in unpacked.items()}
        _tell(kit.notes.opening, how)
        board, status = _board(kit, boards, words[1:], how, Path(holder))
        if board is None:
            return status
        status = upload(board)
        if status == 0:
            _tell(kit.notes.closing, how)
        return status


def _tell(text: str, how: How) -> None:
    if text and not how.as_json:
        click.echo(f"{text}\n")


def _board(
    kit: Kit, boards: Mapping[str, Board], words: tuple[str, ...], how: How, folder: Path
) -> tuple[Board | None, int]:
    """The board that is meant; None with the exit status of asking the chip if it did not answer. Raises UsageFault,
    RefusedFault."""
    named = board_by_name(kit, boards, words[0] if words else None)
    if named is not None:
        return named, 0
    run = Run(greeting(boards), recorded=False)
    status = follow(run, make_view(how.as_json))
    if not how.as_json:
        click.echo()
    part = run.outcome.part
    if status or part is None:
        return None, status
    left = boards_for(kit, boards, part)
    return left[0] if len(left) == 1 else _asked(kit, left, folder), 0


def _asked(kit: Kit, left: list[Board], folder: Path) -> Board:
    """By the person's answer, if the chip cannot tell. Raises UsageFault without a terminal."""
    notes = kit.notes
    question = notes.question or "Which board is it?"
    answers = {board.name: notes.answers.get(board.name, board.name) for board in left}
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        told = ", ".join(f"{name}: {text}" for name, text in answers.items())
        raise usage("kit-which-board", question, f"name the board after the kit ({told})")
    if notes.picture is not None:
        click.echo(f"a picture: {folder / notes.picture}", err=True)
    for number, text in enumerate(answers.values(), 1):
        click.echo(f"  {number}. {text}", err=True)
    return left[click.prompt(question, type=click.IntRange(1, len(left)), err=True) - 1]
