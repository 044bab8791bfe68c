"""`greenstep demo`"""

from __future__ import annotations

import click

from greenstep.core.chips import Catalogue
from greenstep.core.climb import Climb, Job
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.hookup import named_hookup
from greenstep.core.image import Image
from greenstep.core.link import LineSettings

TEXT = "brood probe 1.7 ready"


@click.command("demo", short_help="One green upload, one with a fault.")
def command() -> int:
    """Upload the apiary's brood probe to a simulated board over a loopback port: once green, and once with the
    boot jumper forgotten, to see a finding. Takes about ten seconds and touches no real port."""
    from greenstep.bench.samples import stm32_image

    image = stm32_image(TEXT, 9412)
    click.echo("A simulated brood-probe, served on this computer. First as it should be:\n")
    first = _upload(image, ())
    click.echo("\n\nThe same again, with its boot jumper forgotten:\n")
    second = _upload(image, ("no-boot",))
    as_meant = first == 0 and second == 4
    click.echo("\n\nNext: docs/first-upload.md" if as_meant else "\n\nthis is not what the demo should show")
    return 0 if as_meant else 1


def _upload(image: Image, faults: tuple[str, ...]) -> int:
    from greenstep.bench.boards import BOARDS
    from greenstep.bench.faults import Faults
    from greenstep.bench.server import BoardServer
    from greenstep.ports.opening import open_port

    from .drive import follow
    from .ladder_view import LadderView

    board = BOARDS["brood-probe"]
    server = BoardServer(board, Faults.parse(faults))
    try:
        choice = Catalogue.load().find(board.chip)
        dialect = find_dialect(choice.dialect)
        job = Job(
            "upload",
            choice,
            dialect,
            LineSettings(board.baud, dialect.frame),
            server.url,
            named_hookup(board.circuit.hookup, choice.first.boot_level),
            board="brood-probe",
            images={"flash": image},
            expect="brood probe 1.7",
        )
        climb = Climb(job, lambda settings, lines: open_port(server.url, settings, lines))
        return follow(climb, LadderView())
    finally:
        server.close()
