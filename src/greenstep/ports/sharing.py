"""A local port served over RFC 2217 to one client at a time. The telnet side is pySerial's."""

from __future__ import annotations

import contextlib
import selectors
import socket
import struct
import time
from collections.abc import Callable, Iterator
from typing import Any, cast

import serial
from serial import rfc2217

from greenstep.core.errors import PortFault
from greenstep.core.findings.port_rules import PortSeen, diagnose_port
from greenstep.core.link import LinesMissing
from greenstep.core.safety.telnet_guard import SILENT_S, Sender, TelnetGuard, made_ready, turn_away

from .modem_lines import NO_LINES, set_both
from .serial_link import TERMINAL_ERRORS

_POLL_S = 0.005
_SETTINGS = ("baudrate", "bytesize", "parity", "stopbits")
_LINES_POLL_S = 0.5


class PortShare:
    """Serves `port`, which is open, on a TCP address until it is interrupted. `told` is called with a line of text
    when a client comes or goes. A client that does not speak telnet within `silent_s` seconds is sent away. Raises
    OSError if the address is not available."""

    def __init__(
        self,
        port: Any,
        name: str,
        host: str,
        tcp_port: int,
        told: Callable[[str], None],
        silent_s: float = SILENT_S,
    ) -> None:
        self._port = port
        self._name = name
        self._told = told
        self._silent_s = silent_s
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
                except ConnectionError:  # it went before it was let in
                    continue
                self._told(f"{address[0]} came")
                with client:
                    why = ""
                    with contextlib.suppress(ConnectionError, TimeoutError):
                        made_ready(client)
                        why = self._converse(client, address[0])
                with contextlib.suppress(LinesMissing, *_LOST):
                    set_both(self._port, False, False)
                self._told(f"{address[0]} went{f': {why}' if why else ''}")

    def _converse(self, client: socket.socket, who: str) -> str:
        """Until the client goes, or is sent away: then why. Raises OSError, PortFault."""
        guard = TelnetGuard(
            manager := rfc2217.PortManager(cast(Any, _Obliging(self._port)), cast(Any, Sender(client)))
        )
        began_s = time.monotonic()
        with selectors.SelectSelector() as selector:
            selector.register(client, selectors.EVENT_READ)
            selector.register(self._listener, selectors.EVENT_READ)
            descriptor = self._descriptor()
            if descriptor is not None:
                selector.register(descriptor, selectors.EVENT_READ)
            wait_s = _POLL_S if descriptor is None else _LINES_POLL_S
            while True:
                ready = {key.fileobj for key, _ in selector.select(wait_s)}
                if self._listener in ready:
                    turn_away(self._listener, who)
                if not guard.speaks and time.monotonic() - began_s > self._silent_s:
                    return f"it did not speak telnet within {self._silent_s:g} s"
                with self._local():
                    if client in ready:
                        received = client.recv(4096)
                        if not received:
                            return ""
                        wanted = b"".join(guard.filter(received))
                        if wanted:
                            self._port.write(wanted)
                    heard = self._port.read(self._port.in_waiting or (1 if descriptor in ready else 0))
                    if not ready:
                        manager.check_modem_lines()
                if heard:
                    client.sendall(b"".join(manager.escape(heard)))

    @contextlib.contextmanager
    def _local(self) -> Iterator[None]:
        """What is done with the local port. Raises PortFault if it is gone."""
        try:
            yield
        except (ConnectionError, TimeoutError):  # the client's: answers are sent to it meanwhile
            raise
        except _LOST as error:
            raise self._vanished(error) from error

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


_UNFIT: tuple[type[Exception], ...] = (OverflowError, struct.error, *TERMINAL_ERRORS)


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
        before = getattr(self, name) if name in _SETTINGS else None
        try:
            setattr(self._port, name, value)
            self._asked.pop(name, None)
        except OSError as error:
            if name in ("dtr", "rts") and error.errno in NO_LINES:
                self._asked[name] = value
            elif name in _SETTINGS:
                self._refuse(name, before)
            else:
                raise
        except _UNFIT:
            if name != "parity":
                self._refuse(name, before)
            self._port.parity = serial.PARITY_NONE
            self._asked[name] = value

    def _refuse(self, name: str, before: Any) -> None:
        """A setting that the port does not take: whether it is still there, reading it tells. Raises ValueError, at
        which the client is told the setting that stays."""
        with contextlib.suppress(OSError, *TERMINAL_ERRORS):
            setattr(self._port, name, before)
        raise ValueError(name)
