"""`greenstep image dump`"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import click

from greenstep.core.quantities import count, show_address, show_span
from greenstep.store.board import BoardSettings

from .completion import complete_target
from .image_target import Chosen, chosen, looking_options
from .options import How, region_options
from .screen import say

if TYPE_CHECKING:
    from greenstep.core.image import Image
    from greenstep.core.image.listing import Fold, ListingRow

_ROW_BYTES = 16


@click.command("dump", short_help="Bytes in hexadecimal and as text.")
@click.argument("target", nargs=-1, metavar="[BOARD] FILE [at ADDRESS]", shell_complete=complete_target)
@region_options
@click.option("--bytes", "as_bytes", is_flag=True, help="Bytes, not instruction words, even if a chip is named.")
@click.option("--all", "everything", is_flag=True, help="Blank rows too.")
@looking_options
def dump_command(
    target: tuple[str, ...],
    region_from: int | None,
    region_size: int | None,
    as_bytes: bool,
    everything: bool,
    flash_size: int | None,
    settings: BoardSettings,
    how: How,
) -> int:
    """Bytes with their addresses, blank rows folded. With a chip its instruction words, each with its high byte
    first; for cores that count words the address in words too.

    \b
    greenstep image dump scale.hex --from 0x68 --size 64
    greenstep image dump scale.hex --chip atmega328p
    """
    these = chosen(target, settings, how, flash_size)
    image = _single(these)
    start = image.lowest if region_from is None else region_from
    end = image.end if region_size is None else start + region_size
    if not image.touches(start, end - start):
        from greenstep.core.errors import usage

        spans = ", ".join(show_span(p.address, len(p.data)) for p in image.pieces[:4])
        more = " and more" if len(image.pieces) > 4 else ""
        raise usage(
            "outside", f"{image.name} holds nothing in {show_span(start, end - start)}", f"it holds {spans}{more}"
        )
    core = these.target.part.core if these.target is not None else ""
    dumped(image, core, as_bytes, everything, how.as_json, (start, end))
    if core == "pic18" and these.target is not None and not how.as_json:
        from greenstep.core.families.pic18_config import START, in_words

        if start <= START < end:
            say("", *(f" {what}: {how_set}" for what, how_set in in_words(image, these.target.part)))
    return 0


def dumped(
    image: Image, core: str, as_bytes: bool, everything: bool, as_json: bool, place: tuple[int, int] | None = None
) -> None:
    """Show the bytes of an image, or of a place (from, to before) of it; `core` is that of the chip, if it is
    known."""
    from greenstep.core.families import FAMILIES
    from greenstep.core.image.listing import rows_of

    start, end = place or (image.lowest, image.end)
    rows = rows_of(image, start, end, () if everything else (0xFF, 0x00))
    if as_json:
        _as_json(image.name, rows)
        return
    family = FAMILIES.get(core)
    word = 1 if as_bytes or family is None else family.word_bytes
    digits = 4 if image.end <= 0x10000 else 8
    for row in rows:
        say(_line(row, digits, word, family is not None and family.counts_words))


def _single(these: Chosen) -> Any:
    """The one image to show: the flash ones of several, joined. Raises ImageFault if they disagree."""
    images = these.by_memory()
    return images.get("flash") or next(iter(images.values()))


def _line(row: ListingRow | Fold, digits: int, word: int, counts_words: bool) -> str:
    from greenstep.core.image.listing import ListingRow

    place = f"{row.address:0{digits}X}"
    if counts_words:
        place += f"  w {row.address // 2:0{digits}X}"
    if not isinstance(row, ListingRow):
        what = "nothing" if row.value is None else f"{row.value:02X}"
        last = show_address(row.address + row.size - 1)
        return f" {'':{len(place)}}  {what}: {count(row.size, 'byte')}, to {last}"
    lead = row.address % _ROW_BYTES
    text = "".join(chr(byte) if 32 <= byte < 127 else "·" for byte in row.data)
    cells = " ".join(_cells(row.data, word, lead))
    width = _width(word)
    return f" {place}  {cells:<{width}}  {' ' * lead}{text}"


def _cells(data: bytes, word: int, lead: int) -> Iterator[str]:
    """Words with their high byte first; an odd rest is shown by the byte. `lead` places stay empty."""
    if word == 1 or lead % word:
        yield from ["  "] * lead
        yield from (f"{byte:02X}" for byte in data)
        return
    yield from [" " * 2 * word] * (lead // word)
    for at in range(0, len(data), word):
        cell = data[at : at + word]
        if len(cell) == word:
            yield f"{int.from_bytes(cell, 'little'):0{2 * word}X}"
        else:
            yield from (f"{byte:02X}" for byte in cell)


def _width(word: int) -> int:
    return _ROW_BYTES // word * (2 * word + 1) - 1


def _as_json(name: str, rows: Iterator[ListingRow | Fold]) -> None:
    from greenstep.core.image.listing import ListingRow

    from .json_view import json_line

    for row in rows:
        if isinstance(row, ListingRow):
            json_line("row", image=name, address=row.address, data=row.data)
        else:
            json_line("fold", image=name, address=row.address, bytes=row.size, value=row.value)
