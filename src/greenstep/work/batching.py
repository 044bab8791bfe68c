"""Many boards: one process per port, what they report, and the overall result."""

from __future__ import annotations

import multiprocessing
import signal
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from multiprocessing.connection import Connection, wait
from multiprocessing.process import BaseProcess
from pathlib import Path
from types import FrameType
from typing import Any, Protocol

from greenstep.core.batch.board_values import BoardValues
from greenstep.core.batch.results import Batch, BoardResult
from greenstep.core.engine.job import Job
from greenstep.core.errors import UsageFault, usage
from greenstep.core.frozen import changing, frozen
from greenstep.ports.discovery import Newcomers, find_ports
from greenstep.store.csv_files import save_results

from .batch_worker import Begins, Ends, News, Order, Stops, work
from .board import Board
from .jobs import make_job
from .line_memory import rates_at
from .port_choice import port_name
from .prompter import NON_INTERACTIVE, Prompter

_TICK_S = 0.2
_LOOK_S = 0.3


class BatchView(Protocol):
    """Whatever shows a batch."""

    def begin(self, title: str, ports: list[str]) -> None: ...

    def news(self, port: str, news: News) -> None: ...

    def result(self, result: BoardResult, batch: Batch) -> None: ...

    def remark(self, text: str) -> None: ...

    def tick(self) -> None: ...

    def end(self, batch: Batch) -> None: ...

    def close(self) -> None: ...


@frozen
class Orders:
    """`pattern` is the job for a port that is not known yet; `ports` are served, or with `each_new_port` every port
    that appears. `again`: board after board on each port; `wait_s`: how long for the next, `number`: how many boards;
    None is without limit. The results go to the file `save`."""

    title: str
    pattern: Job
    ports: tuple[str, ...]
    again: bool
    each_new_port: bool = False
    wait_s: float | None = None
    number: int | None = None
    save: Path | None = None
    prompter: Prompter = NON_INTERACTIVE
    values: BoardValues | None = None


def orders_for(
    board: Board,
    ports: tuple[str, ...],
    each_new_port: bool,
    again: bool | None,
    prompter: Prompter = NON_INTERACTIVE,
    wait_s: float | None = None,
    number: int | None = None,
    save: Path | None = None,
    values: BoardValues | None = None,
) -> Orders:
    """`again` is None if it was not said: then board after board on a single port. Raises UsageFault, RefusedFault,
    PortFault."""
    from greenstep.core.engine.connect import refuse_unfit

    if each_new_port and (ports or again is not None):
        raise usage(
            "each-new-port",
            "--each-new-port takes every port that appears, once",
            "leave out --port, --again and --once",
        )
    if ports:
        board = board.at_port(ports[0])
    # who presses the buttons for one board after the other is there, terminal or not
    at_the_boards = replace(prompter, is_there=True)
    job = make_job("upload", board.without_port if each_new_port else board, at_the_boards)
    refuse_unfit(job)
    if values is not None:
        values.check(job)
    named = tuple(port_name(board.at_port(port).settings.port) for port in ports)
    if len(set(named)) != len(named):
        raise usage("port-twice", "a port is named twice", "name each --port once")
    served = () if each_new_port else named or (job.port,)
    repeats = again if again is not None else len(served) == 1
    images = " + ".join(image.name for image in job.images.values())
    where = f"{len(served)} ports" if len(served) > 1 else "".join(served)
    title = f"{board.title}   {images}   {job.settings}   {where}".rstrip()
    return Orders(
        title, job, served, repeats and not each_new_port, each_new_port, wait_s, number, save, prompter, values
    )


@changing
class _Served:
    """A process and the port it serves."""

    port: str
    process: BaseProcess
    ended: bool = False


class BatchRun:
    """Starts the processes, hears them, and keeps the count."""

    def __init__(self, orders: Orders, view: BatchView) -> None:
        # a fork shares what is imported and read already; elsewhere each process begins anew
        self._context: Any = multiprocessing.get_context("fork" if sys.platform == "linux" else "spawn")
        self._orders = orders
        self._view = view
        self._batch = Batch()
        self._stopping = self._context.Event()
        self._places = self._context.Semaphore(orders.number) if orders.number is not None else None
        self._served: dict[Connection, _Served] = {}
        self._looked_s = 0.0
        self._newcomers: Newcomers | None = None
        self._last_s = time.monotonic()
        self._asked_to_stop = False
        self._crashed = False
        self._stopped_with = 0

    def run(self) -> int:
        """Returns the exit status: 0 if every board ended well, else that of the first that did not. Raises
        UsageFault if the results cannot be saved."""
        self._view.begin(self._orders.title, list(self._orders.ports))
        if self._orders.each_new_port:
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
        if self._orders.save is not None:
            save_results(self._orders.save, self._batch.results)
        self._view.end(self._batch)
        return 1 if self._crashed else self._batch.exit_code or self._stopped_with

    def _goes_on(self) -> bool:
        if self._served:
            return True
        if not self._orders.each_new_port or self._stopping.is_set() or self._full:
            return False
        wait_s = self._orders.wait_s
        return wait_s is None or time.monotonic() - self._last_s < wait_s

    @property
    def _full(self) -> bool:
        return self._orders.number is not None and len(self._batch.results) + len(self._served) >= self._orders.number

    # --- processes

    def _begin(self, port: str) -> None:
        orders = self._orders
        job = replace(orders.pattern, port=port, rates=rates_at(orders.pattern, port))
        order = Order(job, orders.prompter, orders.again, orders.wait_s, orders.each_new_port, orders.values)
        ours, theirs = self._context.Pipe(duplex=False)
        process = self._context.Process(
            target=work, args=(order, theirs, self._stopping, self._places), name=f"batch {port}"
        )
        process.start()
        theirs.close()
        self._served[ours] = _Served(port, process)

    def _look_for_ports(self) -> None:
        """Ports that have appeared since; one that disappeared may appear again."""
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

    def _take(self, served: _Served, news: News) -> None:
        if isinstance(news, Begins):
            served.ended = False
        if isinstance(news, Stops):
            self._stopped_with = self._stopped_with or news.exit_code
            self._view.remark(f"{served.port}: {news.text}")
            return
        if not isinstance(news, Ends):
            self._view.news(served.port, news)
            return
        served.ended, self._last_s = True, time.monotonic()
        result = self._batch.add(news.result, news.finding)
        self._view.news(served.port, Ends(result, news.finding))
        self._view.result(result, self._batch)
        if self._orders.save is not None:
            try:
                save_results(self._orders.save, self._batch.results)
            except UsageFault as fault:  # told again, with its exit status, at the end
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
            self._view.remark("no further board is begun; boards in progress are finished")

    @contextmanager
    def _stopped_by_signals(self) -> Iterator[None]:
        """A signal only sets a flag: the code it interrupts may hold the very lock that stopping needs."""

        def stop(number: int, frame: FrameType | None) -> None:
            self._asked_to_stop = True

        before = {number: signal.signal(number, stop) for number in (signal.SIGINT, signal.SIGTERM)}
        try:
            yield
        finally:
            for number, handler in before.items():
                signal.signal(number, handler)
