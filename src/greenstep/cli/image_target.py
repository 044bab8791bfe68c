"""From words and options to images and, if one is named, the chip they are for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import click

from greenstep.core.errors import usage
from greenstep.core.frozen import frozen
from greenstep.core.image import Image, join
from greenstep.core.image.avr_memories import memory_of
from greenstep.core.plan.checks import memory_named
from greenstep.core.plan.write_options import Keep
from greenstep.store.board import BoardSettings
from greenstep.store.placing import load_all
from greenstep.work.board import Board
from greenstep.work.jobs import settings_of

from .options import How, Number, chip_options, general_options, room_options, set_option
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.chips.catalogue import Choice
    from greenstep.core.chips.part import Part
    from greenstep.core.dialects.dialect import Dialect


@frozen
class Target:
    """What the images are for; `settings` are the dialect's own."""

    part: Part
    dialect: type[Dialect]
    settings: Mapping[str, Any]


@frozen
class Chosen:
    """`images` are (memory, image), one per file. `target` is None if no chip is named; `candidates` are the parts
    that the chip's name may mean, the target being the likeliest."""

    board: Board
    images: tuple[tuple[str, Image], ...]
    target: Target | None = None
    candidates: tuple[Part, ...] = ()

    @property
    def keep(self) -> tuple[Keep, ...]:
        return self.board.settings.keep or ()

    @property
    def erased(self) -> int:
        """The value of an erased byte."""
        return self.target.part.flash.erased if self.target else 0xFF

    def wanted_target(self) -> Target:
        """The target. Raises UsageFault if no chip is named."""
        if self.target is None:
            raise usage("no-chip", "for which chip?", "--chip NAME")
        return self.target

    def by_memory(self) -> dict[str, Image]:
        """The images of each memory joined. Raises ImageFault if they disagree."""
        found: dict[str, list[Image]] = {}
        for memory, image in self.images:
            found.setdefault(memory, []).append(image)
        return {memory: join(images) for memory, images in found.items()}


def looking_options(command: Callable[..., int]) -> Callable[..., int]:
    """A chip, as data; no port."""
    return chip_options(flash_size_option(general_options(command)))


flash_size_option: Callable[[Callable[..., int]], Callable[..., int]] = click.option(
    "--flash-size",
    type=Number(),
    metavar="SIZE",
    help="Flash size of this chip, if its name leaves it open: 4M. [by the boot header, else the largest]",
)


def fitting_options(command: Callable[..., int]) -> Callable[..., int]:
    """The same, with the options of an upload that matter here."""
    return looking_options(set_option(room_options(command)))


def chosen(
    words: tuple[str, ...], settings: BoardSettings, how: How, flash_size: int | None = None, wanted: str = "a file"
) -> Chosen:
    """What the words and options name; reads the files. Raises UsageFault, ImageFault."""
    board = settle(words, settings, how)
    files = board.settings.images or ()
    if not files:
        raise usage("no-image", f"no image: name {wanted}", "greenstep image show FILE, or a board of greenstep.toml")
    if not board.settings.chip:
        loaded = load_all(files, lambda memory: 0)
        return Chosen(board, tuple((file.memory, image) for file, image in zip(files, loaded, strict=True)))
    choice = board.choice
    loaded = load_all(files, lambda memory: memory_named(choice.first, memory).start)
    images = tuple((file.memory, memory_of(image, file.memory)) for file, image in zip(files, loaded, strict=True))
    likely = _likely(choice, images)
    parts = tuple(
        _sized(part, images, flash_size).with_loader_room(board.settings.bootloader_bytes)
        for part in (likely, *(part for part in choice.parts if part is not likely))
        if part is likely or flash_size is None or flash_size <= part.flash.size
    )
    return Chosen(board, images, Target(parts[0], board.dialect, settings_of(board)), parts)


def chosen_or_chip(words: tuple[str, ...], settings: BoardSettings, how: How, flash_size: int | None) -> Chosen:
    """The same if a chip is needed and no file need be. Raises UsageFault, ImageFault."""
    board = settle(words, settings, how)
    if board.settings.images:
        return chosen(words, settings, how, flash_size)
    part = _sized(board.choice.first, (), flash_size)
    return Chosen(board, (), Target(part, board.dialect, {}), (part,))


def _likely(choice: Choice, images: tuple[tuple[str, Image], ...]) -> Part:
    """Of the parts that a name may mean, the first whose flash can hold the images; else the first."""
    flash = [image for memory, image in images if memory == "flash"]
    for part in choice.parts:
        if all(part.flash.start <= image.lowest and image.end <= part.flash.usable_end for image in flash):
            return part
    return choice.first


def _sized(part: Part, images: tuple[tuple[str, Image], ...], flash_bytes: int | None) -> Part:
    """The part with the flash size that is given, or that a boot header states. Raises UsageFault."""
    if flash_bytes is None and not part.size_known:
        from greenstep.core.families.esp import flash_bytes_said

        flash_bytes = next((size for _, image in images if (size := flash_bytes_said(image))), None)
        if flash_bytes is not None and flash_bytes > part.flash.size:
            flash_bytes = None
    if flash_bytes is None:
        return part
    try:
        return part.with_memory(part.flash.resized(flash_bytes))
    except ValueError as error:
        raise usage("flash-size", f"--flash-size: {error}", f"the {part.title} has at most that") from None
