"""`greenstep upload FILE.kit`: which of its boards is this, and then the upload of that one."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Collection, Mapping
from pathlib import Path

from greenstep.core.errors import usage
from greenstep.core.safety.harmless_text import harmless_lines
from greenstep.store.board import BoardSettings
from greenstep.store.kit import Kit, read_kit
from greenstep.work.board import Board
from greenstep.work.kits import board_by_name, boards_for, greeting, with_secrets
from greenstep.work.run import Run

from .drive import follow, make_view
from .options import How
from .screen import ask, ask_number, can_ask, say


def upload_kit(
    words: tuple[str, ...], said: BoardSettings, how: How, allowed: Collection[str], upload: Callable[[Board], int]
) -> int:
    """`words` are the kit's file, and perhaps the board in it; `allowed` are the secrets that it may have from the
    environment; `upload` does the work once the board is known. Returns the exit status."""
    with tempfile.TemporaryDirectory(prefix="greenstep-kit-") as holder:
        kit = read_kit(Path(words[0]))
        if len(words) > 2:
            raise usage(
                "kit-words", f"'{words[2]}': one board at most", "greenstep upload FILE.kit, or FILE.kit BOARD"
            )
        unpacked = kit.unpack(Path(holder))
        wanted = [words[1]] if len(words) > 1 and words[1] in unpacked else list(unpacked)
        _tell(words[0], kit.notes.opening, how)
        secrets = _secrets(kit, wanted, allowed)
        boards = {name: Board(name, said.over(with_secrets(own, secrets))) for name, own in unpacked.items()}
        board, status = _board(kit, boards, words[1:], how, Path(holder))
        if board is None:
            return status
        status = upload(board)
        if status == 0:
            _tell(words[0], kit.notes.closing, how)
        return status


def _tell(file: str, text: str, how: How) -> None:
    """What the kit says, so that nobody takes it for a word of ours."""
    if text and not how.as_json:
        say(f"{Path(file).name} says", *(f"  | {line}" for line in harmless_lines(text)), "")


def _secrets(kit: Kit, boards: list[str], allowed: Collection[str]) -> dict[str, str]:
    """The values of the secrets that the boards would be sent, by name: typed, or from the environment if that is
    allowed; never taken silently. Raises UsageFault without a terminal."""
    names = dict.fromkeys(name for board in boards for name in kit.secrets[board])
    if strange := [name for name in allowed if name not in names]:
        raise usage("kit-secret", f"the kit asks for no secret '{strange[0]}'", "greenstep kit show says for which")
    values = {name: os.environ[name] for name in names if name in allowed and name in os.environ}
    for name in names:
        if name in values:
            continue
        if not can_ask():
            attempts = (f"if it may have it: set {name}, and --allow-secret {name}", "or run it in a terminal")
            raise usage(
                "kit-secret", f"the kit asks for the secret {name}, and would send it to the board", *attempts
            )
        say(f"The kit asks for {name}, and sends it to the board. Ctrl-C: it gets nothing.", err=True)
        values[name] = ask(name, hidden=True)
    return values


def _board(
    kit: Kit, boards: Mapping[str, Board], words: tuple[str, ...], how: How, folder: Path
) -> tuple[Board | None, int]:
    """The board that is meant; None with the exit status of asking the chip if it did not answer. Raises UsageFault,
    RefusedFault."""
    named = board_by_name(kit, boards, words[0] if words else None)
    if named is not None:
        return named, 0
    if can_ask() and not kit.notes.flash_sizes and _tells_nothing(boards):
        return _asked(kit, list(boards.values()), folder), 0
    run = Run(greeting(boards), recorded=False)
    status = follow(run, make_view(how.as_json))
    if not how.as_json:
        say()
    part = run.outcome.part
    if status or part is None:
        return None, status
    left = boards_for(kit, boards, part)
    return left[0] if len(left) == 1 else _asked(kit, left, folder), 0


def _tells_nothing(boards: Mapping[str, Board]) -> bool:
    """Whether it is better to ask the person at once: all boards have one chip, or hands would have to press the
    buttons twice."""
    chips = {tuple(part.name for part in board.choice.parts) for board in boards.values()}
    return len(chips) == 1 or any(not board.hookup.moves_boot for board in boards.values() if board.hookup.by_hand)


def _asked(kit: Kit, left: list[Board], folder: Path) -> Board:
    """By the person's answer, if the chip cannot tell. Raises UsageFault without a terminal."""
    notes = kit.notes
    question = notes.question or "Which board is it?"
    answers = {board.name: notes.answers.get(board.name, board.name) for board in left}
    if not can_ask():
        told = ", ".join(f"{name}: {text}" for name, text in answers.items())
        raise usage("kit-which-board", question, f"name the board after the kit ({told})")
    if notes.picture is not None:
        say(f"a picture: {folder / notes.picture}", err=True)
    for number, text in enumerate(answers.values(), 1):
        say(f"  {number}. {text}", err=True)
    return left[ask_number(question, len(left)) - 1]
