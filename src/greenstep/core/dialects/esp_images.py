"""What an ESP's images are checked against before anything is written: boot header and partition table."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from typing import Any

from ..chips.catalogue import Catalogue
from ..chips.part import Part
from ..errors import RefusedFault
from ..image import Image
from ..image.esp_tables import (
    APPLICATION,
    MAGIC,
    MODES,
    SIZES,
    SIZES_8266,
    SPEED_AS_IT_IS,
    USUAL_PLACE,
    BootHeader,
    HeaderError,
    Partition,
    faults_in,
    name_of,
    read_header,
    read_table,
    rewritten,
    size_bytes,
    speeds_of,
)
from ..quantities import show_address, show_size, show_span

OVERWRITES = "overwrites-settings"


def fit_headers(
    part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str], notes: list[str]
) -> Image:
    """The image with the header at the boot address checked, and rewritten on request. Raises RefusedFault."""
    extended, boot = bool(part.extra["extended"]), int(part.extra["boot"])
    _refuse_lone_header(part, image, boot, even_if)
    if not image.covers(boot, 16):
        notes.append(f"no image at {show_address(boot)}, where the {part.title} begins: what is there is not judged")
        return image
    piece = next(p for p in image.pieces if p.address <= boot < p.end)
    data = piece.data[boot - piece.address :]
    _refuse_other_kind(part, image, data, extended, even_if)
    try:
        header = read_header(data, extended)
    except HeaderError as error:
        _refuse(even_if, f"{image.name} would not run: no boot image at {show_address(boot)}", (str(error),))
        notes.append(f"no boot image at {show_address(boot)}: written anyway")
        return image
    _judge(part, image, header, even_if)
    wanted = _wanted(part, settings, extended)
    if any(value is not None for value in wanted):
        data = rewritten(data, extended, *wanted)
        pieces = tuple(replace(p, data=p.data[: boot - p.address] + data) if p is piece else p for p in image.pieces)
        image = replace(image, pieces=pieces)
        now = read_header(data, extended)
        notes.append(
            f"boot header rewritten: {_described(part, now, extended)}; "
            f"its checksum{' and SHA-256' * now.hashed} recomputed"
        )
        header = now
    else:
        notes.append(f"boot header: {_described(part, header, extended)}")
    sizes = SIZES if extended else SIZES_8266
    named = name_of(header.size, sizes)
    if named in sizes and part.size_known and size_bytes(named) > part.flash.size:
        _refuse(
            even_if,
            f"{image.name} is for more flash than this chip has",
            (f"its header says {named}; the flash has {show_size(part.flash.size)}",),
            "correct the header on the way: --set header-size=chip",
        )
    elif named in sizes and part.size_known and size_bytes(named) < part.flash.size:
        notes.append(
            f"the boot header says {named} of flash, the chip has {show_size(part.flash.size)}: "
            "--set header-size=chip corrects it"
        )
    return image


def _refuse_lone_header(part: Part, image: Image, boot: int, even_if: frozenset[str]) -> None:
    """A boot image at 0 of a chip that boots from elsewhere was given no address. Raises RefusedFault."""
    if boot and image.covers(0, 8) and image.cut(0, 1, 0xFF) == b"\xe9" and image.cut(boot, 1, 0xFF) != b"\xe9":
        _refuse(
            even_if,
            f"{image.name} would not run: it lies at 0, and the {part.title} begins at {show_address(boot)}",
            ("it begins with E9, as images for other addresses do",),
            f"give it its address: FILE at {boot:#x}, or an application's: FILE at 0x10000",
        )


_OTHER_BOOT = 0x1000
"""Where an ESP32 begins, in a file of the whole flash."""


def _refuse_other_kind(part: Part, image: Image, data: bytes, extended: bool, even_if: frozenset[str]) -> None:
    """An ESP8266's image for a later chip, or the other way round: their headers differ, so that either looks damaged
    to the other. Raises RefusedFault."""
    if _reads(data, extended) is not None:
        return
    header = _reads(data, not extended)
    if header is None and not extended and image.covers(_OTHER_BOOT, 24):
        piece = next(p for p in image.pieces if p.address <= _OTHER_BOOT < p.end)
        header = _reads(piece.data[_OTHER_BOOT - piece.address :], True)
    if header is None:
        return
    whose = "the ESP8266"
    if not extended:
        known = Catalogue.load().first("esp-rom", lambda one: one.extra.get("chip_id") == header.chip_id)
        whose = f"the {known.title}" if known is not None else f"a chip with id {header.chip_id}"
    _refuse(
        even_if,
        f"{image.name} is for another chip: for {whose}, and not the {part.title}",
        ("it is whole, by its own checksum",),
        "choose the file for this chip, or say which chip it is: --chip",
    )


def _reads(data: bytes, extended: bool) -> BootHeader | None:
    """The header of an image that is whole; None if it is none of that kind."""
    try:
        header = read_header(data, extended)
    except HeaderError:
        return None
    return header if header.checksum_right and header.digest_right else None


def _judge(part: Part, image: Image, header: BootHeader, even_if: frozenset[str]) -> None:
    wanted = part.extra.get("chip_id")
    if header.chip_id is not None and wanted is not None and header.chip_id != wanted:
        _refuse(
            even_if,
            f"{image.name} is for another chip",
            (f"chip id {header.chip_id}; the {part.title} has {wanted}",),
        )
    if header.mode not in MODES.values():
        _refuse(
            even_if,
            f"{image.name} has no header for this chip: SPI mode {header.mode}",
            (f"there are {_listed(MODES)}",),
        )
    speeds = speeds_of(wanted)
    if header.speed not in speeds.values():
        cause = f"{image.name} has no header for this chip: speed {header.speed:X}"
        _refuse(even_if, cause, (f"there are {_listed(speeds)} MHz",))
    if not header.checksum_right:
        _refuse(even_if, f"{image.name} is damaged: its checksum is wrong", (f"at {header.checksum_at:X}",))
    if not header.digest_right:
        _refuse(even_if, f"{image.name} is damaged: its SHA-256 is wrong", (f"behind {header.checksum_at:X}",))


def _listed(names: dict[str, int]) -> str:
    return ", ".join(names)


def _refuse(even_if: frozenset[str], cause: str, evidence: tuple[str, ...], remedy: str = "") -> None:
    if "vectors" in even_if:
        return
    tries = (
        remedy or "is it the image for this chip, at the right address?",
        "if you know better: --even-if vectors",
    )
    raise RefusedFault.of("vectors", cause, evidence, tries)


def _wanted(part: Part, settings: Mapping[str, Any], extended: bool) -> tuple[int | None, int | None, int | None]:
    """SPI mode, size and speed to put into the header; None if it stays as it is."""
    mode, size, speed = (str(settings.get(f"header-{name}", "same")) for name in ("mode", "size", "speed"))
    sizes = SIZES if extended else SIZES_8266
    if size == "chip":
        found = {size_bytes(name): name for name in sizes}
        size = found.get(part.flash.size, "same") if part.size_known else "same"
    if size not in (*sizes, "same"):
        raise RefusedFault.of(
            "setting", f"the {part.title}'s header has no size {size}", (), (f"there are {', '.join(sizes)}",)
        )
    chip_id = part.extra.get("chip_id")
    speeds = {} if chip_id in SPEED_AS_IT_IS else speeds_of(chip_id)
    if speed not in (*speeds, "same"):
        there = (
            f"there are {', '.join(speeds)} MHz"
            if speeds
            else "leave it unchanged: it is not known which of them its ROM starts from"
        )
        raise RefusedFault.of("setting", f"the {part.title}'s header has no speed {speed}", (), (there,))
    return MODES.get(mode), sizes.get(size), speeds.get(speed)


def _described(part: Part, header: BootHeader, extended: bool) -> str:
    size = name_of(header.size, SIZES if extended else SIZES_8266)
    speeds = speeds_of(part.extra.get("chip_id"))
    return f"{name_of(header.mode, MODES)}, {size}, {name_of(header.speed, speeds)} MHz"


def judge_partitions(part: Part, image: Image, even_if: frozenset[str], notes: list[str]) -> None:
    """Describe and check the partition table; note settings that will be overwritten. Raises RefusedFault."""
    if not image.covers(USUAL_PLACE, 32):
        return
    data = image.cut(USUAL_PLACE, 0xC00, 0xFF)
    rows = read_table(data)
    if not rows:
        return
    faults = faults_in(data, rows, part.flash.size)
    if faults:
        _refuse(even_if, f"the partition table of {image.name} is wrong", tuple(faults[:3]))
    if image.end <= part.flash.end:  # else it fits nowhere
        judge_places(image, rows, even_if, "its partition table")
    notes.append("partitions: " + ", ".join(f"{row.label} {show_span(row.offset, row.size)}" for row in rows))
    overwritten = [row for row in rows if row.holds_settings and image.touches(row.offset, row.size)]
    if overwritten and "settings" not in even_if:
        raise RefusedFault.of(
            OVERWRITES,
            f"{image.name} would overwrite what the program has stored on the chip",
            tuple(f"{row.label}, {show_span(row.offset, row.size)}, by its partition table" for row in overwritten),
            (
                *(f"leave it alone: --keep {row.offset:#x}:{row.size:#x}" for row in overwritten),
                f"save it first: greenstep backup --from {overwritten[0].offset:#x} --size {overwritten[0].size:#x}",
                "overwrite it: --even-if settings",
            ),
        )
    notes += [f"stored settings are overwritten: {row.label}" for row in overwritten]


def judge_places(image: Image, rows: Sequence[Partition], even_if: frozenset[str], said_by: str) -> None:
    """No image may run past the end of its partition, whether it begins in one or is an application inside a merged
    file. Raises RefusedFault."""
    for row in rows:
        ends = [piece.end for piece in image.pieces if row.offset <= piece.address < row.end]
        if row.kind == APPLICATION and image.covers(row.offset, 24):
            with suppress(HeaderError):
                head = next(p for p in image.pieces if p.address <= row.offset < p.end)
                ends.append(row.offset + read_header(head.data[row.offset - head.address :], True).length)
        end = max(ends, default=0)
        if end > row.end:
            _refuse(
                even_if,
                f"{image.name} is larger than its partition, {row.label}",
                (
                    f"it reaches {show_address(end - 1)}",
                    f"by {said_by} {row.label} is {show_span(row.offset, row.size)}",
                    *(f"{show_span(n.offset, n.size)} is {n.label}'s" for n in rows if row.end <= n.offset < end),
                ),
                "build it smaller, or with another partition table",
            )


def limit_told(
    cut: Callable[[int, int, int], bytes], covers: Callable[[int, int], bool], boot: int, extended: bool
) -> int | None:
    """How large the flash is by the boot header (Espressif's "Firmware Image Format": byte 3, high half), or at least
    by the partition table, in bytes; None if neither is there. `cut` and `covers` as those of an image."""
    if covers(boot, 4):
        head = cut(boot, 4, 0xFF)
        name = name_of(head[3] >> 4, SIZES if extended else SIZES_8266)
        if head[0] == MAGIC and name in (SIZES if extended else SIZES_8266):
            return size_bytes(name)
    rows = read_table(cut(USUAL_PLACE, 0xC00, 0xFF)) if covers(USUAL_PLACE, 32) else []
    return max((row.end for row in rows), default=None)
