"""From words and options to a job: which board, which images, which port."""

from __future__ import annotations

import os
import sys
import tomllib
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from greenstep.core.chips import Catalogue, Choice, UnknownChip
from greenstep.core.climb import Job, Purpose
from greenstep.core.dialects.base import Dialect
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.dialects.settings import read_settings
from greenstep.core.errors import usage
from greenstep.core.hookup import Hookup, hookup_from_table, named_hookup
from greenstep.core.hookup.circuits import with_sequences
from greenstep.core.image import Image, join
from greenstep.core.image.avr_memories import memory_of
from greenstep.core.link import Frame, LineSettings
from greenstep.core.secrets import Secrets
from greenstep.core.talk import LINE_ENDS, TalkLine
from greenstep.core.wishes import Wishes
from greenstep.store.aside import put_aside
from greenstep.store.board import (
    BoardSettings,
    ImageFile,
    PortChoice,
    TalkEntry,
    image_arguments,
    image_option,
    keep_argument,
    set_argument,
    talk_argument,
    talk_entries,
)
from greenstep.store.image_files import load_image
from greenstep.store.project import Project, find_project

from .port_choice import port_name
from .recording import recall


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
    return board, said.over(project.boards[board]) if board else said


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
            near = project.nearest(word)
            tries = [f"did you mean {' or '.join(near)}?"] if near else []
            if project.path is None and not near:
                tries.append("there is no greenstep.toml in this folder or above it, so it can only be a file")
            raise usage("no-such-target", f"'{word}' is neither a board nor a file", *tries)
    return "", words


def _is_file(word: str) -> bool:
    """Whether a word exists as a file, or is at least written like one."""
    return Path(word).exists() or "." in word or "/" in word


def from_options(files: tuple[str, ...], options: Mapping[str, Any]) -> BoardSettings:
    images = list(image_arguments(files))
    images += [image for text in options.get("images") or () for image in image_option(text)]
    images += [image for text in options.get("eeprom") or () for image in image_option(text, "eeprom")]
    same = (
        "chip", "dialect", "baud", "frame", "enter", "leave", "expect", "expect_within", "console_baud",
        "patience", "bootloader_bytes", "erase", "compare", "trust_journal", "verify", "start", "line_end",
    )  # fmt: skip
    port = options.get("port")
    return BoardSettings(
        **{name: options.get(name) for name in same},
        hookup=_hookup_argument(options.get("hookup")),
        port=PortChoice(name=port) if port else None,
        images=tuple(images) or None,
        keep=tuple(keep_argument(text) for text in options.get("keep") or ()) or None,
        also_ident=tuple(options.get("also_ident") or ()) or None,
        despite=tuple(options.get("despite") or ()) or None,
        talk=tuple(talk_argument(text) for text in options.get("talk") or ()) or None,
        set=dict(set_argument(text) for text in options.get("set") or ()) or None,
    )


def _hookup_argument(text: str | None) -> str | Mapping[str, Any] | None:
    """A hookup's name, or a table written as in greenstep.toml: '{ like = "cross-pair", … }'."""
    if text is None or not text.lstrip().startswith("{"):
        return text
    try:
        table: Mapping[str, Any] = tomllib.loads(f"hookup = {text}")["hookup"]
    except tomllib.TOMLDecodeError as error:
        raise usage("hookup", f"--hookup: {error}", "write it as in greenstep.toml, on one line") from None
    return table


def make_job(
    purpose: Purpose, board: str, said: BoardSettings, region: tuple[str, int | None, int | None] | None = None
) -> Job:
    """A job for the climb; reads the image files. `region` is what a backup or an erase is about.

    Raises UsageFault, RefusedFault or PortFault.
    """
    choice = find_chip(said)
    dialect = find_dialect(said.dialect or choice.dialect)
    part = choice.first
    settings = LineSettings(said.baud or part.baud, frame_of(said, dialect))
    images = load_images(said, choice) if purpose in ("upload", "verify") else {}
    if purpose in ("upload", "verify") and not images:
        raise usage("no-image", f"no image to {purpose}", "name a file, or images in greenstep.toml")
    secrets = Secrets()
    wishes = replace(wishes_of(said), settings=settings_of(said, dialect, secrets))
    return Job(
        purpose=purpose,
        choice=choice,
        dialect=dialect,
        settings=settings,
        port=port_name(said),
        hookup=hookup_of(said, choice),
        board=board,
        images=images,
        wishes=wishes,
        region=region or ("flash", None, None),
        patience_s=said.patience,
        expect=said.expect or "",
        expect_within_s=said.expect_within or 5.0,
        console=LineSettings(said.console_baud or dialect.first_baud(part, settings.baud)),
        start=said.start is not False,
        also_idents=frozenset(said.also_ident or ()),
        bootloader_bytes=said.bootloader_bytes,
        talk=talk_lines(said, secrets) if purpose in ("upload", "start") else (),
        line_end=LINE_ENDS[said.line_end or "crlf"],
        secrets=secrets,
        recall=recall,
        put_aside=put_aside,
    )


def settings_of(said: BoardSettings, dialect: type[Dialect], secrets: Secrets) -> dict[str, Any]:
    """The dialect's own settings, checked; turns of a talk with their secrets. Raises UsageFault."""
    pairs = []
    for name, value in (said.set or {}).items():
        entries = talk_entries(value) if isinstance(value, list) else None
        if entries is not None:
            value = tuple(_turn(entry, secrets) for entry in entries)
        pairs.append((name, value))
    return read_settings(dialect, pairs)


def _turn(entry: TalkEntry, secrets: Secrets) -> TalkLine:
    sent = _secret(entry.secret, secrets) if entry.secret else entry.send
    return TalkLine(entry.expect, entry.within, sent, entry.secret)


def talk_lines(said: BoardSettings, secrets: Secrets) -> tuple[TalkLine, ...]:
    """What is said after the start, secrets filled in from the environment or asked for. Raises UsageFault."""
    return tuple(_turn(entry, secrets) for entry in said.talk or ())


def _secret(name: str, secrets: Secrets) -> str:
    value = os.environ.get(name)
    if value is None:
        if not (sys.stdin.isatty() and sys.stderr.isatty()):
            raise usage("secret", f"the secret {name} is not in the environment", f"set {name}, or run in a terminal")
        value = str(click.prompt(name, hide_input=True, err=True))
    secrets.add(value)
    return value


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
    try:
        return Frame() if text is None else Frame.parse(text)
    except ValueError as error:
        raise usage("frame", str(error)) from None


def hookup_of(said: BoardSettings, choice: Choice) -> Hookup:
    level = choice.first.boot_level
    wanted = said.hookup or choice.first.hookup
    hookup = named_hookup(wanted, level) if isinstance(wanted, str) else hookup_from_table(wanted, level)
    return with_sequences(hookup, said.enter, said.leave)


def wishes_of(said: BoardSettings) -> Wishes:
    return Wishes(
        keep=said.keep or (),
        despite=frozenset(said.despite or ()),
        erase_all=said.erase == "all",
        verify=said.verify is not False,
        compare=said.compare is not False,
        trust_journal=said.trust_journal is True,
    )


def load_images(said: BoardSettings, choice: Choice) -> dict[str, Image]:
    """The images by memory, several of one memory joined."""
    files: dict[str, list[ImageFile]] = {}
    for file in said.images or ():
        files.setdefault(file.memory, []).append(file)
    images = {}
    for memory, entries in files.items():
        try:
            base = choice.first.memory(memory).start
        except KeyError:
            has = " and ".join(m.name for m in choice.first.memories)
            raise usage("no-such-memory", f"the {choice.first.title} has no {memory} here; it has {has}") from None
        loaded = [memory_of(load_image(entry.file, base, entry.at), memory) for entry in entries]
        names = [image.name for image in loaded]
        images[memory] = join(
            " + ".join(names) if len(names) < 3 else f"{names[0]} and {len(names) - 1} more", loaded
        )
    return dict(sorted(images.items(), key=lambda item: item[0] != "flash"))


def without_port(said: BoardSettings) -> BoardSettings:
    """The same where no port is going to be opened."""
    return replace(said, port=PortChoice(name="-"))
