"""The telnet side of a port that is served (RFC 854, RFC 2217), guarded against a peer that sends anything.

What a peer sends is handed to a manager of the protocol piece by piece. A message that makes no sense is left out, as
RFC 854 leaves out commands that it does not know; a subnegotiation without an end is not collected for ever.
"""

from __future__ import annotations

import contextlib
import socket
import struct
from typing import Any

_IAC = 0xFF
_NORMAL = 0
"""The manager's state between two messages."""
_LONGEST_MESSAGE = 64
"""Bytes of a subnegotiation; those of RFC 2217 have six at most, unless a signature is asked for."""
_SENSELESS = (struct.error, LookupError, ValueError, TypeError, OverflowError, AttributeError)


class TelnetGuard:
    """`manager` is pySerial's. `senseless` counts the messages that were left out; `speaks`: the peer has sent a
    telnet command, so that it is no stranger who only holds the port."""

    def __init__(self, manager: Any) -> None:
        self._manager = manager
        self.senseless = 0
        self.speaks = False

    def filter(self, received: bytes) -> list[bytes]:
        """What is meant for the port, in pieces: between two of them settings may have changed."""
        manager = self._manager
        if manager.mode == _NORMAL and manager.suboption is None and _IAC not in received:
            return [received]
        pieces: list[bytes] = []
        for number in range(len(received)):
            try:
                pieces += manager.filter(received[number : number + 1])
            except _SENSELESS:
                self._leave_out()
            if manager.suboption is not None and len(manager.suboption) > _LONGEST_MESSAGE:
                self._leave_out()
        self.speaks = True
        return pieces

    def _leave_out(self) -> None:
        self._manager.mode, self._manager.suboption = _NORMAL, None
        self.senseless += 1


class Sender:
    """What pySerial's manager calls a connection."""

    def __init__(self, client: socket.socket) -> None:
        self._client = client

    def write(self, data: bytes) -> None:
        """Raises OSError; TimeoutError for a peer that does not take it."""
        self._client.sendall(data)


def made_ready(client: socket.socket) -> None:
    """Small messages go at once; a peer that does not read is not waited for, and one that is gone is noticed."""
    client.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    client.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
    for option, seconds in (("TCP_KEEPIDLE", 10), ("TCP_KEEPINTVL", 5), ("TCP_KEEPCNT", 3)):
        if hasattr(socket, option):
            client.setsockopt(socket.IPPROTO_TCP, getattr(socket, option), seconds)
    client.settimeout(_SEND_S)


def turn_away(listener: socket.socket, who: str) -> None:
    """Let another client in, tell it who has the port, and close."""
    with contextlib.suppress(OSError):
        other, _ = listener.accept()
        with other:
            other.settimeout(_SEND_S)
            other.sendall(f"{IN_USE} {who}\r\n".encode())
            other.shutdown(socket.SHUT_WR)


def in_use_by(said: bytes) -> str:
    """Who has the port, by what a server said; empty if it said something else."""
    text = said.split(b"\r\n")[0].decode("ascii", "replace")
    return text.removeprefix(f"{IN_USE} ") if text.startswith(f"{IN_USE} ") else ""


SILENT_S = 15.0
"""How long a peer may have the port without speaking telnet."""
IN_USE = "in use by"
_SEND_S = 5.0
