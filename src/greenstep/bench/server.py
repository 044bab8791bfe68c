"""Bench boards in real time: each served over RFC 2217 on a port of 127.0.0.1, one client at a time.

The telnet side is pySerial's; behind it is an object that looks like a serial port and is a simulated line on the
real clock.
"""

from __future__ import annotations

import contextlib
import selectors
import socket
import time
from collections.abc import Callable
from typing import Any, cast

from serial import rfc2217

from greenstep.core.link import Frame, LineSettings, Parity
from greenstep.core.safety.telnet_guard import SILENT_S, Sender, TelnetGuard, made_ready, turn_away

from .boards import BenchBoard
from .delivered_time import LONGEST_WAIT_S
from .faults import Faults
from .line import SimulatedLine
from .person import Hands
from .real_time import RealTimeBoard

HOST = "127.0.0.1"
_AWAY_S = 0.8
_SETTINGS = ("baudrate", "bytesize", "parity", "stopbits")
_LINES = ("break_condition", "dtr", "rts")
_POSSIBLE: dict[str, Callable[[Any], bool]] = {
    "baudrate": lambda value: 50 <= value <= 12_000_000,
    "bytesize": lambda value: value in (5, 6, 7, 8),
    "parity": lambda value: value in _PARITY,
    "stopbits": lambda value: value in (1, 2),
}
"""What an adapter makes; it refuses everything else."""
_PARITY: dict[str, Parity] = {"N": "none", "E": "even", "O": "odd"}


class BoardServer(RealTimeBoard):
    """One board behind one TCP port (0: the system chooses). Raises OSError if it is not available."""

    def __init__(
        self,
        board: BenchBoard,
        faults: Faults | None = None,
        turnaround_s: float = 0.001,
        hands: Hands | None = None,
        tcp_port: int = 0,
    ) -> None:
        super().__init__(board, faults, turnaround_s, hands)
        self._listener = socket.create_server((HOST, tcp_port))
        self._listener.settimeout(LONGEST_WAIT_S)
        self.url = f"rfc2217://{HOST}:{self._listener.getsockname()[1]}"
        self._begin()

    def _release(self) -> None:
        self._listener.close()

    def _serve(self) -> None:
        while not self._ended.is_set():
            try:
                client, address = self._listener.accept()
            except TimeoutError:
                self._look(False)
                continue
            except ConnectionError:
                continue
            except OSError:
                return
            self._look(False)
            with client, contextlib.suppress(ConnectionError, TimeoutError):
                made_ready(client)
                self._converse(client, address[0])
            # an adapter whose port is closed releases its lines
            self.line.set_lines(self._now, False, False)
            if self.line.hang_up(self._now):
                self._go_away()

    def _go_away(self) -> None:
        """A board that is its own USB device: its port disappears for a while."""
        address = self._listener.getsockname()
        self._listener.close()
        end_s = self._now + _AWAY_S
        while self._now < end_s and not self._ended.wait(LONGEST_WAIT_S):
            self._look(False)
        self.line.chip.leaving = False
        self._listener = socket.create_server(address)
        self._listener.settimeout(LONGEST_WAIT_S)

    def _converse(self, client: socket.socket, who: str) -> None:
        adapter = _Adapter(self.line, lambda: self._now, self._written)
        guard = TelnetGuard(manager := rfc2217.PortManager(cast(Any, adapter), cast(Any, Sender(client))))
        began_s = time.monotonic()
        # epoll counts in whole milliseconds, of which an upload waits for thousands
        with selectors.SelectSelector() as selector:
            selector.register(client, selectors.EVENT_READ)
            selector.register(self._listener, selectors.EVENT_READ)
            while not self._ended.is_set():
                ready = {key.fileobj for key, _ in selector.select(self._wait_s())}
                if self._listener in ready:
                    turn_away(self._listener, who)
                waiting = client in ready
                self._look(waiting)
                if not guard.speaks and time.monotonic() - began_s > SILENT_S:
                    return
                if waiting:
                    received = client.recv(4096)
                    if not received:
                        return
                    # settings stand among the bytes: whatever precedes one is written before it is set
                    for byte in guard.filter(received):
                        adapter.pending += byte
                    adapter.flush()
                heard = self._heard()
                if heard:
                    client.sendall(b"".join(manager.escape(heard)))


class _Adapter:
    """The attributes of a serial port that pySerial's manager sets and reads."""

    cts = dsr = cd = True
    ri = False
    xonxoff = rtscts = False

    def __init__(self, line: SimulatedLine, now: Callable[[], float], written: Callable[[bytes], None]) -> None:
        self._line = line
        self._now = now
        self._written = written
        self.pending = b""
        self._values: dict[str, Any] = {"baudrate": 115200, "bytesize": 8, "parity": "N", "stopbits": 1}

    def _setting(self, name: str, value: Any) -> None:
        self._values[name] = value
        frame = Frame(self._values["bytesize"], _PARITY[self._values["parity"]], int(self._values["stopbits"]))
        self._line.configure(self._now(), LineSettings(self._values["baudrate"], frame))

    def __getattr__(self, name: str) -> Any:
        try:
            return self.__dict__["_values"][name]
        except KeyError:
            raise AttributeError(name) from None

    def flush(self) -> None:
        """Put everything so far on the line before what comes next."""
        pending, self.pending = self.pending, b""
        if pending:
            self._written(pending)

    def __setattr__(self, name: str, value: Any) -> None:
        if name in (*_SETTINGS, *_LINES):
            self.flush()
        if name in _SETTINGS:
            if not _POSSIBLE[name](value) or (name == "baudrate" and self._line.faults.refuses(int(value))):
                raise ValueError(value)
            self._setting(name, value)
        elif name == "break_condition":
            self._line.set_break(self._now(), bool(value))
        elif name in ("dtr", "rts"):
            dtr, rts = self._line.lines
            self._line.set_lines(self._now(), *((bool(value), rts) if name == "dtr" else (dtr, bool(value))))
        else:
            object.__setattr__(self, name, value)

    def reset_input_buffer(self) -> None:
        self._line.take(self._now(), 1 << 20)

    def reset_output_buffer(self) -> None:
        """Written bytes are on the wire already."""
