"""`greenstep bench` and `demo`."""

from __future__ import annotations

import contextlib
import signal
import threading
from collections import Counter
from dataclasses import replace
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING

import click

from greenstep.store.board import BoardSettings, PortChoice
from greenstep.work.board import Board

from .screen import say

if TYPE_CHECKING:
    from collections.abc import Mapping

    from greenstep.bench.boards import BenchBoard
    from greenstep.bench.faults import Faults
    from greenstep.bench.person import Hands
    from greenstep.bench.real_time import RealTimeBoard
    from greenstep.core.image import Image
    from greenstep.core.plan.write_options import TalkLine


@click.command("bench", short_help="Serve simulated boards.")
@click.argument("boards", nargs=-1, metavar="[BOARD]…")
@click.option("--list", "listing", is_flag=True, help="List the boards, faults and settings, and stop.")
@click.option(
    "--fault", multiple=True, metavar="FAULT", help="Switch a fault on, such as locked or drop-to-chip=120."
)
@click.option(
    "--turnaround", type=click.FloatRange(0, 100), default=1.0, metavar="MS", help="The adapter's delay, in ms. [1]"
)
@click.option(
    "--hands",
    type=click.FloatRange(0, 600),
    metavar="SECONDS",
    help="Three wires only: a simulated person presses the buttons this long after the first character.",
)
@click.option(
    "--circuit",
    type=click.Choice(["dtr-reset-rts-boot", "rts-reset-dtr-boot", "cross-pair", "cap-dtr", "cap-rts"]),
    help="Another circuit between the lines and the pins, for all boards.",
)
@click.option("--seed", type=click.IntRange(0), default=0, metavar="N", help="Seed for random faults. [0]")
@click.option("--pty", is_flag=True, help="Serve on pseudo terminals, which have no DTR and RTS.")
@click.option("--tcp-port", type=click.IntRange(0, 65535), default=0, metavar="N", help="First TCP port. [any free]")
@click.option(
    "--save-memory",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="FOLDER",
    help="At the end, save what the chips hold as BOARD.flash.bin and BOARD.eeprom.bin.",
)
@click.option("--json", "as_json", is_flag=True, help="One board per line, for programs.")
def bench_command(
    boards: tuple[str, ...],
    listing: bool,
    fault: tuple[str, ...],
    turnaround: float,
    hands: float | None,
    circuit: str | None,
    seed: int,
    pty: bool,
    tcp_port: int,
    save_memory: Path | None,
    as_json: bool,
) -> int:
    """Serve simulated boards on 127.0.0.1 until stopped, and print the port to use for each. Without names, the
    eight of the apiary. A board named several times is served as often, each with a chip of its own.

    \b
    greenstep bench brood-probe
    greenstep bench hive-scale --fault echo
    """
    from greenstep.bench.boards import APIARY, BOARDS
    from greenstep.bench.circuits import CIRCUITS
    from greenstep.bench.faults import KINDS, Faults
    from greenstep.bench.person import Hands

    if listing:
        _list(BOARDS, KINDS)
        return 0
    unknown = [name for name in boards if name not in BOARDS]
    if unknown:
        raise click.UsageError(f"There is no board '{unknown[0]}' on the bench; there are {', '.join(BOARDS)}.")
    try:
        Faults.parse(fault)
    except ValueError as error:
        raise click.UsageError(str(error)) from None
    ended = threading.Event()
    _stop_on_signals(ended)
    wanted = [BOARDS[name] for name in boards or APIARY]
    if circuit is not None:
        wanted = [replace(board, circuit=CIRCUITS[circuit]) for board in wanted]
    prompter = Hands(hands) if hands is not None else Hands(1.0) if pty else None
    numbered, copies = [], Counter[str]()
    for board in wanted:
        numbered.append(copies[board.name])
        copies[board.name] += 1
    wanted = [
        replace(board, name=f"{board.name}-{copy + 1}") if copy else board
        for board, copy in zip(wanted, numbered, strict=True)
    ]
    servers = [
        _serve(
            board,
            Faults.parse(fault, seed + index),
            turnaround / 1000,
            prompter,
            pty,
            tcp_port + index if tcp_port else 0,
        )
        for index, board in enumerate(wanted)
    ]
    for server, copy in zip(servers, numbered, strict=True):
        server.line.chip.copy = copy
    try:
        _tell(servers, as_json)
        ended.wait()
    finally:
        for server in servers:
            server.close()
        if save_memory is not None:
            _save(servers, save_memory)
    return 0


def _serve(
    board: BenchBoard, faults: Faults, turnaround_s: float, hands: Hands | None, pty: bool, tcp_port: int
) -> RealTimeBoard:
    from greenstep.bench.boards import by_hand

    if hands is not None:
        board = by_hand(board)
    if pty:
        from greenstep.bench.pty_server import PtyServer

        return PtyServer(board, faults, turnaround_s, hands)
    from greenstep.bench.server import BoardServer

    try:
        return BoardServer(board, faults, turnaround_s, hands, tcp_port)
    except OSError as error:
        raise click.UsageError(f"TCP port {tcp_port} cannot be served: {error.strerror}") from None


def _stop_on_signals(ended: threading.Event) -> None:
    def stop(number: int, frame: FrameType | None) -> None:
        ended.set()

    with contextlib.suppress(ValueError):  # outside the main thread signals go elsewhere
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, stop)


def _tell(servers: list[RealTimeBoard], as_json: bool) -> None:
    if as_json:
        from .json_view import json_line

        for server in servers:
            board = server.board
            json_line(
                "board",
                board=board.name,
                chip=board.chip,
                port=server.url,
                hookup=board.circuit.hookup,
                baud=board.baud,
                dialect=board.dialect or None,
            )
        return
    from greenstep.core.chips.catalogue import Catalogue

    for server in servers:
        board = server.board
        say(f"{board.name}: {board.title}")
        usual = Catalogue.load().find(board.chip).first
        hookup = "" if board.circuit.hookup == usual.hookup else f" --hookup {board.circuit.hookup}"
        baud = "" if board.baud == usual.baud else f" --baud {board.baud}"
        dialect = f" --dialect {board.dialect}" if board.dialect else ""
        settings = "".join(f" --set '{name}={_written(value)}'" for name, value in board.settings)
        say(f"  --chip {board.chip} --port {server.url}{hookup}{baud}{dialect}{settings}")
    say("Ctrl-C ends it.")


def _written(value: str | tuple[TalkLine, ...] | Image) -> str:
    """A setting as written on the command line."""
    if isinstance(value, str):
        return value
    if not isinstance(value, tuple):
        return f"@{value.name}"
    turns = (f'{{ expect = "{turn.expect}", send = "{turn.send}" }}' for turn in value)
    return f"[ {', '.join(turns)} ]"


def _list(boards: Mapping[str, BenchBoard], faults: Mapping[str, tuple[str, str]]) -> None:
    from greenstep.bench.address import described

    for name, board in boards.items():
        say(f"{name:<16}  {board.title}, {board.circuit.hookup}")
    say("", "without a server, wherever a port is taken: --port 'bench:BOARD?SETTING&SETTING'")
    for written, meaning in described():
        say(f"  {written:<24}  {meaning}")
    say("", "faults:")
    for name, (argument, meaning) in faults.items():
        written = f"{name}={argument}" if argument else name
        say(f"  {written:<24}  {meaning}")


def _save(servers: list[RealTimeBoard], folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    for server in servers:
        for memory in ("flash", "eeprom"):
            content = getattr(server.line.chip, memory, None)
            if content is not None:
                (folder / f"{server.board.name}.{memory}.bin").write_bytes(bytes(content))


_SHOWN = (("brood-probe", 9412), ("apiary-gateway", 6000), ("smoke-fan", 6000))


@click.command("demo", short_help="Green uploads, and one with a fault.")
def demo_command() -> int:
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
    from greenstep.work.board import with_bench_board
    from greenstep.work.jobs import make_job
    from greenstep.work.run import Run

    from .drive import follow
    from .run_view import LadderView

    simulated = BOARDS[name]
    text = simulated.texts[1]
    port = f"bench:{name}?{'&'.join(['pace=real', *(f'fault={fault}' for fault in faults)])}"
    settings = BoardSettings(port=PortChoice(name=port), expect=text.removesuffix(" ready"))
    board = Board(name, with_bench_board(settings))
    job = make_job("upload", board, images={"flash": simulated.program(text, size, 1)})
    return follow(Run(job, recorded=False), LadderView())
