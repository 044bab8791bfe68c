"""`greenstep batch`"""

from __future__ import annotations

import multiprocessing
import signal
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace as dataclass_replace
from multiprocessing.connection import Connection, wait
from multiprocessing.process import BaseProcess
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, Any

import click

from greenstep.core.frozen import changing, frozen

from .completing import complete_target
from .options import (
    Real,
    Whole,
    batch_board_options,
    general_options,
    image_options,
    sparing_options,
    start_options,
    talk_options,
)

if TYPE_CHECKING:
    from greenstep.core.batch import Batch
    from greenstep.core.climb import Job
    from greenstep.ports.watching import Newcomers
    from greenstep.store.board import BoardSettings

    from .batch_view import BatchView

_TICK_S = 0.2
_LOOK_S = 0.3


@click.command("batch", short_help="The same images into many boards.")
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@click.option("--port", "ports", multiple=True, metavar="PORT", help="A port; several are served at once.")
@click.option("--plugged", is_flag=True, help="Serve every port that is plugged in from now on.")
@click.option(
    "--again/--once",
    default=None,
    help="Wait for the next board on the same port (the usual with one port), or serve each port once.",
)
@click.option("--count", "number", type=Whole(1, 100_000), metavar="N", help="End after so many boards.")
@click.option(
    "--wait", "wait_s", type=Real(0.5, 86400), metavar="SECONDS", help="How long to wait for the next board."
)
@click.option(
    "--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="Results, .csv or .json."
)
@click.option("--replace", is_flag=True, help="Let --save replace a file.")
@click.option("--bell/--no-bell", default=True, help="Sound the terminal's bell for each board.")
@batch_board_options
@image_options
@sparing_options
@start_options
@talk_options
@general_options
def command(
    target: tuple[str, ...],
    ports: tuple[str, ...],
    plugged: bool,
    again: bool | None,
    number: int | None,
    wait_s: float | None,
    save: Path | None,
    replace: bool,
    bell: bool,
    **options: Any,
) -> int:
    """Upload into one board after another, or into several at once. With one port: waits until a board answers,
    uploads, says so, and waits for the next. Ctrl-C begins no further board; those under way are finished.

    \b
    greenstep batch brood-probe --save probes.csv
    greenstep batch brood-probe --port /dev/ttyUSB0 --port /dev/ttyUSB1
    greenstep batch hive-scale --plugged --count 16

    Exit status: 0 if every board ended well, else that of the first that did not.
    """
    from greenstep.store.batch_results import check_results_file

    from .batch_view import make_batch_view
    from .faults import faults_as_asked

    as_json = bool(options["as_json"])
    with faults_as_asked(as_json):
        orders = _orders(target, ports, plugged, again, wait_s, options)
        if save is not None:
            check_results_file(save, replace)
    runner = _Runner(orders, number, save, make_batch_view(as_json, bell), plugged)
    with faults_as_asked(as_json):
        return runner.run()


@frozen
class _Orders:
    """`pattern` is the job for a port that is not known yet."""

    title: str
    pattern: Job
    said: BoardSettings
    ports: tuple[str, ...]
    again: bool
    wait_s: float | None


def _orders(
    target: tuple[str, ...],
    ports: tuple[str, ...],
    plugged: bool,
    again: bool | None,
    wait_s: float | None,
    options: dict[str, Any],
) -> _Orders:
    """Raises UsageFault, RefusedFault, PortFault."""
    from greenstep.core.climb.approach import refuse_unfit
    from greenstep.core.errors import usage
    from greenstep.store.board import PortChoice

    from .jobs import make_job
    from .port_choice import port_name
    from .target import settle, without_port

    if plugged and (ports or again is not None):
        raise usage("plugged", "--plugged takes every port that comes, once", "leave out --port, --again and --once")
    board, said = settle(target, {**options, "port": ports[0] if ports else None})
    job = make_job("upload", board, without_port(said) if plugged else said)
    if not job.images:
        raise usage("no-image", "no image for the batch", "name a file, or images in greenstep.toml")
    refuse_unfit(job)
    named = tuple(port_name(dataclass_replace(said, port=PortChoice(name=port))) for port in ports)
    if len(set(named)) != len(named):
        raise usage("port-twice", "a port is named twice", "name each --port once")
    served = () if plugged else named or (job.port,)
    repeats = again if again is not None else len(served) == 1
    images = " + ".join(image.name for image in job.images.values())
    who = board or (job.choice.single.title if job.choice.single else job.choice.name)
    title = f"{who}   {images}   {job.settings}   " + (f"{len(served)} ports" if len(served) > 1 else "".join(served))
    return _Orders(title.rstrip(), job, said, served, repeats and not plugged, wait_s)


@changing
class _Served:
    """A process and the port it serves."""

    port: str
    process: BaseProcess
    ended: bool = False


class _Runner:
    """Begins the processes, hears them, and keeps the count."""

    def __init__(
        self, orders: _Orders, number: int | None, save: Path | None, view: BatchView, plugged: bool
    ) -> None:
        from greenstep.core.batch import Batch

        # a fork shares what is imported and read already; elsewhere each process begins anew
        self._context: Any = multiprocessing.get_context("fork" if sys.platform == "linux" else "spawn")
        self._orders = orders
        self._save = save
        self._view = view
        self._plugged = plugged
        self._batch: Batch = Batch()
        self._number = number
        self._stopping = self._context.Event()
        self._places = self._context.Semaphore(number) if number is not None else None
        self._served: dict[Connection, _Served] = {}
        self._looked_s = 0.0
        self._newcomers: Newcomers | None = None
        self._last_s = time.monotonic()
        self._asked_to_stop = False
        self._crashed = False

    def run(self) -> int:
        from greenstep.store.batch_results import save_results

        self._view.begin(self._orders.title, list(self._orders.ports))
        if self._plugged:
            from greenstep.ports.discovery import find_ports
            from greenstep.ports.watching import Newcomers

            self._newcomers = Newcomers(find_ports)
            self._view.remark("plug the boards in")
        with self._stopped_by_signals():
            try:
                for port in self._orders.ports:
                    self._begin(port)
                while self._goes_on():
                    self._look_for_ports()
                    self._hear()
                    self._stop_if_asked()
                    self._view.tick()
            finally:
                self._stopping.set()
                for served in self._served.values():
                    served.process.join()
                self._view.close()
        if self._save is not None:
            save_results(self._save, self._batch.results)
        self._view.end(self._batch)
        return 1 if self._crashed else self._batch.exit_code

    def _goes_on(self) -> bool:
        if self._served:
            return True
        if not self._plugged or self._stopping.is_set() or self._full:
            return False
        wait_s = self._orders.wait_s
        return wait_s is None or time.monotonic() - self._last_s < wait_s

    @property
    def _full(self) -> bool:
        return self._number is not None and len(self._batch.results) + len(self._served) >= self._number

    # --- processes

    def _begin(self, port: str) -> None:
        from .batch_worker import Order, work

        orders = self._orders
        order = Order(
            dataclass_replace(orders.pattern, port=port), orders.said, orders.again, orders.wait_s, self._plugged
        )
        ours, theirs = self._context.Pipe(duplex=False)
        process = self._context.Process(
            target=work, args=(order, theirs, self._stopping, self._places), name=f"batch {port}"
        )
        process.start()
        theirs.close()
        self._served[ours] = _Served(port, process)

    def _look_for_ports(self) -> None:
        """Ports that have come since; one that went may come again."""
        if self._newcomers is None or time.monotonic() - self._looked_s < _LOOK_S:
            return
        self._looked_s = time.monotonic()
        for port in self._newcomers.came():
            if self._stopping.is_set() or self._full:
                break
            self._begin(port)

    def _hear(self) -> None:
        if not self._served:
            time.sleep(_TICK_S)
            return
        for connection in wait(list(self._served), _TICK_S):
            assert isinstance(connection, Connection)
            served = self._served[connection]
            try:
                self._take(served, connection.recv())
            except (EOFError, OSError):
                self._over(connection, served)

    def _take(self, served: _Served, news: Any) -> None:
        from greenstep.core.errors import UsageFault
        from greenstep.store.batch_results import save_results

        from .batch_worker import Begins, Ends

        if isinstance(news, Begins):
            served.ended = False
        if not isinstance(news, Ends):
            self._view.news(served.port, news)
            return
        served.ended, self._last_s = True, time.monotonic()
        result = self._batch.add(news.result, news.finding)
        self._view.news(served.port, Ends(result, news.finding))
        self._view.result(result, self._batch)
        if self._save is not None:
            try:
                save_results(self._save, self._batch.results)
            except UsageFault as fault:  # told again, with the exit status for it, at the end
                self._view.remark(str(fault))

    def _over(self, connection: Connection, served: _Served) -> None:
        served.process.join()
        del self._served[connection]
        connection.close()
        if served.process.exitcode:
            self._crashed = True
            self._view.remark(f"{served.port}: greenstep itself failed there ({served.process.exitcode})")

    # --- the end

    def _stop_if_asked(self) -> None:
        if not self._asked_to_stop or self._stopping.is_set():
            return
        self._stopping.set()
        if any(not served.ended for served in self._served.values()):
            self._view.remark("no further board is begun; those under way are finished")

    @contextmanager
    def _stopped_by_signals(self) -> Iterator[None]:
        """A signal only leaves word: what it interrupts may hold the very lock that stopping wants."""

        def stop(number: int, frame: FrameType | None) -> None:
            self._asked_to_stop = True

        before = {number: signal.signal(number, stop) for number in (signal.SIGINT, signal.SIGTERM)}
        try:
            yield
        finally:
            for number, handler in before.items():
                signal.signal(number, handler)
