"""`greenstep kit make` and `kit show`; and `greenstep upload FILE.kit`: which of its boards is this, and then the
upload of that one."""

from __future__ import annotations

import os
import platform
import tempfile
from collections.abc import Callable, Collection, Mapping
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.core.errors import usage
from greenstep.core.quantities import count, show_size
from greenstep.core.safety.harmless_text import harmless_lines
from greenstep.store.board import BoardSettings
from greenstep.store.kit import Kit, read_kit
from greenstep.work.board import Board
from greenstep.work.kits import board_by_name, boards_for, greeting, with_secrets
from greenstep.work.run import Run

from .completion import complete_board
from .drive import follow, make_view
from .fault_view import faults_as_asked, wrapped
from .options import How
from .screen import ask, ask_number, can_ask, say, say_all

if TYPE_CHECKING:
    from greenstep.store.kit import Kit


@click.group("kit", short_help="Boards and images in one file to hand over.")
def kit_command() -> None:
    """One file for a friend far away: images, boards, and text to show before and after the upload. Your friend uses
    it with greenstep upload FILE.kit."""


@kit_command.command("make")
@click.argument("boards", nargs=-1, required=True, metavar="BOARD…", shell_complete=complete_board)
@click.option(
    "--save", type=click.Path(path_type=Path, dir_okay=False), required=True, metavar="FILE", help="The kit."
)
@click.option("--program", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="The kit as a program for this system too, for somebody without Python.")  # fmt: skip
@click.option("--replace", is_flag=True, help="Replace a file that is there.")
@click.option("--name", default="", metavar="TEXT", help="Name of the kit. [the first board's name]")
@click.option("--say-first", "opening", default="", metavar="TEXT", help="Shown before the upload.")
@click.option("--say-last", "closing", default="", metavar="TEXT", help="Shown after a green one.")
@click.option("--question", default="", metavar="TEXT", help="Asked if the chip cannot tell the boards apart.")
@click.option("--answer", multiple=True, metavar="BOARD=TEXT", help="The answer that means this board.")
@click.option("--picture", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="A picture of what to look for.")  # fmt: skip
@click.option("--loader", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="A bootloader to be put in first by a programmer, as by loader make.")  # fmt: skip
@click.option(
    "--flash-size", multiple=True, metavar="BOARD=SIZE", help="This board only if the chip has this much flash."
)
@click.option("--project", type=click.Path(path_type=Path, dir_okay=False), envvar="GREENSTEP_PROJECT",
              metavar="FILE", help="The project file, if not the nearest greenstep.toml.")  # fmt: skip
@click.option("--json", "as_json", is_flag=True, help="One line, for programs.")
def make(
    boards: tuple[str, ...], save: Path, program: Path | None, replace: bool, name: str, opening: str, closing: str,
    question: str, answer: tuple[str, ...], picture: Path | None, loader: Path | None, flash_size: tuple[str, ...],
    project: Path | None, as_json: bool,
) -> int:  # fmt: skip
    """Put boards of greenstep.toml and their images into one file. Several boards are told apart by what the chip
    reports, by the size of its flash, or by a question.

    \b
    greenstep kit make hive-scale --save scale.kit --say-last "Hang it up again."
    greenstep kit make scale-a scale-b --save both.kit --question "Which plug?" \\
        --answer "scale-a=a round one" --answer "scale-b=a flat one"
    """
    from greenstep.core.errors import usage
    from greenstep.store.image_files import check_place
    from greenstep.store.kit import Notes
    from greenstep.store.kit_making import make_kit, pairs_of, sizes_of
    from greenstep.store.project import find_project, project_text, tables_of

    with faults_as_asked(as_json):
        found = find_project(Path.cwd(), project)
        if found.path is None:
            raise usage("project-file", "there is no greenstep.toml here or above", "greenstep init writes one")
        for board in boards:
            if board not in found.boards:
                near = found.names_like(board)
                raise usage("no-such-board", f"no board '{board}'", *([f"did you mean {near[0]}?"] if near else []))
        tables = tables_of(project_text(found.path), found.path)
        notes = Notes(
            opening,
            closing,
            question,
            picture,
            loader,
            pairs_of(answer, "--answer"),
            sizes_of(flash_size, "--flash-size"),
        )
        made = datetime.now().astimezone().isoformat(timespec="seconds")
        wanted = {board: tables[board] for board in boards}
        if program is not None:
            check_place(program, replace)
        kit = make_kit(save, name or boards[0], made, wanted, found.path.parent, notes, replace)
        if program is not None:
            from greenstep.work.kits import make_program

            make_program(kit, save, program)
    status = _told(kit, save, as_json)
    if program is not None and not as_json:
        size = show_size(program.stat().st_size)
        say(f" without Python: {program}, {size}, for {platform.system()} {platform.machine()}")
    return status


@kit_command.command("show")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@click.option("--save-loader", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Its bootloader as a file, for the programmer.")  # fmt: skip
@click.option("--json", "as_json", is_flag=True, help="One line, for programs.")
def show(file: Path, save_loader: Path | None, as_json: bool) -> int:
    """What is in a kit, and all that it would write, send, listen for and ask. It is read whole and checked."""
    from greenstep.core.errors import usage
    from greenstep.store.image_files import check_place
    from greenstep.store.kit import read_kit
    from greenstep.store.whole_files import write_whole

    with faults_as_asked(as_json):
        kit = read_kit(file)
        if save_loader is not None:
            if kit.notes.loader is None:
                raise usage("no-image", f"{file.name} holds no bootloader", "greenstep kit show lists what it holds")
            check_place(save_loader, replace=False)
            try:
                write_whole(save_loader, [kit.members[kit.notes.loader.as_posix()]])
            except OSError as error:
                raise usage("file", f"{save_loader} cannot be written: {error.strerror}", "another name") from None
    return _told(kit, file, as_json)


_KEY_WIDTH = 16


def _told(kit: Kit, file: Path, as_json: bool) -> int:
    if as_json:
        from .json_view import json_line

        json_line(
            "kit",
            file=file,
            name=kit.name,
            made=kit.made,
            boards=kit.tables,
            files={name: len(data) for name, data in kit.members.items()},
            question=kit.notes.question,
            answers=dict(kit.notes.answers),
            opening=kit.notes.opening,
            closing=kit.notes.closing,
            secrets=kit.secrets,
        )
        return 0
    from greenstep.store.board_tables import board_in_words

    size = show_size(sum(len(data) for data in kit.members.values()))
    say(f"{file.name}   {kit.name}   made {kit.made[:10]}   {count(len(kit.members), 'file')}, {size}", "")
    for name, table in kit.tables.items():
        least = kit.notes.flash_sizes.get(name)
        when = "" if least is None else f", only with {show_size(least)} of flash"
        answer = f', the answer "{kit.notes.answers[name]}"' if name in kit.notes.answers else ""
        say_all(wrapped(f" {name}{when}{answer}", 100, 4))
        for key, words in board_in_words(table, f"board.{name}"):
            say_all(wrapped(f"   {key:<{_KEY_WIDTH}} {words}", 100, 4 + _KEY_WIDTH))
        say()
    for label, text in (("says", kit.notes.opening), ("asks", kit.notes.question), ("at last", kit.notes.closing)):
        for number, line in enumerate(harmless_lines(text) if text else ()):
            say_all(wrapped(f" {'' if number else label:<8} | {line}", 100, 12))
    if kit.notes.picture is not None:
        say(f" picture  {kit.notes.picture.name}")
    if kit.notes.loader is not None:
        say(f" loader   {kit.notes.loader.name}, to be put in first: kit show {file.name} --save-loader FILE")
    say("", f" to use it: greenstep upload {file.name}")
    return 0


def upload_kit(
    words: tuple[str, ...],
    settings: BoardSettings,
    how: How,
    allowed: Collection[str],
    upload: Callable[[Board], int],
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
        boards = {name: Board(name, settings.over(with_secrets(own, secrets))) for name, own in unpacked.items()}
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
