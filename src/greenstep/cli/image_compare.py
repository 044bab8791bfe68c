"""`greenstep image compare`"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from greenstep.core.image.versions import change, version_of
from greenstep.core.quantities import count, show_address, show_seconds, show_size, show_span
from greenstep.core.spans import Span
from greenstep.store.board import BoardSettings

from .completion import complete_target
from .figures import save_figure, saved_line
from .image_target import Chosen, chosen, looking_options
from .options import How, Whole
from .screen import say, say_all

if TYPE_CHECKING:
    from greenstep.core.chips.part import EraseUnit
    from greenstep.core.image import Image
    from greenstep.core.image.compare import ByteDifference, Comparison

DIFFERENT = 7
"""The exit status of a verify that finds a difference; it means the same here."""
_MOST_ROWS = 8
_MOST_RUNS = 8
_ROW_BYTES = 16
_HOW = {"differs": "differ", "only-a": "only in A", "only-b": "only in B"}


@click.command("compare", short_help="What differs between two.")
@click.argument(
    "target", nargs=-1, metavar="[BOARD] FILE [at ADDRESS] FILE [at ADDRESS]", shell_complete=complete_target
)
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="A figure: PNG, SVG.")
@click.option("--rows", type=Whole(0, None), default=_MOST_ROWS, metavar="NUMBER", help="Rows of bytes shown. [8]")
@looking_options
def compare_command(
    target: tuple[str, ...], save: Path | None, rows: int, flash_size: int | None, settings: BoardSettings, how: How
) -> int:
    """What differs between two images, byte by byte at their addresses; with a chip or a board, in which erase units,
    and how much of an upload that is. Exit status 0: the same; 7: different. Blank bytes that only one of them names
    make no difference.

    \b
    greenstep image compare scale-2.3.hex scale-2.4.hex --chip atmega328p
    greenstep image compare scale.hex read-back.bin at 0 --save differences.png
    """
    from greenstep.core.errors import usage
    from greenstep.core.image.compare import compare

    these = chosen(target, settings, how, flash_size, "two files")
    if len(these.images) != 2:
        named = ", ".join(image.name for _, image in these.images)
        raise usage("two-images", f"two images are compared; these are {len(these.images)}: {named}", "name two")
    (_, a), (_, b) = these.images
    found = compare(a, b, these.erased)
    units = _units(these, found)
    save_figure(save, "flash_figures:save_comparison", found, these.target.part.flash if these.target else None)
    if how.as_json:
        _as_json(found, units)
    else:
        say_all(_about(found))
        if not found.same:
            for line in (*_upload_lines(these, found, units), *_bytes_lines(found, rows)):
                say(line)
        saved_line(save)
    return 0 if found.same else DIFFERENT


def _about(found: Comparison) -> Iterator[str]:
    width = max(len(found.a.name), len(found.b.name))
    for letter, image in (("A", found.a), ("B", found.b)):
        pieces = f" in {len(image.pieces)} pieces" if len(image.pieces) > 1 else ""
        span = show_span(image.lowest, image.end - image.lowest)
        yield f" {letter}  {image.name:<{width}}   {count(image.size_bytes, 'byte')}{pieces}, {span}"
    yield ""
    if found.same:
        blank = found.blank_bytes
        yield " the same" + (f", except {count(blank, 'blank byte')} that only one of them names" if blank else "")
        return
    runs = [run for run in found.runs if not run.blank]
    differing = found.total("differs")
    words = [f"{count(differing, 'byte')} {'differs' if differing == 1 else 'differ'}"] if differing else []
    for how, letter in (("only-a", "A"), ("only-b", "B")):
        size = sum(run.size for run in runs if run.how == how)
        if size:
            words.append(f"{count(size, 'byte')} only in {letter}")
    before, after = version_of(found.a), version_of(found.b)
    if before.number and after.number:
        yield f" version {change(before, after) or before.number + ' both'}"
    yield f" different: {', '.join(words)}; {count(found.equal_bytes, 'byte')} equal"
    for run in runs[:_MOST_RUNS]:
        how = "differs" if run.how == "differs" and run.size == 1 else _HOW[run.how]
        where = show_span(run.start, run.size) if run.size > 1 else show_address(run.start)
        yield f"   {where}   {count(run.size, 'byte')} {how}"
    if len(runs) > _MOST_RUNS:
        yield f"   and {len(runs) - _MOST_RUNS:,} more places, up to {show_span(runs[-1].start, runs[-1].size)}"


def _units(these: Chosen, found: Comparison) -> tuple[EraseUnit, ...]:
    """The erase units of the flash that would differ; none if no chip is named."""
    if these.target is None or these.target.part.core == "any":
        return ()
    return these.target.part.flash.units_of(Span.of(run.start, run.size) for run in found.runs if not run.blank)


def _upload_lines(these: Chosen, found: Comparison, units: tuple[EraseUnit, ...]) -> Iterator[str]:
    from greenstep.core.image.fit import seconds_for, units_of

    if not units or these.target is None:
        return
    touched = units_of(these.target.part.flash, [found.b])
    size = sum(unit.size for unit in units)
    share = size / max(1, sum(unit.size for unit in touched))
    yield ""
    line = f" {len(units):,} of {count(len(touched), 'erase unit')} of B, {show_size(size)}: {share:.0%} of an upload"
    target, line_of_board = these.target, these.board.line
    times = seconds_for(target.part, target.dialect, found.b, units, line_of_board, target.settings)
    if times is not None:
        line += f", {show_seconds(times[0])} of {show_seconds(times[1])} at {line_of_board.baud} baud"
    yield line


def _bytes_lines(found: Comparison, most: int) -> Iterator[str]:
    """The first rows of sixteen bytes that differ, one below the other, with marks under the differing bytes."""
    shown: list[int] = []
    for run in found.runs:
        if run.blank or len(shown) >= most:
            continue
        first = run.start // _ROW_BYTES * _ROW_BYTES
        shown += [at for at in range(first, run.end, _ROW_BYTES) if at not in shown[-1:]][: most - len(shown)]
    digits = 4 if max(found.a.end, found.b.end) <= 0x10000 else 8
    for row in shown:
        yield ""
        marks = ""
        for at in range(row, row + _ROW_BYTES):
            marks += "^^ " if _byte(found.a, at) != _byte(found.b, at) else "   "
        yield f" {row:0{digits}X}  A  {_row(found.a, row)}"
        yield f" {'':{digits}}  B  {_row(found.b, row)}"
        yield f" {'':{digits}}     {marks}".rstrip()


def _byte(image: Image, at: int) -> int | None:
    return image.cut(at, 1, 0)[0] if image.covers(at, 1) else None


def _row(image: Image, row: int) -> str:
    values = [_byte(image, at) for at in range(row, row + _ROW_BYTES)]
    cells = " ".join("--" if value is None else f"{value:02X}" for value in values)
    text = "".join(" " if value is None else chr(value) if 32 <= value < 127 else "·" for value in values)
    return f"{cells}  {text}".rstrip()


def _as_json(found: Comparison, units: tuple[EraseUnit, ...]) -> None:
    from .json_view import json_line

    def about(image: Image) -> dict[str, Any]:
        return {"name": image.name, "bytes": image.size_bytes, "pieces": len(image.pieces)}

    def row(run: ByteDifference) -> dict[str, Any]:
        return {"address": run.start, "bytes": run.size, "how": run.how, "blank": run.blank}

    json_line(
        "comparison",
        versions=[version_of(image).number for image in (found.a, found.b)],
        a=about(found.a),
        b=about(found.b),
        same=found.same,
        equal_bytes=found.equal_bytes,
        runs=[row(run) for run in found.runs],
        erase_units=units,
    )
