"""`greenstep demo`"""

from __future__ import annotations

import click

from greenstep.core.chips import Catalogue
from greenstep.core.climb import Climb, Job
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.dialects.settings import read_settings
from greenstep.core.hookup import named_hookup
from greenstep.core.link import LineSettings
from greenstep.core.wishes import Wishes

_SHOWN = (("brood-probe", 9412), ("apiary-gateway", 6000), ("smoke-fan", 6000))


@click.command("demo", short_help="Green uploads, and one with a fault.")
def command() -> int:
    """Upload to three of the apiary's boards, simulated, as fast as hardware would be: each green; then to one with
    its boot jumper forgotten, to see a finding. Takes about twenty seconds and touches no real port."""
    click.echo("Three simulated boards. First as it should be:\n")
    statuses = []
    for board, size in _SHOWN:
        statuses.append(_upload(board, size, ()))
        click.echo("\n")
    click.echo("The brood-probe again, with its boot jumper forgotten:\n")
    as_meant = not any(statuses) and _upload("brood-probe", 9412, ("no-boot",)) == 4
    click.echo("\n\nNext: docs/first-upload.md" if as_meant else "\n\nthis is not what the demo should show")
    return 0 if as_meant else 1


def _upload(name: str, size: int, faults: tuple[str, ...]) -> int:
    from greenstep.bench.boards import BOARDS
    from greenstep.bench.port import open_bench

    from .drive import follow
    from .ladder_view import LadderView

    board = BOARDS[name]
    choice = Catalogue.load().find(board.chip)
    dialect = find_dialect(board.dialect or choice.dialect)
    port = f"bench:{name}?{'&'.join(['pace=real', *(f'fault={fault}' for fault in faults)])}"
    job = Job(
        "upload",
        choice,
        dialect,
        LineSettings(board.baud, dialect.frame),
        port,
        named_hookup(board.circuit.hookup, choice.first.boot_level),
        board=name,
        images={"flash": board.program(board.texts[1], size, 1)},
        wishes=Wishes(settings=read_settings(dialect, board.settings)),
        expect=board.texts[1].removesuffix(" ready"),
    )
    return follow(Climb(job, lambda settings, lines: open_bench(port, settings, lines)), LadderView())
