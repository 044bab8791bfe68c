"""From a board to a job: images read, the dialect's own settings and what is sent to the application checked, secrets
asked for."""

from __future__ import annotations

import os
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from greenstep.core.chips.part import ByHandWords
from greenstep.core.errors import usage
from greenstep.core.image import Image, join
from greenstep.core.image.avr_memories import memory_of
from greenstep.core.plan.write_options import LINE_ENDS, CompareWith, TalkLine, WriteOptions
from greenstep.core.safety.secrets import Secrets
from greenstep.store.board import TalkEntry
from greenstep.store.image_files import load_image
from greenstep.store.placing import load_all

from .port_choice import port_name
from .prompter import NON_INTERACTIVE, Prompter, pins_of

if TYPE_CHECKING:
    from greenstep.core.dialects.dialect import Dialect
    from greenstep.core.engine.job import Job, Purpose, RateMemory, SafetyCopy
    from greenstep.core.image import Image
    from greenstep.core.image.esp_tables import Partition
    from greenstep.core.image.granules import Remembered
    from greenstep.store.board import BoardSettings

    from .board import Board


def settings_of(board: Board, prompter: Prompter = NON_INTERACTIVE, secrets: Secrets | None = None) -> dict[str, Any]:
    """The dialect's own settings, checked; turns of a talk with their secrets, files as images. Raises UsageFault,
    ImageFault."""
    from greenstep.core.dialects.settings import preset, read_settings

    pairs: dict[str, Any] = preset(board.choice.first) if board.dialect.name == board.choice.first.dialect else {}
    for name, value in (board.settings.set or {}).items():
        if isinstance(value, tuple):
            value = tuple(_turn(entry, prompter, secrets or Secrets()) for entry in value)
        pairs[name] = _image(board, name, value) if isinstance(value, Path) else value
    return read_settings(board.dialect, pairs.items())


def _image(board: Board, name: str, file: Path) -> Image:
    """Raises UsageFault, ImageFault."""
    kinds = {setting.name: setting.kind for setting in board.dialect.spec.settings}
    if kinds.get(name) != "image":
        raise usage("setting", f"{board.dialect.name}: {name} is {str(file)!r}, a file", "it takes none")
    return load_image(file, board.choice.first.flash.start)


def _turn(entry: TalkEntry, prompter: Prompter, secrets: Secrets) -> TalkLine:
    sent = entry.send
    if entry.secret:
        sent = _secret(entry.secret, prompter) if sent is None else sent
        secrets.add(sent)
    return TalkLine(entry.expect, entry.within, sent, entry.secret)


def talk_lines(board: Board, prompter: Prompter, secrets: Secrets) -> tuple[TalkLine, ...]:
    """What is sent after the start, secrets filled in from the environment or asked for. Raises UsageFault."""
    return tuple(_turn(entry, prompter, secrets) for entry in board.settings.talk or ())


def _secret(name: str, prompter: Prompter) -> str:
    value = os.environ.get(name)
    return prompter.secret(name) if value is None else value


def make_job(
    purpose: Purpose,
    board: Board,
    prompter: Prompter = NON_INTERACTIVE,
    region: tuple[str, int | None, int | None] | None = None,
    images: dict[str, Image] | None = None,
    as_it_was: bool = False,
    writes_only: bool = False,
    keeps_open: bool = False,
    blank: bool = False,
) -> Job:
    """A job for a run; reads the image files, if `images` (by memory) are not given. `region` is what a backup or an
    erase is about, or a verify that all is `blank`. `as_it_was`: what is written was read from a chip. `writes_only`:
    an unlock lifts the protection against writing. `keeps_open`: the port stays open after a green end.

    Raises UsageFault, RefusedFault or PortFault.
    """
    from greenstep.core.engine.job import Job
    from greenstep.core.link import LineSettings

    settings = board.settings
    dialect, line = board.dialect, board.line
    if purpose not in ("upload", "verify") or blank:
        images = {}
    elif images is None:
        images = load_images(board)
    if purpose in ("upload", "verify") and not images and not blank:
        raise usage("no-image", f"no image to {purpose}", "name a file, or images in greenstep.toml")
    secrets = Secrets()
    return Job(
        purpose=purpose,
        choice=board.choice,
        dialect=dialect,
        settings=line,
        port=port_name(settings.port),
        port_serial=settings.port.serial if settings.port else "",
        hookup=board.hookup,
        board=board.name,
        images=images,
        options=write_options_of(board, prompter, secrets, as_it_was, writes_only, blank),
        region=region or ("flash", None, None),
        patience_s=settings.patience,
        expect=settings.expect or "",
        expect_within_s=settings.expect_within or 5.0,
        console=LineSettings(settings.console_baud or _console_rate(dialect, board, line.baud)),
        start=settings.start is not False,
        also_accepts=frozenset(settings.also_accept or ()),
        bootloader_bytes=settings.bootloader_bytes,
        talk=talk_lines(board, prompter, secrets) if purpose in ("upload", "start") else (),
        line_end=LINE_ENDS[settings.line_end or "crlf"],
        secrets=secrets,
        keeps_open=keeps_open,
        recall=partial(_recall, prompter),
        put_aside=_put_aside,
        pins=pins_of(board),
        rates=_rates(board, prompter) if board.fastest else None,
        own_hands=_own_hands(settings),
        end_patience_s=_end_patience_s(settings, prompter),
    )


def _console_rate(dialect: type[Dialect], board: Board, baud: int) -> int:
    """The program's, unless it is said: that at which the bootloader is first asked, if that follows the board's."""
    return baud if dialect.spec.asking.at_baud else dialect.first_baud(board.choice.first, baud)


def _own_hands(settings: BoardSettings) -> ByHandWords | None:
    own = settings.by_hand or {}
    return ByHandWords(own.get("load", ()), own.get("run", ())) if own else None


def _end_patience_s(settings: BoardSettings, prompter: Prompter) -> float:
    """How long to wait for hands at the end; 0 if nobody is there, or that was asked for."""
    from greenstep.core.engine.job import BY_HAND_PATIENCE_S

    if not (prompter.is_there if settings.wait is None else settings.wait):
        return 0.0
    return max(BY_HAND_PATIENCE_S, settings.patience or 0.0, settings.expect_within or 0.0)


def _rates(board: Board, prompter: Prompter) -> RateMemory:
    from .line_memory import LineMemory

    return LineMemory(board.name, board.choice.name, port_name(board.settings.port), prompter)


def _recall(prompter: Prompter, unique_id: str, chip: str) -> Remembered | None:
    from .run import recall

    return recall(prompter, unique_id, chip)


def _put_aside(image: Image, whose: str) -> SafetyCopy:
    from greenstep.store.aside import put_aside

    return put_aside(image, whose)


def write_options_of(
    board: Board,
    prompter: Prompter = NON_INTERACTIVE,
    secrets: Secrets | None = None,
    as_it_was: bool = False,
    writes_only: bool = False,
    blank: bool = False,
) -> WriteOptions:
    """Raises UsageFault."""
    settings = board.settings
    return WriteOptions(
        keep=() if as_it_was else settings.keep or (),
        even_if=frozenset(settings.even_if or ()),
        erase_all=settings.erase == "all",
        verify=settings.verify is not False,
        settings=settings_of(board, prompter, secrets),
        blank=blank,
        as_it_was=as_it_was,
        compare=CompareWith(settings.compare or "chip"),
        writes_only=writes_only,
    )


def load_images(board: Board, table: Sequence[Partition] = ()) -> dict[str, Image]:
    """The images by memory, several of one memory joined; `table` is the chip's partition table. Raises UsageFault,
    ImageFault, and TableWanted if a partition is named and no table is known."""
    part, files = board.choice.first, board.settings.images or ()

    def base_of(memory: str) -> int:
        try:
            return part.memory(memory).start
        except KeyError:
            has = " and ".join(m.name for m in part.memories)
            raise usage("no-such-memory", f"the {part.title} has no {memory} here; it has {has}") from None

    by_memory: dict[str, list[Image]] = {}
    for file, image in zip(files, load_all(files, base_of, table), strict=True):
        by_memory.setdefault(file.memory, []).append(memory_of(image, file.memory))
    images = {}
    for memory, loaded in by_memory.items():
        images[memory] = join(loaded)
    return dict(sorted(images.items(), key=lambda item: item[0] != "flash"))
