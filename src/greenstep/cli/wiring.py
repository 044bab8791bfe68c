"""`greenstep wiring`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from greenstep.store.board import BoardSettings

from .completion import complete_board
from .figures import save_figure, saved_line
from .options import How, Real, general_options, wired_options
from .screen import say
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.hookup.wiring import Wiring

if TYPE_CHECKING:
    from greenstep.core.hookup.wiring import Wiring

_ARROWS = {"out": "→", "in": "←", "ground": "—", "supply": "→"}
_PLAIN_ARROWS = {"out": "->", "in": "<-", "ground": "--", "supply": "->"}


@click.command("wiring", short_help="Which pin goes to which.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@wired_options
@click.option("--straight", is_flag=True, help="Use another board as the adapter: TX to TX, RX to RX.")
@click.option("--borrow", metavar="CHIP", help="The same, and that board's own chip: how to keep it quiet.")
@click.option("--volts", type=Real(0.5, 24), metavar="VOLTS", help="This board's supply, if not the usual one.")
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="A figure: PNG, SVG.")
@general_options
def wiring_command(
    board: tuple[str, ...], straight: bool, borrow: str | None, volts: float | None, save: Path | None,
    settings: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Which adapter pin goes to which chip pin; levels, supply, boot pin, pull-ups, order of the buttons. Opens no
    port.

    \b
    greenstep wiring brood-probe
    greenstep wiring --chip atmega328p --volts 3.3 --save wiring.png
    greenstep wiring --chip stm32f103 --borrow esp8266
    """
    from greenstep.core.errors import usage
    from greenstep.core.hookup.wiring import Bridge, wiring_of
    from greenstep.work.board import Board

    wanted = settle(board, settings, how)
    lender = Board("", BoardSettings(chip=borrow)).choice.first if borrow else None
    bridge = Bridge(lender) if straight or lender is not None else None
    try:
        wiring = wiring_of(wanted.choice.first, wanted.hookup, bridge, wanted.hands, volts)
    except ValueError as error:
        raise usage("volts", f"--volts {volts:g}: {error}", "measure the supply of the board") from None
    title = "   ".join(word for word in (wanted.name, wanted.choice.title, wanted.hookup.name) if word)
    save_figure(save, "wiring_figure:save_wiring", wiring, title)
    if how.as_json:
        from .json_view import json_line, plain

        json_line("wiring", title=title, **plain(wiring))
        return 0
    _show(wiring, title)
    saved_line(save)
    return 0


def _show(wiring: Wiring, title: str) -> None:
    import sys
    import textwrap

    from .screen import shows_signs

    arrows = _ARROWS if shows_signs(sys.stdout) else _PLAIN_ARROWS
    say(f"{title}", "", f" {'adapter':<9}     chip")
    width = max(len(wire.chip) for wire in wiring.wires)
    for wire in wiring.wires:
        note = "; ".join(text for text in (f"through {wire.through}" if wire.through else "", wire.note) if text)
        say(f" {wire.adapter:<9} {arrows[wire.way]:<3} {wire.chip:<{width}}   {note}".rstrip())
    say()
    for heading, text in wiring.advice:
        lines = textwrap.wrap(text, 92, break_long_words=False)
        say(f" {heading:<11} {lines[0]}")
        for line in lines[1:]:
            say(f" {'':<11} {line}")
