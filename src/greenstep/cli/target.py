"""From words and options to a job: which board, which images, which port."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from greenstep.core.chips import Catalogue, Choice, UnknownChip
from greenstep.core.errors import usage
from greenstep.store.board import BoardSettings, PortChoice
from greenstep.store.board_keys import KEYS
from greenstep.store.board_words import (
    hookup_argument,
    image_arguments,
    image_option,
    keep_argument,
    set_argument,
    talk_argument,
)
from greenstep.store.project import Project, find_project

from .port_choice import BENCH

if TYPE_CHECKING:
    from greenstep.core.dialects.dialect import Dialect
    from greenstep.core.hookup import Hookup
    from greenstep.core.link import Frame


def settle(
    words: tuple[str, ...], options: Mapping[str, Any], port_is_enough: bool = False
) -> tuple[str, BoardSettings]:
    """The board's name (empty where options alone describe it) and everything said of it. `port_is_enough`: a port
    alone is no board of the project file.

    An option beats an environment variable, which beats the project file. Raises UsageFault.
    """
    project = find_project(Path.cwd(), options.get("project"))
    alone = port_is_enough and not words and bool(options.get("port"))
    board, files = ("", ()) if alone else _split(words, project, options)
    said = from_options(files, options)
    said = said.over(project.boards[board]) if board else said
    if not alone and said.port is not None and said.port.name.startswith(BENCH):
        from .bench_board import with_bench_board

        said = with_bench_board(said)
    return board, said


def _split(words: tuple[str, ...], project: Project, options: Mapping[str, Any]) -> tuple[str, tuple[str, ...]]:
    """Which word is a board; the others are files."""
    if words and words[0] in project.boards:
        return words[0], words[1:]
    if not words and not options.get("chip") and project.boards:
        if len(project.boards) == 1:
            return next(iter(project.boards)), ()
        raise usage("which-board", "which board?", f"name one: {', '.join(project.boards)}")
    for file in image_arguments(words):
        word = str(file.file)
        if not _is_file(word):
            near = project.names_like(word)
            tries = [f"did you mean {' or '.join(near)}?"] if near else []
            if project.path is None and not near:
                tries.append("there is no greenstep.toml in this folder or above it, so it can only be a file")
            raise usage("no-such-target", f"'{word}' is neither a board nor a file", *tries)
    return "", words


def _is_file(word: str) -> bool:
    """Whether a word exists as a file, or is at least written like one."""
    return Path(word).exists() or "." in word or "/" in word


_WORDS: dict[str, Callable[[str], Any]] = {
    "port": lambda text: PortChoice(name=text),
    "hookup": hookup_argument,
    "keep": keep_argument,
    "talk": talk_argument,
}
"""How an option's words become a value, where they are not it."""


def from_options(files: tuple[str, ...], options: Mapping[str, Any]) -> BoardSettings:
    """What files and options say. Raises UsageFault."""
    values: dict[str, Any] = {}
    for key in KEYS:
        said, of = options.get(key.name), _WORDS.get(key.name)
        if key.repeats:
            values[key.name] = tuple(of(word) if of else word for word in said or ()) or None
        else:
            values[key.name] = of(said) if of and said else said
    values["port"] = values["port"] or None
    images = list(image_arguments(files))
    for name, memory in (("images", "flash"), ("eeprom", "eeprom")):
        images += [image for text in options.get(name) or () for image in image_option(text, memory)]
    values["images"] = tuple(images) or None
    values["set"] = dict(set_argument(text) for text in options.get("set") or ()) or None
    return BoardSettings(**values)


def find_chip(said: BoardSettings) -> Choice:
    """Raises UsageFault."""
    if not said.chip:
        raise usage("no-chip", "which chip?", "--chip NAME, such as --chip atmega328p or --chip stm32f103c8")
    try:
        choice = Catalogue.load().find(said.chip)
        return choice.speaking(said.dialect) if said.dialect else choice
    except UnknownChip as unknown:
        near = "greenstep chips lists them, and searches"
        if unknown.nearest:
            near = f"did you mean {' or '.join(unknown.nearest)}?"
        raise usage("unknown-chip", f"no chip is called '{said.chip}'", near) from None


def frame_of(said: BoardSettings, dialect: type[Dialect]) -> Frame:
    return dialect.frame if said.frame is None else frame_said(said.frame)


def frame_said(text: str | None) -> Frame:
    """A frame as written; 8N1 where none is. Raises UsageFault."""
    from greenstep.core.link import Frame

    try:
        return Frame() if text is None else Frame.parse(text)
    except ValueError as error:
        raise usage("frame", str(error)) from None


def hookup_of(said: BoardSettings, choice: Choice) -> Hookup:
    from greenstep.core.hookup.circuits import hookup_from_table, named_hookup, with_sequences

    level = choice.first.boot_level
    wanted = said.hookup or choice.first.hookup
    hookup = named_hookup(wanted, level) if isinstance(wanted, str) else hookup_from_table(wanted, level)
    if hookup.crossed and level == "high":
        raise usage(
            "hookup",
            f"a cross pair only pulls low, and this chip's {choice.first.wires.boot or 'boot pin'} must be high",
            "direct-dtr-reset or direct-rts-reset: the other line to the boot pin, by wire",
            "or dtr-reset or rts-reset, and the boot pin by hand",
        )
    return with_sequences(hookup, said.enter, said.leave)


def hookup_name(said: BoardSettings, choice: Choice) -> str:
    """What the hookup is called, for whom its moves do not matter. Raises UsageFault."""
    from greenstep.core.hookup.circuits import NAMED

    wanted = said.hookup or choice.first.hookup
    if isinstance(wanted, str) and wanted in NAMED and not (said.enter or said.leave):
        return wanted
    return hookup_of(said, choice).name


def without_port(said: BoardSettings) -> BoardSettings:
    """The same where no port is going to be opened."""
    from .port_choice import NO_PORT

    return replace(said, port=PortChoice(name=NO_PORT))
