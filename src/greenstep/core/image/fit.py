"""An image checked against a part before any board is asked: does it fit, what does it touch, what stays free, would
it lock the chip? The checks are those of an upload."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from ..chips.part import EraseUnit, Memory, Part
from ..dialects.dialect import Dialect
from ..errors import Finding, RefusedFault
from ..frozen import frozen
from ..link import LineSettings
from ..plan.layout import make_plan
from ..plan.model import Plan
from ..plan.write_options import OVERRIDES, WriteOptions
from . import Image, Piece, joined
from .edit import cut_out

_LOCKING = "would-lock"
_PAST_LOCKING = frozenset(("protection", "lock-out"))


@frozen
class Fit:
    """`refusals` are what an upload would refuse; `plan` is what it would do if it got past them. `touched` are the
    erase units that hold any of the image, `free` the runs (address, size) of program space that stay blank, largest
    first."""

    part: Part
    plan: Plan | None
    refusals: tuple[Finding, ...]
    touched: tuple[EraseUnit, ...]
    free: tuple[tuple[int, int], ...]

    @property
    def locks(self) -> Finding | None:
        """Why it would lock the chip; None if it would not."""
        return next((finding for finding in self.refusals if finding.key == _LOCKING), None)

    @property
    def against(self) -> tuple[Finding, ...]:
        """The refusals except those for locking."""
        return tuple(finding for finding in self.refusals if finding.key != _LOCKING)


def hold_against(
    part: Part, dialect: type[Dialect], images: Mapping[str, Image], settings: Mapping[str, Any] | None = None
) -> Fit:
    """The verdict for images by memory name. Every refusal that a person may override is overridden, to find the
    next."""
    even_if: frozenset[str] = frozenset()
    whole = is_read_back(part, images)
    refusals: list[Finding] = []
    plan = None
    while plan is None:
        try:
            plan = make_plan(
                part, dialect, dict(images), WriteOptions(even_if=even_if, settings=settings or {}, as_it_was=whole)
            )
        except RefusedFault as refusal:
            finding = refusal.findings[0]
            refusals.append(finding)
            more = _PAST_LOCKING if finding.key == _LOCKING else frozenset((finding.key,))
            if not more <= frozenset(OVERRIDES) or more <= even_if:
                break
            even_if |= more
    image = images.get("flash")
    if whole and image is not None:
        image = without_blanks(image, part.flash)
    touched = units_of(part.flash, [image] if image else [])
    return Fit(part, plan, tuple(refusals), touched, free_runs(part.flash, [image] if image else []))


def is_read_back(part: Part, images: Mapping[str, Image]) -> bool:
    """Whether the flash image was read from a chip as a whole: it holds every byte, the resident bootloader's too."""
    image, flash = images.get("flash"), part.flash
    resident = bool(flash.reserved_top or flash.reserved_bottom)
    return image is not None and resident and image.lowest == flash.start and image.covers(flash.start, flash.size)


def without_blanks(image: Image, memory: Memory) -> Image:
    """The image without the erase units of a memory that are blank in it, or nothing else if all are."""
    blank = bytes([memory.erased])
    kept: list[Piece] = []
    for unit in memory.units_touched(image.lowest, image.end - image.lowest):
        pieces = cut_out(image, unit.address, unit.end).pieces
        if any(piece.data.strip(blank) for piece in pieces):
            kept += pieces
    return replace(image, pieces=joined(kept)) if kept else image


def units_of(memory: Memory, images: Sequence[Image]) -> tuple[EraseUnit, ...]:
    """The erase units that hold any of the images, in order."""
    seen: dict[int, EraseUnit] = {}
    for image in images:
        for piece in image.pieces:
            seen.update((unit.number, unit) for unit in memory.units_touched(piece.address, len(piece.data)))
    return tuple(seen[number] for number in sorted(seen))


def free_runs(memory: Memory, images: Sequence[Image]) -> tuple[tuple[int, int], ...]:
    """Runs (address, size) of program space in which no erase unit is touched, largest first."""
    runs = []
    at = memory.usable_start
    for unit in units_of(memory, images):
        if unit.address > at:
            runs.append((at, min(unit.address, memory.usable_end) - at))
        at = max(at, unit.end)
    if at < memory.usable_end:
        runs.append((at, memory.usable_end - at))
    return tuple(sorted((run for run in runs if run[1] > 0), key=lambda run: -run[1]))


def best_fit(
    parts: Sequence[Part], dialect: type[Dialect], images: Mapping[str, Image], settings: Mapping[str, Any]
) -> Fit:
    """On the first of the parts that accepts the images; else on the first, the likeliest."""
    fits = (hold_against(part, dialect, images, settings) for part in parts)
    likeliest = next(fits)
    return likeliest if not likeliest.against else next((fit for fit in fits if not fit.against), likeliest)


def seconds_for(
    part: Part,
    dialect: type[Dialect],
    image: Image,
    units: Sequence[EraseUnit],
    line: LineSettings,
    settings: Mapping[str, Any],
) -> tuple[float, float] | None:
    """Seconds to upload these units of an image, and all of it, over a line; None if an upload would be refused."""
    from ..plan.layout import price

    pieces = tuple(piece for unit in units for piece in cut_out(image, unit.address, unit.end).pieces)
    options = WriteOptions(blank=True, settings=settings)

    def seconds(of: Image) -> float:
        return price(make_plan(part, dialect, {"flash": of}, options), dialect).seconds(line)

    try:
        return seconds(Image(image.name, pieces)) if pieces else 0.0, seconds(image)
    except RefusedFault:
        return None
