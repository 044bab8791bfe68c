"""`greenstep image show`"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import click

from greenstep.core.image import ImageFault
from greenstep.core.quantities import count, show_address, show_size, show_span
from greenstep.store.board import BoardSettings

from .completion import complete_target
from .fault_view import finding_lines, wrapped
from .image_target import Chosen, chosen, fitting_options
from .options import How
from .screen import say, say_all

if TYPE_CHECKING:
    from greenstep.core.families.family import Origin
    from greenstep.core.image import Image
    from greenstep.core.image.content import Look
    from greenstep.core.image.esp_tables import BootHeader
    from greenstep.core.image.file_system import FileSystemFound
    from greenstep.core.image.fit import Fit

_MOST_TEXTS = 8
_MOST_FILES = 6
_MOST_PIECES = 12
_LONGEST_HEADER = 60
_COLUMN = 14
_WIDTH = 100
_MIXED = (
    (1.0, "almost all the same byte"),
    (7.2, ""),
    (7.6, "densely packed"),
    (9.0, "as compressed or encrypted data has"),
)


@click.command("show", short_help="What a file holds and looks like.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@fitting_options
def show_command(target: tuple[str, ...], flash_size: int | None, settings: BoardSettings, how: How) -> int:
    """What each file holds and what its content shows; with a chip or a board, whether it fits, what it
    touches, what stays free, and whether it would lock the chip. Exit status 5 where it would be refused.

    \b
    greenstep image show scale.hex
    greenstep image show scale.hex --chip atmega328p
    greenstep image show hive-scale
    """
    from greenstep.core.image.content import look_into
    from greenstep.core.image.fit import best_fit

    these = chosen(target, settings, how, flash_size)
    looks = [(image, look_into(image, these.erased)) for _, image in these.images]
    fits: list[tuple[str, Fit]] = []
    if these.target is not None:
        chip = these.target
        fits = [
            (name, best_fit(these.candidates, chip.dialect, images, chip.settings))
            for name, images in _uploads(these)
        ]
    if how.as_json:
        _as_json(these, looks, fits)
    else:
        for number, (image, look) in enumerate(looks):
            say_all([*([""] if number else []), *_about(image, look)])
        for name, fit in fits:
            say("", *_fit_lines(these, fit, name))
    return 5 if any(fit.refusals for _, fit in fits) else 0


def _uploads(these: Chosen) -> list[tuple[str, dict[str, Image]]]:
    """What would be uploaded together: all of them, unnamed; or, if they disagree, as two builds do, each
    separately."""
    from greenstep.core.image import ImageFault

    try:
        return [("", these.by_memory())]
    except ImageFault:
        return [(image.name, {memory: image}) for memory, image in these.images]


def _row(label: str, text: str) -> list[str]:
    return wrapped(f" {label:<{_COLUMN - 1}}{text}", _WIDTH, _COLUMN)


def _about(image: Image, look: Look) -> Iterator[str]:
    from greenstep.core.image.file_system import file_systems_in

    yield f"{image.name}   {image.format}" + (f" for {image.machine}" if image.machine else "")
    yield from _pieces(image)
    if image.start is not None:
        yield from _row("starts", f"at {show_address(image.start)}")
    if image.header:
        cut = len(image.header) > _LONGEST_HEADER
        yield from _row("header", f'"{image.header[:_LONGEST_HEADER]}{"…" if cut else ""}"')
    digest = look.digest
    gaps = image.end - image.lowest > image.size_bytes
    how = "   (gaps left out)" if digest.gaps_left_out else f"   (gaps as {digest.fill:02X})" if gaps else ""
    yield from _row("crc32", f"{digest.crc32:08X}{how}")
    yield from _row("sha256", digest.sha256)
    for origin in look.origins:
        label, text = describe_origin(origin)
        yield from _row(label, text)
    for one in file_systems_in(image):
        yield from _row("files", _files(image, one))
    if image.sections:
        yield from _row("sections", ", ".join(f"{s.name} {show_span(s.address, s.size)}" for s in image.sections))
    for number, found in enumerate(look.texts[:_MOST_TEXTS]):
        yield from _row("" if number else "texts", f'{show_address(found.address)}  "{found.text}"')
    if len(look.texts) > _MOST_TEXTS:
        more = len(look.texts) - _MOST_TEXTS
        yield from _row("", f"and {more}{' or more' if len(look.texts) == 100 else ''} like it")
    mixed = next(words for limit, words in _MIXED if look.entropy < limit)
    yield from _row("blank", f"{look.blank_share:.0%} of its lines of 16 bytes")
    yield from _row("entropy", f"{look.entropy:.1f} bits a byte" + (f": {mixed}" if mixed else ""))
    for note in image.notes:
        yield from _row("note", note)


def _files(image: Image, one: FileSystemFound) -> str:
    """What a file system in the image holds, as far as it can be read."""
    from greenstep.core.image.file_system import unpack

    at = show_address(one.address)
    try:
        held = unpack(image.name, one.kind, one.data)
    except ImageFault as fault:
        return f"{at}  {fault.found}"
    names = ", ".join(kept.path for kept in held[:_MOST_FILES]) + (", …" if len(held) > _MOST_FILES else "")
    size = sum(len(kept.data) for kept in held)
    return f"{at}  {one.kind} of {show_size(one.size)}: {count(len(held), 'file')}, {size:,} bytes: {names}"


def _pieces(image: Image) -> Iterator[str]:
    if len(image.pieces) == 1:
        yield from _row("holds", f"{count(image.size_bytes, 'byte')}, {show_span(image.lowest, image.size_bytes)}")
        return
    yield from _row("holds", f"{count(image.size_bytes, 'byte')} in {count(len(image.pieces), 'piece')}")
    for piece in image.pieces[:_MOST_PIECES]:
        yield from _row("", f"{show_span(piece.address, len(piece.data))}   {count(len(piece.data), 'byte')}")
    if len(image.pieces) > _MOST_PIECES:
        last = image.pieces[-1]
        yield from _row("", f"and {len(image.pieces) - _MOST_PIECES} more, up to {show_address(last.end - 1)}")


def describe_origin(origin: Origin) -> tuple[str, str]:
    """A label, and in words what begins there."""
    at = show_address(origin.address)
    if origin.header is not None:
        return "boot header", f"{at}  {_header_words(origin.header)}"
    if origin.partitions:
        rows = ", ".join(f"{row.label} {show_span(row.offset, row.size)}" for row in origin.partitions)
        return "partitions", f"{at}  {rows}"
    entry = show_address(origin.entry) if origin.entry is not None else ""
    words = f" (word {show_address(origin.entry // 2)})" if origin.entry is not None else ""
    if origin.family == "cortex-m":
        text = f"{at}  Cortex-M: stack {origin.stack:08X} in RAM, reset {entry}"
        text += " inside" if origin.base is None else f" NOT inside: it belongs at {show_address(origin.base)}"
    elif origin.family == "avr":
        text = f"{at}  AVR: {origin.jump} to {entry}{words}"
    elif origin.family == "pic18":
        return "vectors", f"{at}  PIC18: GOTO {entry}{words}"
    elif origin.family == "pic16":
        return "vectors", f"{at}  PIC16: GOTO {entry}{words}"
    else:
        return "vectors", f"{at}  ARM7: eight instructions"
    text += f"; {origin.vectors} vectors"
    if origin.unused_to is not None:
        text += f", {origin.unused} of them to {show_address(origin.unused_to)}"
    return "vectors", text


def _header_words(header: BootHeader) -> str:
    from greenstep.core.chips.catalogue import Catalogue
    from greenstep.core.image.esp_tables import MODES, SIZES, SIZES_8266, name_of, speeds_of

    chip = "ESP8266"
    if header.chip_id is not None:
        part = Catalogue.load().first("esp-rom", lambda part: part.extra.get("chip_id") == header.chip_id)
        chip = part.title if part else f"chip id {header.chip_id}"
    size = name_of(header.size, SIZES_8266 if header.chip_id is None else SIZES)
    sums = "checksum right" if header.checksum_right else "checksum WRONG"
    if header.hashed:
        sums += ", SHA-256 right" if header.digest_right else ", SHA-256 WRONG"
    segments = count(len(header.segments), "segment")
    speed = name_of(header.speed, speeds_of(header.chip_id))
    return (
        f"{chip}, {name_of(header.mode, MODES)}, {size}, {speed} MHz; {segments}, "
        f"{count(header.length, 'byte')}, entry {header.entry:08X}; {sums}"
    )


def _fit_lines(these: Chosen, fit: Fit, name: str) -> Iterator[str]:
    from greenstep.core.image.fit import is_read_back

    part = fit.part
    up_to = "" if part.size_known and len(these.candidates) == 1 else "up to "
    room = "" if part.core == "any" else f", {up_to}{show_size(part.flash.size)} {part.holds}"
    yield f"{f'{name} ' if name else ''}on {these.board.name + ', ' if these.board.name else ''}{part.title}{room}"
    if fit.against:
        yield from _row("fits", f"no: {fit.against[0].cause}")
        yield from finding_lines(fit.against[0], _WIDTH)
        for finding in fit.against[1:]:
            yield from _row("", f"also: {finding.cause}")
    elif is_read_back(part, dict(these.images)):
        yield from _row("fits", "it was read from such a chip, bootloader and all: greenstep restore writes it back")
    else:
        yield from _row("fits", "yes")
    if part.core != "any" and fit.touched:
        units = sum(number for number, _ in part.flash.layout)
        size = show_size(sum(unit.size for unit in fit.touched))
        yield from _row("touches", f"{len(fit.touched):,} of {count(units, 'erase unit')}, {size}")
        free = sum(size for _, size in fit.free)
        largest = f": {show_span(*fit.free[0])}" if len(fit.free) == 1 else ""
        if len(fit.free) > 1:
            largest = f" in {len(fit.free)} runs, the largest {show_span(*fit.free[0])}"
        yield from _row("free", show_size(free) + largest if free else "nothing")
    yield from _row("would lock", fit.locks.cause if fit.locks else "no")
    if part.core == "pic18" and "flash" in (images := dict(these.images)):
        from greenstep.core.families.pic18_config import in_words

        for what, how in in_words(images["flash"], part):
            yield from _row("config", f"{what}: {how}")
    for note in fit.plan.notes if fit.plan else ():
        yield from _row("note", note)


def _as_json(these: Chosen, looks: list[tuple[Image, Look]], fits: list[tuple[str, Fit]]) -> None:
    from greenstep.core.image.file_system import file_systems_in
    from greenstep.core.spans import Span

    from .json_view import json_line, plain

    for image, look in looks:
        json_line(
            "image",
            name=image.name,
            format=image.format,
            machine=image.machine,
            bytes=image.size_bytes,
            pieces=image.pieces,
            start=image.start,
            header=image.header,
            sections=image.sections,
            notes=image.notes,
            file_systems=[
                {"address": one.address, "kind": one.kind, "bytes": len(one.data)} for one in file_systems_in(image)
            ],
            **plain(look),
        )
    for name, fit in fits:
        json_line(
            "fit",
            image=name or " + ".join(image.name for image, _ in looks),
            part=fit.part.name,
            board=these.board.name,
            fits=not fit.against,
            locks=fit.locks is not None,
            refusals=fit.refusals,
            touched=fit.touched,
            free=[Span.of(*run) for run in fit.free],
            notes=fit.plan.notes if fit.plan else (),
        )
