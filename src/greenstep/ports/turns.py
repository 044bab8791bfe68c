"""Taking turns at a port: a console that holds it steps aside for another command of the same person.

The console listens at a socket of the user's runtime folder, named after the port. A command that wants the port
connects, says who it is, and waits for the word that the port is closed; while it is connected, the port is its own.
When the connection ends, however it ends, the console takes the port up again. One line of JSON each way: `{"who"}`,
`{"closed": true}`, and at the end, if the command lives to say it, `{"said", "heard"}`.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
import json
import os
import socket
import stat
import time
import warnings
from pathlib import Path
from typing import Any

from greenstep.core.frozen import frozen

# Why commands take turns instead of stealing the port
# ----------------------------------------------------
# A console stays open all day, and each upload needs the port for some seconds. Two programs on one port
# share its bytes at random, so one must leave, and nobody wants to close the console by hand for every upload:
# it lends the port. It must get it back however the other ends, also by kill -9: so the loan is a connection,
# which the system closes for whoever dies, and no file that would have to be removed. A socket in a folder
# that only this user can enter says who may ask.
LONGEST_S = 2.0
"""How long a command waits for a console, at the most."""
_MOST_BYTES = 1 << 20
_FAMILY = getattr(socket, "AF_UNIX", None)


def _folder() -> Path | None:
    """A folder that only this user can enter; None if there is none, or no such sockets."""
    if _FAMILY is None:
        return None
    import platformdirs

    with warnings.catch_warnings():  # that there is no XDG_RUNTIME_DIR
        warnings.simplefilter("ignore")
        folder = Path(platformdirs.user_runtime_dir("greenstep"))
    try:
        for path in (folder.parent, folder):
            path.mkdir(mode=0o700, exist_ok=True)
        private = folder.parent.stat().st_uid == folder.stat().st_uid == os.getuid()
        return folder if private and not stat.S_IMODE(folder.stat().st_mode) & 0o077 else None
    except OSError:
        return None


def _place(port: str) -> Path | None:
    """Where a port's console listens."""
    folder = _folder()
    if folder is None:
        return None
    known_as = port if "://" in port else os.path.realpath(port)
    return folder / f"port-{hashlib.sha256(known_as.encode()).hexdigest()[:16]}.socket"


class _Lines:
    """Lines of JSON over a socket. Anything else than a table counts as the end."""

    def __init__(self, connection: socket.socket) -> None:
        self.connection = connection
        self._heard = b""

    def send(self, table: dict[str, Any]) -> bool:
        """Whether it could be sent."""
        try:
            self.connection.settimeout(LONGEST_S)
            self.connection.sendall(json.dumps(table).encode() + b"\n")
        except OSError:
            return False
        return True

    def take(self, timeout_s: float) -> dict[str, Any] | None:
        """The next line; None if none came in time. Raises EOFError at the end."""
        end_s = time.monotonic() + timeout_s
        while b"\n" not in self._heard:
            left_s = end_s - time.monotonic()
            try:
                self.connection.settimeout(max(left_s, 0.001))
                more = self.connection.recv(65536)
            except TimeoutError:
                return None
            except OSError:
                more = b""
            if not more or len(self._heard) > _MOST_BYTES:
                raise EOFError
            self._heard += more
        line, _, self._heard = self._heard.partition(b"\n")
        try:
            table = json.loads(line)
        except ValueError:
            raise EOFError from None
        if not isinstance(table, dict):
            raise EOFError
        return table

    @property
    def ended(self) -> bool:
        """Whether the other end has gone already."""
        try:
            self.connection.setblocking(False)
            return self.connection.recv(1, socket.MSG_PEEK) == b""
        except BlockingIOError:
            return False
        except OSError:
            return True

    def close(self) -> None:
        with contextlib.suppress(OSError):
            self.connection.close()


@frozen
class Farewell:
    """What a guest says at the end: how it went, and what it heard of the program that runs. Empty if it died."""

    said: str = ""
    heard: bytes = b""


class Guest:
    """A command that asked for the port. `who` is what it is, in words."""

    def __init__(self, lines: _Lines, who: str) -> None:
        self._lines = lines
        self.who = who
        self._farewell = Farewell()

    def let_in(self) -> None:
        """Tell it that the port is closed."""
        self._lines.send({"closed": True})

    def leaves(self, timeout_s: float) -> Farewell | None:
        """What it said at the end; None if it is not over within this time."""
        try:
            table = self._lines.take(timeout_s)
        except EOFError:
            self._lines.close()
            return self._farewell
        if table is not None:
            try:
                heard = base64.b64decode(str(table.get("heard", "")), validate=True)
            except ValueError:
                heard = b""
            self._farewell = Farewell(str(table.get("said", "")), heard)
        return None


class PortLender:
    """The console's side."""

    def __init__(self, listener: socket.socket, place: Path) -> None:
        self._listener = listener
        self._place = place

    @classmethod
    def of(cls, port: str) -> PortLender | None:
        """Listen for those who want this port; None where that is not possible, or another console listens."""
        place = _place(port)
        if place is None or _FAMILY is None:
            return None
        listener = socket.socket(_FAMILY, socket.SOCK_STREAM)
        try:
            try:
                listener.bind(str(place))
            except OSError:
                if _answers(place):
                    raise
                place.unlink(missing_ok=True)
                listener.bind(str(place))
            listener.listen(8)
            listener.setblocking(False)
        except OSError:  # a path that is too long for a socket, among others
            listener.close()
            return None
        return cls(listener, place)

    def asked(self) -> Guest | None:
        """Who wants the port now, if anyone does. Returns at once."""
        try:
            connection, _ = self._listener.accept()
        except OSError:
            return None
        lines = _Lines(connection)
        with contextlib.suppress(EOFError):
            table = lines.take(0.5)
            if table is not None and isinstance(table.get("who"), str) and not lines.ended:
                return Guest(lines, table["who"])
        lines.close()
        return None

    def close(self) -> None:
        self._listener.close()
        with contextlib.suppress(OSError):
            self._place.unlink()


def _answers(place: Path) -> bool:
    """Whether somebody listens there."""
    assert _FAMILY is not None
    with socket.socket(_FAMILY, socket.SOCK_STREAM) as tried:
        tried.settimeout(LONGEST_S)
        try:
            tried.connect(str(place))
        except OSError:
            return False
    return True


class Loan:
    """The side of a command that wants a port."""

    def __init__(self, port: str, who: str) -> None:
        self._port, self._who = port, who
        self._lines: _Lines | None = None

    def ask(self) -> bool:
        """Whether a console stepped aside; False if there is none, or it does not answer in time. Asked again, the
        port is ours already."""
        if self._lines is not None:
            return True
        place = _place(self._port)
        if place is None or _FAMILY is None or not place.exists():
            return False
        end_s = time.monotonic() + LONGEST_S
        connection = socket.socket(_FAMILY, socket.SOCK_STREAM)
        connection.settimeout(LONGEST_S)
        try:
            connection.connect(str(place))
        except ConnectionRefusedError:  # its console died
            connection.close()
            with contextlib.suppress(OSError):
                place.unlink()
            return False
        except OSError:
            connection.close()
            return False
        lines = _Lines(connection)
        with contextlib.suppress(EOFError):
            if lines.send({"who": self._who}) and lines.take(max(0.0, end_s - time.monotonic())) is not None:
                self._lines = lines
                return True
        lines.close()
        return False

    def tell(self, said: str, heard: bytes) -> None:
        """How it went, for the console to show."""
        if self._lines is not None:
            self._lines.send({"said": said, "heard": base64.b64encode(heard[-_MOST_BYTES // 2 :]).decode()})

    def give_back(self) -> None:
        """The port is closed: the console may have it."""
        if self._lines is not None:
            self._lines.close()
            self._lines = None
