"""From everything said of a board to what is climbed: images read, settings checked, secrets asked for."""

from __future__ import annotations

import os
import sys
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from greenstep.core.climb import Job, Purpose
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.dialects.settings import read_settings
from greenstep.core.errors import usage
from greenstep.core.image import Image, join
from greenstep.core.image.avr_memories import memory_of
from greenstep.core.link import LineSettings
from greenstep.core.secrets import Secrets
from greenstep.core.talk import LINE_ENDS, TalkLine
from greenstep.core.wishes import Wishes
from greenstep.store.board import BoardSettings, ImageFile, TalkEntry
from greenstep.store.board_keys import talk_entries
from greenstep.store.image_files import load_image

from .port_choice import port_name
from .target import find_chip, frame_of, hookup_of

if TYPE_CHECKING:
    from greenstep.core.chips import Choice
    from greenstep.core.climb import Aside
    from greenstep.core.dialects.dialect import Dialect
    from greenstep.core.image.granules import Remembered


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
        recall=_recall,
        put_aside=_put_aside,
    )


def _recall(unique_id: str, chip: str) -> Remembered | None:
    from .recording import recall

    return recall(unique_id, chip)


def _put_aside(image: Image, whose: str) -> Aside:
    from greenstep.store.aside import put_aside

    return put_aside(image, whose)


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
