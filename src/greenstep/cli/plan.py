"""`greenstep plan`"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from greenstep.core.quantities import count, show_seconds, show_size, show_span

from .completing import complete_target
from .faults import faults_as_asked
from .options import board_options, general_options, image_options

if TYPE_CHECKING:
    from greenstep.core.chips import Part
    from greenstep.core.climb import Job
    from greenstep.core.link import LineSettings
    from greenstep.core.plan import Plan
    from greenstep.core.plan.price import Costs


@click.command("plan", short_help="Show what an upload would do.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@board_options
@image_options
@click.option("--ask", is_flag=True, help="Ask the chip for its real flash size first; this resets it.")
@general_options
def command(target: tuple[str, ...], ask: bool, as_json: bool, **options: Any) -> int:
    """Show what an upload would erase and write, and how long it would take. Touches no port without --ask."""
    from greenstep.core.plan.price import price

    from .jobs import make_job
    from .target import settle, without_port

    with faults_as_asked(as_json):
        board, said = settle(target, options)
        job = make_job("upload", board, said if ask else without_port(said))
        if ask:
            from greenstep.core.climb import Climb

            from .drive import follow, make_view
            from .port_choice import opener

            greeting = make_job("greet", board, said)
            climb = Climb(greeting, opener(greeting, said))
            status = follow(climb, make_view(as_json))
            part = climb.outcome.part
            if status or part is None:
                return status
            candidates: tuple[Part, ...] = (part,)
        else:
            candidates = tuple(job.part_as_declared(part) for part in job.choice.parts)
        plan = _first_that_fits(candidates, job)
        costs = price(plan, job.dialect, job.wishes.verify)
    if as_json:
        _as_json(plan, costs, job.settings)
    else:
        _as_text(plan, costs, job.settings, len(candidates))
    return 0


def _first_that_fits(parts: tuple[Part, ...], job: Job) -> Plan:
    """The plan for the first of the parts that takes the images. Raises the refusal of the first one."""
    from greenstep.core.errors import RefusedFault
    from greenstep.core.plan import make_plan

    refusals = []
    for part in parts:
        try:
            return make_plan(part, job.dialect, job.images, job.wishes)
        except RefusedFault as refusal:
            refusals.append(refusal)
    raise refusals[0]


def _as_text(plan: Plan, costs: Costs, settings: LineSettings, candidates: int) -> None:
    part = plan.part
    room = "" if part.core == "any" else f", {show_size(part.flash.size)} flash"
    click.echo(f"{part.title}{room}, {settings}")
    if candidates > 1 or not part.size_known:
        click.echo("  its real flash size is in the chip: --ask reads it")
    for note in plan.notes:
        click.echo(f"  note: {note}")
    for memory in plan.memories:
        click.echo(f"\n{memory.memory.name}: {memory.image.name}, {memory.image.size_bytes:,} bytes")
        for piece in memory.image.pieces:
            click.echo(f"  piece   {show_span(piece.address, len(piece.data))}   {len(piece.data):,} bytes")
        if memory.whole_erase:
            click.echo(f"  erase   everything, {show_size(memory.memory.size)}")
        elif memory.units:
            first, last = memory.units[0], memory.units[-1]
            span = show_span(first.address, last.end - first.address)
            size = show_size(sum(unit.size for unit in memory.units))
            whole = last.end - first.address == sum(unit.size for unit in memory.units)
            where = span if whole else f"within {span}"
            click.echo(f"  erase   {where}   {count(len(memory.units), 'unit')}, {size}")
        else:
            click.echo("  erase   page by page, inside the write")
        for along in memory.beside:
            click.echo(f"  beside  {along}   erased too: read first, and written back")
        blocks = count(len(memory.blocks), "block")
        click.echo(f"  write   {blocks}, {memory.write_bytes:,} bytes")
        verified = f"{memory.check_bytes:,} bytes" if costs.verify.turnarounds else "what is acknowledged"
        click.echo(f"  verify  {verified}" + (f" of {memory.sample_of:,}" if memory.sample_of else ""))
        if memory.left_out:
            click.echo(f"  note: {memory.left_out}")
    steps = (("erase", costs.erase), ("write", costs.write), ("verify", costs.verify))
    times = ", ".join(f"{name} {show_seconds(cost.seconds(settings, 0.001))}" for name, cost in steps if cost.heard)
    click.echo(f"\nabout {show_seconds(costs.seconds(settings))} at {settings.baud} baud: {times}")


def _as_json(plan: Plan, costs: Costs, settings: LineSettings) -> None:
    from greenstep.core.plan.words import describe

    from .json_view import JsonView

    JsonView().line(
        "plan",
        {
            "part": plan.part.name,
            "flash_bytes": plan.part.flash.size,
            "baud": settings.baud,
            "seconds": round(costs.seconds(settings), 3),
            "summary": describe(plan),
            "memories": [
                {
                    "memory": memory.memory.name,
                    "image": memory.image.name,
                    "pieces": [{"address": p.address, "bytes": len(p.data)} for p in memory.image.pieces],
                    "whole_erase": memory.whole_erase,
                    "erase_units": [
                        {"number": u.number, "address": u.address, "bytes": u.size} for u in memory.units
                    ],
                    "beside": [{"address": span.start, "bytes": span.size} for span in memory.beside],
                    "write_blocks": [{"address": b.address, "bytes": len(b.data)} for b in memory.blocks],
                    "verify_bytes": memory.check_bytes,
                }
                for memory in plan.memories
            ],
            "notes": list(plan.notes),
        },
    )
