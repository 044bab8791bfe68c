"""A local port served over RFC 2217 to one client at a time. The telnet side is pySerial's."""

from __future__ import annotations

import contextlib
import selectors
import socket
from collections.abc import Callable
from typing import Any, cast

import serial
from serial import rfc2217

from greenstep.core.errors import PortFault
from greenstep.core.findings.port_rules import PortSeen, diagnose_port
from greenstep.core.link import LinesMissing

from .modem_lines import NO_LINES, set_both
from .serial_link import TERMINAL_ERRORS

_POLL_S = 0.005
_LINES_POLL_S = 0.5


class PortShare:
    """Serves `port`, which is open, on a TCP address until it is interrupted. `told` is called with a line of text
    when a client comes or goes. Raises OSError if the address is not available."""

    def __init__(self, port: Any, name: str, host: str, tcp_port: int, told: Callable[[str], None]) -> None:
        self._port = port
        self._name = name
        self._told = told
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        self._listener = socket.create_server((host, tcp_port), family=family)
        self._listener.settimeout(0.2)
        shown = f"[{host}]" if ":" in host else host
        self.url = f"rfc2217://{shown}:{self._listener.getsockname()[1]}"

    def serve(self) -> None:
        """Raises PortFault when the local port disappears."""
        with self._listener:
            while True:
                try:
                    client, address = self._listener.accept()
                except TimeoutError:
                    self._still_there()
                    continue
                self._told(f"{address[0]} came")
                with client:
                    client.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                    with contextlib.suppress(ConnectionError):
                        self._converse(client)
                with contextlib.suppress(LinesMissing, *_LOST):
                    set_both(self._port, False, False)
                self._told(f"{address[0]} went")

    def _converse(self, client: socket.socket) -> None:
        manager = rfc2217.PortManager(cast(Any, _Obliging(self._port)), cast(Any, _Sender(client)))
        with selectors.SelectSelector() as selector:
            selector.register(client, selectors.EVENT_READ)
            descriptor = self._descriptor()
            if descriptor is not None:
                selector.register(descriptor, selectors.EVENT_READ)
            wait_s = _POLL_S if descriptor is None else _LINES_POLL_S
            while True:
                ready = {key.fileobj for key, _ in selector.select(wait_s)}
                try:
                    if client in ready:
                        received = client.recv(4096)
                        if not received:
                            return
                        wanted = b"".join(manager.filter(received))
                        if wanted:
                            self._port.write(wanted)
                    heard = self._port.read(self._port.in_waiting or (1 if descriptor in ready else 0))
                    if not ready:
                        manager.check_modem_lines()
                except ConnectionError:
                    raise
                except _LOST as error:
                    raise self._vanished(error) from error
                if heard:
                    client.sendall(b"".join(manager.escape(heard)))

    def _descriptor(self) -> int | None:
        """The device's file descriptor, if the system can wait for it."""
        descriptor = getattr(self._port, "fd", None)
        return descriptor if isinstance(descriptor, int) else None

    def _still_there(self) -> None:
        try:
            _ = self._port.in_waiting
        except _LOST as error:
            raise self._vanished(error) from error

    def _vanished(self, error: BaseException) -> PortFault:
        words = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
        return PortFault(diagnose_port(PortSeen(self._name, "vanished", words)))


_LOST: tuple[type[Exception], ...] = (serial.SerialException, OSError, TypeError, *TERMINAL_ERRORS)


class _Obliging:
    """The port as the client sees it. A terminal that has no parity or no modem lines (a pty) accepts such requests
    and does without, because RFC 2217 has no way to say so."""

    def __init__(self, port: Any) -> None:
        object.__setattr__(self, "_port", port)
        object.__setattr__(self, "_asked", {})

    def __getattr__(self, name: str) -> Any:
        if name in self._asked:
            return self._asked[name]
        try:
            return getattr(self._port, name)
        except OSError as error:
            if name in ("cts", "dsr", "ri", "cd") and error.errno in NO_LINES:
                return False
            raise

    def __setattr__(self, name: str, value: Any) -> None:
        try:
            setattr(self._port, name, value)
            self._asked.pop(name, None)
        except TERMINAL_ERRORS:
            if name != "parity":
                raise
            self._port.parity = serial.PARITY_NONE
            self._asked[name] = value
        except OSError as error:
            if name not in ("dtr", "rts") or error.errno not in NO_LINES:
                raise
            self._asked[name] = value


class _Sender:
    """What pySerial's manager calls a connection."""

    def __init__(self, client: socket.socket) -> None:
        self._client = client

    def write(self, data: bytes) -> None:
        self._client.sendall(data)
