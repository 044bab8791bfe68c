"""`greenstep chips`"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from greenstep.core.dialects.registry import facts_of
from greenstep.core.dialects.spec import Erasing, Spec, Starting

from .fault_view import faults_as_asked
from .screen import say

if TYPE_CHECKING:
    from greenstep.core.chips.catalogue import Catalogue
    from greenstep.core.chips.part import Part
    from greenstep.core.dialects.dialect import Dialect

_NAMES_WIDTH = 60


@click.command("chips", short_help="List and search chips and dialects.")
@click.argument("words", nargs=-1, metavar="[WORD]…")
@click.option("--json", "as_json", is_flag=True, help="One chip per line, for programs.")
def chips_command(words: tuple[str, ...], as_json: bool) -> int:
    """List the dialects, or the chips that a word is about: a name or part of one, a family, a dialect, or the
    number a chip answers with.

    \b
    greenstep chips
    greenstep chips mega
    greenstep chips esp-rom
    greenstep chips 1E950F
    """
    from greenstep.core.chips.catalogue import Catalogue
    from greenstep.core.dialects.dialect import Dialect
    from greenstep.core.dialects.registry import dialect_names, find_dialect, is_own
    from greenstep.core.errors import usage

    catalogue = Catalogue.load()
    with faults_as_asked(as_json):
        wanted = " ".join(words).strip()
        parts = catalogue.search(wanted) if wanted else catalogue.parts
        is_dialect = is_own(wanted) or (not parts and wanted in dialect_names())
        if not parts and not is_dialect:
            raise usage("no-such-chip", f"nothing is known of '{wanted}'", "greenstep chips lists the dialects")
    if as_json:
        _as_json(parts)
    elif is_dialect:
        _show_dialect(find_dialect(wanted), parts)
    elif wanted:
        _show_parts(parts)
    else:
        width = max(map(len, dialect_names()))
        for name in dialect_names():
            _line(find_dialect(name), catalogue, width)
        say("", f"{len(catalogue.parts)} records, {Dialect.tried}")
        say("greenstep chips WORD searches; greenstep chips DIALECT says what it can")
    return 0


def _as_json(parts: Sequence[Part]) -> None:
    from .json_view import json_line

    for part in parts:
        json_line(
            "chip",
            chip=part.name,
            title=part.title,
            dialects=[part.dialect, *part.also],
            ident=f"{part.ident:X}",
            flash_bytes=part.flash.size if part.core != "any" else None,
            size_by_chip=not part.size_known,
            baud=part.baud,
            hookup=part.hookup,
        )


def _line(dialect: type[Dialect], catalogue: Catalogue, width: int) -> None:
    parts = catalogue.of_dialect(dialect.name)
    names = [part.title for part in parts]
    most = 4
    while len(", ".join(names[:most])) > _NAMES_WIDTH:
        most -= 1
    shown = ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")
    say(f"{dialect.name:<{width}}  {dialect.title}: {shown}")


def _show_parts(parts: Sequence[Part]) -> None:
    from greenstep.core.quantities import show_size

    width = max(len(part.name) for part in parts)
    for part in parts:
        size = "" if part.core == "any" else show_size(part.flash.size)
        most = "up to " if size and not part.size_known else ""
        ident = f"{part.ident:X}" if part.ident else "-"
        others = "".join(f", {name}" for name in part.also)
        say(f"{part.name:<{width}}  {most + size:>14}  {ident:>8}  {part.dialect}{others}")
        if differs := part.extra.get("differs"):
            say(f"{'':<{width}}  {differs}")


_ERASES = {
    Erasing.BY_UNIT: "what is touched, or all",
    Erasing.ALL_AT_ONCE: "all at once, before it writes",
    Erasing.INSIDE_WRITE: "as it writes",
}


def _reads_back(spec: Spec) -> str:
    if spec.shows_sums_only:
        return "no: a sum or hash of what it holds proves it"
    return "yes" if spec.reads else "no: each block is acknowledged, and that is all"


def _protection(dialect: type[Dialect]) -> list[str]:
    from greenstep.core.dialects.abilities import Locks, Unlocks

    return ["lock"] * issubclass(dialect, Locks) + ["unlock"] * issubclass(dialect, Unlocks)


def _show_dialect(dialect: type[Dialect], parts: Sequence[Part]) -> None:
    spec = dialect.spec
    say(f"{dialect.name}: {dialect.title}, {dialect.document}, {dialect.frame}", "")
    rows = [
        ("read back", _reads_back(spec)),
        ("erase", _ERASES[spec.erasing] + ("; alone too" if spec.erases_alone else "")),
        ("chip", "says which it is" if spec.tells_chip else "does not say which it is: name it"),
        ("lock", " and ".join(_protection(dialect)) or "no"),
        ("starts by", "a reset" if spec.starting is Starting.RESET else "a command"),
        ("times out", "yes, soon: reset while the tool asks" if spec.gives_up else "no, it waits"),
        ("known", dialect.tried),
    ]  # fmt: skip
    for name, value in rows:
        say(f"  {name:<10} {value}")
    for setting in spec.settings:
        choices = f" ({', '.join(setting.choices)})" if setting.choices else ""
        usual = setting.default
        shown = f"0x{usual:02X}" if isinstance(usual, int) and usual < 256 else usual
        default = f" [{shown}]" if usual not in ((), "") else ""
        named = f"{setting.name}=@FILE" if setting.kind == "image" else setting.name
        say(f"  --set {named}: {setting.help}{choices}{default}")
    say()
    for fact in (fact for fact in facts_of(dialect.name) if fact.sureness == "unsure"):
        say(f"  not sure   {fact.about}: {fact.text} ({fact.source})")
        say(f"    try      {fact.experiment}")
        say(f"             {fact.if_so}")
        say(f"             {fact.if_not}", "")
    if parts:
        _show_parts(parts)
