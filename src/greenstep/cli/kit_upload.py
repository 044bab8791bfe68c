"""`greenstep upload FILE.kit`: which of its boards is this, and then the upload of that one."""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from greenstep.core.chips import Choice, Part
from greenstep.core.climb import Climb
from greenstep.core.errors import RefusedFault, usage
from greenstep.core.quantities import show_size
from greenstep.store.board import BoardSettings
from greenstep.store.kit import Kit, read_kit

from .drive import Settled, follow, make_view
from .faults import faults_as_asked
from .jobs import make_job
from .port_choice import opener
from .target import find_chip, from_options


def upload_kit(words: tuple[str, ...], options: Mapping[str, Any], upload: Callable[[Settled], int]) -> int:
    """`words` are the kit's file, and perhaps the board in it; `upload` does the work once it is known. Returns the
    exit status."""
    as_json = bool(options["as_json"])
    with faults_as_asked(as_json), tempfile.TemporaryDirectory(prefix="greenstep-kit-") as holder:
        kit = read_kit(Path(words[0]))
        if len(words) > 2:
            raise usage("kit-words", f"'{words[2]}' is too much", "greenstep upload FILE.kit, or FILE.kit BOARD")
        boards = kit.unpack(Path(holder))
        _tell(kit.notes.before, as_json)
        name, status = _board(kit, boards, words[1:], options, Path(holder))
        if status:
            return status
        said = from_options((), options).over(boards[name])
        status = upload((name, said))
        if status == 0:
            _tell(kit.notes.after, as_json)
        return status


def _tell(text: str, as_json: bool) -> None:
    if text and not as_json:
        click.echo(f"{text}\n")


def _board(
    kit: Kit, boards: Mapping[str, BoardSettings], words: tuple[str, ...], options: Mapping[str, Any], folder: Path
) -> tuple[str, int]:
    """The board that is meant, and the exit status of asking the chip. Raises UsageFault, RefusedFault."""
    if words:
        if words[0] not in boards:
            raise usage("no-such-board", f"the kit has no board '{words[0]}'", f"it has {', '.join(boards)}")
        return words[0], 0
    if len(boards) == 1 and not kit.notes.flash_sizes:
        return next(iter(boards)), 0
    part, status = _ask_the_chip(boards, options)
    if part is None:
        return "", status
    left = [name for name, said in boards.items() if _suits(kit, name, said, part)]
    if not left:
        listed = tuple(f"{name}: {said.chip}{_size_words(kit, name)}" for name, said in boards.items())
        raise RefusedFault.of(
            "kit-no-board",
            f"no board of this kit has the {part.title} with {show_size(part.flash.size)}",
            listed,
            ("is it the right kit?",),
        )
    return (left[0], 0) if len(left) == 1 else (_asked(kit, left, folder), 0)


def _size_words(kit: Kit, name: str) -> str:
    return f", {show_size(kit.notes.flash_sizes[name])}" if name in kit.notes.flash_sizes else ""


def _suits(kit: Kit, name: str, said: BoardSettings, part: Part) -> bool:
    size = kit.notes.flash_sizes.get(name)
    return part.name in (one.name for one in find_chip(said).parts) and size in (None, part.flash.size)


def _ask_the_chip(boards: Mapping[str, BoardSettings], options: Mapping[str, Any]) -> tuple[Part | None, int]:
    """Greet whatever is there, as any of the boards' chips. Raises UsageFault where they are reached differently."""
    settled = {name: from_options((), options).over(said) for name, said in boards.items()}
    first = next(iter(settled.values()))
    choices = {name: find_chip(said) for name, said in settled.items()}
    ways = {
        (said.dialect or choices[name].dialect, str(said.hookup or choices[name].first.hookup), said.baud, said.enter)
        for name, said in settled.items()
    }
    if len(ways) > 1:
        raise usage(
            "kit-which-board",
            "the boards of this kit are reached in different ways",
            f"name one: {', '.join(boards)}",
        )
    parts = {part.name: part for choice in choices.values() for part in choice.parts}
    job = replace(make_job("greet", "", first), choice=Choice("one of the kit's", tuple(parts.values())))
    climb = Climb(job, opener(job, first))
    status = follow(climb, make_view(bool(options["as_json"])))
    if not options["as_json"]:
        click.echo()
    return (climb.outcome.part, 0) if status == 0 else (None, status)


def _asked(kit: Kit, left: list[str], folder: Path) -> str:
    """The answer of the person, where the chip cannot tell. Raises UsageFault without a terminal."""
    notes = kit.notes
    question = notes.question or "Which board is it?"
    answers = {name: notes.answers.get(name, name) for name in left}
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        told = ", ".join(f"{name}: {text}" for name, text in answers.items())
        raise usage("kit-which-board", question, f"name the board behind the kit ({told})")
    if notes.picture is not None:
        click.echo(f"a picture: {folder / notes.picture}", err=True)
    for number, name in enumerate(left, 1):
        click.echo(f"  {number}. {answers[name]}", err=True)
    return left[click.prompt(question, type=click.IntRange(1, len(left)), err=True) - 1]
