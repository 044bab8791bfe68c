"""`greenstep plan`"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from greenstep.core.quantities import count, show_seconds, show_size, show_span
from greenstep.store.board import BoardSettings

from .completion import complete_target
from .options import How, board_options, general_options, image_options
from .screen import say
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.chips.part import Part
    from greenstep.work.planning import Planned


@click.command("plan", short_help="Show what an upload would do.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@board_options
@image_options
@click.option("--ask", is_flag=True, help="Ask the chip for its real flash size first; this resets it.")
@general_options
def plan_command(target: tuple[str, ...], ask: bool, settings: BoardSettings, how: How) -> int:
    """Show what an upload would erase and write, and how long it would take. Touches no port without --ask."""
    from greenstep.work.planning import plan_for

    board = settle(target, settings, how)
    parts: tuple[Part, ...] = board.choice.parts
    if ask:
        from greenstep.work.jobs import make_job
        from greenstep.work.run import Run

        from .drive import follow, make_view

        run = Run(make_job("greet", board), recorded=False)
        status = follow(run, make_view(how.as_json))
        part = run.outcome.part
        if status or part is None:
            return status
        parts = (part,)
    planned = plan_for(board, parts)
    if how.as_json:
        _as_json(planned)
    else:
        _as_text(planned, len(parts))
    return 0


def _as_text(planned: Planned, candidates: int) -> None:
    plan, costs, settings = planned.plan, planned.costs, planned.line
    part = plan.part
    room = "" if part.core == "any" else f", {show_size(part.flash.size)} {part.holds}"
    say(f"{part.title}{room}, {settings}")
    if candidates > 1 or not part.size_known:
        say("  its real flash size is in the chip: --ask reads it")
    for note in plan.notes:
        say(f"  note: {note}")
    for memory in plan.memories:
        say("", f"{memory.memory.name}: {memory.image.name}, {memory.image.size_bytes:,} bytes")
        for piece in memory.image.pieces:
            say(f"  piece   {show_span(piece.address, len(piece.data))}   {len(piece.data):,} bytes")
        if memory.whole_erase:
            say(f"  erase   everything, {show_size(memory.memory.size)}")
        elif memory.units:
            first, last = memory.units[0], memory.units[-1]
            span = show_span(first.address, last.end - first.address)
            size = show_size(sum(unit.size for unit in memory.units))
            whole = last.end - first.address == sum(unit.size for unit in memory.units)
            where = span if whole else f"within {span}"
            say(f"  erase   {where}   {count(len(memory.units), 'unit')}, {size}")
        else:
            say("  erase   page by page, inside the write")
        for along in memory.beside:
            say(f"  beside  {along}   erased too: read first, and written back")
        blocks = count(len(memory.blocks), "block")
        say(f"  write   {blocks}, {memory.write_bytes:,} bytes")
        verified = f"{memory.check_bytes:,} bytes" if costs.verify.turnarounds else "what is acknowledged"
        say(f"  verify  {verified}" + (f" of {memory.sample_of:,}" if memory.sample_of else ""))
        if memory.left_out:
            say(f"  note: {memory.left_out}")
    steps = (("erase", costs.erase), ("write", costs.write), ("verify", costs.verify))
    times = ", ".join(f"{name} {show_seconds(cost.seconds(settings, 0.001))}" for name, cost in steps if cost.heard)
    say("", f"about {show_seconds(planned.seconds)} at {settings.baud} baud: {times}")
    if planned.faster is not None:
        quicker = show_seconds(planned.costs.seconds(planned.faster))
        how = "found for this line" if planned.found else "if adapter, wires and chip carry it"
        say(f"about {quicker} at {planned.faster.baud}, {how}: --baud fastest")


def _as_json(planned: Planned) -> None:
    from greenstep.core.plan.model import describe

    from .json_view import json_line

    plan = planned.plan
    json_line(
        "plan",
        part=plan.part.name,
        flash_bytes=plan.part.flash.size,
        baud=planned.line.baud,
        seconds=planned.seconds,
        faster_baud=planned.faster.baud if planned.faster else None,
        faster_seconds=planned.costs.seconds(planned.faster) if planned.faster else None,
        summary=describe(plan),
        memories=[
            {
                "memory": memory.memory.name,
                "image": memory.image.name,
                "pieces": memory.image.pieces,
                "whole_erase": memory.whole_erase,
                "erase_units": memory.units,
                "beside": memory.beside,
                "write_blocks": memory.blocks,
                "verify_bytes": memory.check_bytes,
            }
            for memory in plan.memories
        ],
        notes=plan.notes,
    )
