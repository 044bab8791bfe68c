"""From words and options to a board; and which build is meant, if a downloaded archive holds several."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from greenstep.core.errors import usage
from greenstep.store.board import BoardSettings
from greenstep.store.board_words import image_arguments
from greenstep.store.project import Project, find_project
from greenstep.work.board import Board
from greenstep.work.port_choice import BENCH

from .options import How
from .screen import ask_number, can_ask, say

if TYPE_CHECKING:
    from greenstep.work.releases import Build


_MOST_SHOWN = 30


def which_build(archive: str, builds: Sequence[Build]) -> str:
    """The member that the person picks. Raises UsageFault without a terminal, click.Abort."""
    left = [build for build in builds if not build.against]
    ruled_out = [build for build in builds if build.against]
    if not can_ask():
        raise usage(
            "which-build",
            f"{archive} holds {len(left)} builds that may be meant",
            *(f"{archive}:{build.member}" for build in left[:8]),
            evidence=tuple(f"ruled out: {build.member}: {build.against}" for build in ruled_out[:8]),
        )
    for build in ruled_out[:_MOST_SHOWN]:
        say(f"     {build.member}   not for this board: {build.against}", err=True)
    for number, build in enumerate(left, 1):
        say(f"  {number}. {build.member}", err=True)
    return left[ask_number("Which build", len(left)) - 1].member


_PORT = re.compile(r"/dev/|COM\d+$|bench:|\w+://", re.IGNORECASE)
"""How the name of a port begins."""


def settle(words: tuple[str, ...], settings: BoardSettings, how: How, port_is_enough: bool = False) -> Board:
    """The board that is named, or that options alone describe. `port_is_enough`: a port alone means no board of the
    project file.

    An option beats an environment variable, which beats the project file. Raises UsageFault.
    """
    project = find_project(Path.cwd(), how.project)
    alone = port_is_enough and not words and settings.port is not None
    name, files = ("", ()) if alone else _split(words, project, settings, port_is_enough)
    settings = replace(settings, images=(*image_arguments(files), *(settings.images or ())) or None)
    if name:
        settings = settings.over(project.boards[name])
    if not alone and settings.port is not None and settings.port.name.startswith(BENCH):
        from greenstep.work.board import with_bench_board

        settings = with_bench_board(settings)
    board = Board(name, settings)
    if any(image.file.suffix.lower() == ".zip" for image in settings.images or ()):
        from greenstep.work.releases import with_builds

        return with_builds(board, which_build)
    return board


def _split(
    words: tuple[str, ...], project: Project, settings: BoardSettings, port_is_enough: bool
) -> tuple[str, tuple[str, ...]]:
    """Which word is a board; the others are files."""
    if words and words[0] in project.boards:
        return words[0], words[1:]
    if not words and not settings.chip and project.boards:
        if len(project.boards) == 1:
            return next(iter(project.boards)), ()
        tries = [f"name one: {', '.join(project.boards)}", *(("or a port: --port NAME",) if port_is_enough else ())]
        raise usage("which-board", "which board?", *tries)
    for file in image_arguments(words):
        word = str(file.file)
        if _PORT.match(word):
            raise usage("port-as-file", f"{word} is a port", f"--port {word}")
        if port_is_enough:
            raise usage("no-such-board", f"there is no board '{word}' here", *_boards_or_port(word, project))
        if not _is_file(word):
            near = project.names_like(word)
            tries = [f"did you mean {' or '.join(near)}?"] if near else []
            if project.path is None and not near:
                tries.append("there is no greenstep.toml in this folder or above it, so it can only be a file")
            raise usage("no-such-target", f"'{word}' is neither a board nor a file", *tries)
    return "", words


def _boards_or_port(word: str, project: Project) -> tuple[str, ...]:
    """What to write instead of a board that there is not."""
    near = project.names_like(word)
    tries = [f"did you mean {' or '.join(near)}?"] if near else []
    if project.boards and not near:
        tries.append(f"boards: {', '.join(project.boards)}")
    return (*tries, "without a board: --port NAME; greenstep ports lists them")


def _is_file(word: str) -> bool:
    """Whether a word exists as a file, or is at least written like one."""
    return Path(word).exists() or "." in word or "/" in word
