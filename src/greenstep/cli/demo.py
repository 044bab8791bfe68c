"""`greenstep demo`"""

from __future__ import annotations

import click

from greenstep.store.board import BoardSettings, PortChoice
from greenstep.work.board import Board

from .screen import say

_SHOWN = (("brood-probe", 9412), ("apiary-gateway", 6000), ("smoke-fan", 6000))


@click.command("demo", short_help="Green uploads, and one with a fault.")
def command() -> int:
    """Upload to three of the apiary's boards, simulated, as fast as hardware would be: each green; then to one with
    its boot jumper forgotten, to see a finding. Takes about twenty seconds and touches no real port."""
    say("Three simulated boards. First as it should be:", "")
    statuses = []
    for board, size in _SHOWN:
        statuses.append(_upload(board, size, ()))
        say("", "")
    say("The brood-probe again, with its boot jumper forgotten:", "")
    as_meant = not any(statuses) and _upload("brood-probe", 9412, ("no-boot",)) == 4
    say("", "", "Next: greenstep init" if as_meant else "this is not what the demo should show")
    return 0 if as_meant else 1


def _upload(name: str, size: int, faults: tuple[str, ...]) -> int:
    from greenstep.bench.boards import BOARDS
    from greenstep.work.bench_board import with_bench_board
    from greenstep.work.jobs import make_job
    from greenstep.work.run import Run

    from .drive import follow
    from .ladder_view import LadderView

    simulated = BOARDS[name]
    text = simulated.texts[1]
    port = f"bench:{name}?{'&'.join(['pace=real', *(f'fault={fault}' for fault in faults)])}"
    said = BoardSettings(port=PortChoice(name=port), expect=text.removesuffix(" ready"))
    board = Board(name, with_bench_board(said))
    job = make_job("upload", board, images={"flash": simulated.program(text, size, 1)})
    return follow(Run(job, recorded=False), LadderView())
