"""Opening a port, and what prevents it; and a port that disappears and comes back, perhaps under another name: a
board that is its own USB device."""

from __future__ import annotations

import contextlib
import errno
import os
import re
import socket
import time
from collections.abc import Callable
from functools import partial
from typing import Any

import serial

from greenstep.core.engine.job import OpenedPort
from greenstep.core.errors import PortFault, usage
from greenstep.core.findings.port_rules import PortSeen, diagnose_port
from greenstep.core.link import LineSettings, LinkLost
from greenstep.core.safety.telnet_guard import in_use_by

from .discovery import PortInfo, find_ports, known_by, listed_ports, usb_behind
from .holders import holders, owning_group
from .machine import Machine
from .modem_lines import has_lines
from .network_port import NetworkPort, quiet_threads
from .serial_link import SLICE_S, TERMINAL_ERRORS, SerialLink, apply_settings

LONGEST_S = 8.0
_POLL_S = 0.1
_GOES_WITHIN_S = 3.0
_SETTLES_S = 0.3
"""The system gives a new node its owner and mode a moment after it appears."""


class ComingBack:
    """Waits for the port `name`, recognised by the device it had when this was made. `look` lists the ports."""

    def __init__(
        self, name: str, look: Callable[[], list[PortInfo]], now: Callable[[], float], sleep: Callable[[float], None]
    ) -> None:
        self._name = name
        self._look, self._now, self._sleep = look, now, sleep
        self._before = {port.name: port for port in look()}
        self.gone = False
        """Whether it was seen to disappear."""

    def wait(self) -> str | None:
        """The name under which it is back; the old one if it never disappeared; None if it does not come back."""
        if self._name not in self._before:  # a port that is never listed, such as a pseudo terminal
            self._sleep(_GOES_WITHIN_S)
            return self._name
        began = self._now()
        while self._now() < began + LONGEST_S:
            ports = {port.name: port for port in self._look()}
            self.gone = self.gone or self._name not in ports
            if not self.gone and self._now() >= began + _GOES_WITHIN_S:
                return self._name
            found = self._found(ports) if self.gone else None
            if found is not None:
                self._sleep(_SETTLES_S)
                return found
            self._sleep(_POLL_S)
        return None

    def _found(self, ports: dict[str, PortInfo]) -> str | None:
        """The same place on the USB, the same serial number, or the only new port."""
        mine = self._before.get(self._name)
        if mine is not None and mine.location:
            place = mine.location.partition(":")[0]
            same = [p.name for p in ports.values() if p.location.partition(":")[0] == place]
            if same:
                return same[0]
        known = known_by(mine) if mine is not None else None
        if known is not None and known.serial:
            same = [p.name for p in ports.values() if p.serial == known.serial]
            if same:
                return same[0]
        new = [name for name in ports if name not in self._before]
        if self._name in ports:
            return self._name
        return new[0] if len(new) == 1 else None


try:
    import fcntl
    import termios
except ImportError:
    termios = None  # type: ignore[assignment]
    fcntl = None  # type: ignore[assignment]

_OPENING_ERRORS: tuple[type[Exception], ...] = (*TERMINAL_ERRORS, ValueError, OSError)
_WRITE_TIMEOUT_S = 10.0
_ASK_S = 1.0
_NETWORK = "rfc2217://"
_SCHEMES = (_NETWORK, "socket://", "loop://")
"""URLs that are opened. pySerial knows more: one writes a file of its choice, one searches all devices."""
_NO_CONTROL = "'control'"
"""pySerial's name, in its message, for what RFC 2217 calls SET-CONTROL: DTR, RTS, break, flow control."""
_UNCONFIRMED = "ign_set_control"  # pySerial's URL option that does not wait for SET-CONTROL's answers


def open_port(name: str, settings: LineSettings, lines: tuple[bool, bool], serial_number: str = "") -> OpenedPort:
    """Open a device or URL for this program alone, with DTR and RTS set before it opens.

    `serial_number` identifies the port in the project file, for the finding. Raises PortFault, UsageFault.
    """
    if name.startswith(_NETWORK):
        quiet_threads()
    port, has_frames = _opened(name, settings, lines, serial_number)
    confirms_lines = _UNCONFIRMED not in port.portstr
    link = SerialLink(port, settings, has_frames, partial(_again, name), confirms_lines)
    shared = "" if "://" in name or usb_behind(name) else Machine().shared_with(name)
    evidence = _evidence(name, port, "://" not in name)
    if shared:
        evidence += "; the system's console is on it" if shared == "console" else "; a login waits on it"
    return OpenedPort(link, evidence, shared)


def _again(name: str) -> Callable[[LineSettings, tuple[bool, bool]], tuple[Any, bool]]:
    """A function that reopens the port `name` after it disappeared, and tells whether it was seen to; it raises
    LinkLost if it does not come back."""
    back = None if "://" in name else ComingBack(name, find_ports, time.monotonic, time.sleep)

    def open_again(settings: LineSettings, lines: tuple[bool, bool]) -> tuple[Any, bool]:
        found = name if back is None else back.wait()
        if found is None:
            raise LinkLost("it disappeared as it should, and did not come back")
        end_s = time.monotonic() + LONGEST_S
        while True:
            try:
                return _opened(found, settings, lines, "")[0], back is not None and back.gone
            except PortFault as fault:  # still away, or not accessible yet
                if time.monotonic() > end_s:
                    raise LinkLost(fault.finding.cause) from fault
                time.sleep(0.1)

    return open_again


def open_raw(name: str, settings: LineSettings) -> Any:
    """The same as a pySerial port with both lines released, for a program that passes it on.

    Raises PortFault, UsageFault.
    """
    return _opened(name, settings, (False, False), "")[0]


def _opened(name: str, settings: LineSettings, lines: tuple[bool, bool], serial_number: str) -> tuple[Any, bool]:
    """An open pySerial port, and whether it takes a parity."""
    if "://" in name and not name.lower().startswith(_SCHEMES):
        raise usage("port", f"'{name}' does not name a port", f"URLs begin with {', '.join(_SCHEMES[:2])}")
    try:
        port: Any = NetworkPort() if name.startswith(_NETWORK) else serial.serial_for_url(name, do_not_open=True)
        port.port = name
    except (ValueError, ImportError) as error:
        raise usage("port", f"'{name}' does not name a port: {error}", "greenstep ports lists them") from None
    is_device = "://" not in name
    try:
        apply_settings(port, settings)
        port.timeout = SLICE_S
        port.dtr, port.rts = lines
        if is_device:
            port.write_timeout = _WRITE_TIMEOUT_S
            if os.name == "posix":
                port.exclusive = True
        has_frames = _open(port)
    except _OPENING_ERRORS as error:
        if name.startswith(_NETWORK) and _UNCONFIRMED not in name and _NO_CONTROL in str(error):
            return _opened(_without_confirmation(name), settings, lines, serial_number)
        raise PortFault(diagnose_port(_seen(name, settings, error, serial_number))) from error
    _keep_others_off(port)
    return port, has_frames


def _without_confirmation(name: str) -> str:
    """The same port for a server that never confirms DTR and RTS, because its own port has none (a small computer's
    UART)."""
    return f"{name}{'&' if '?' in name else '?'}{_UNCONFIRMED}"


def _open(port: Any) -> bool:
    """Open; returns False for a terminal that does not accept the wanted parity, as no pty does.

    The kernel drops the parity bit there, and the C library reports an error if nothing else was to change.
    """
    wants_parity = port.parity != serial.PARITY_NONE
    try:
        port.open()
    except TERMINAL_ERRORS:
        if not wants_parity:
            raise
        port.parity = serial.PARITY_NONE
        port.open()
        return False
    descriptor = getattr(port, "fd", None)
    if termios is None or not wants_parity or not isinstance(descriptor, int):
        return True
    if termios.tcgetattr(descriptor)[2] & termios.PARENB:
        return True
    port.parity = serial.PARITY_NONE
    return False


def _keep_others_off(port: Any) -> None:
    """TIOCEXCL on top of pySerial's lock, which only programs respect that ask for it."""
    if termios is not None and isinstance(getattr(port, "fd", None), int):
        with contextlib.suppress(OSError):  # not every device can; the lock is held anyway
            fcntl.ioctl(port.fd, termios.TIOCEXCL)


def _evidence(name: str, port: Any, is_device: bool) -> str:
    if name.startswith(_NETWORK):
        opened = "opened over the network (RFC 2217)"
        return opened if _UNCONFIRMED not in port.portstr else f"{opened}; its other end confirms no DTR and RTS"
    said = ["opened"]
    if is_device and (usb := usb_behind(name)):
        said.append(usb)
    if not has_lines(port):
        said.append("no DTR and RTS here")
    return "; ".join(said)


def _without_numbers(words: str) -> str:
    """The message after an error number that another library put in front of it, or all of it."""
    found = re.search(r"\[Errno -?\d+\] ([^'\"]+)|\(\d+, '([^']+)'\)", words)
    return (found[1] or found[2]).strip() if found else words


def _user_of(name: str) -> str:
    """Who has a port on the network, if its server says so."""
    from urllib.parse import urlsplit

    place = urlsplit(name)
    try:
        with socket.create_connection((place.hostname or "", place.port or 0), timeout=_ASK_S) as asked:
            return in_use_by(asked.recv(200))
    except (OSError, ValueError):
        return ""


def _seen(name: str, settings: LineSettings, error: BaseException, serial_number: str) -> PortSeen:
    """The system's refusal, as plain data."""
    number = getattr(error, "errno", None)
    words = os.strerror(number) if isinstance(number, int) else _without_numbers(str(error))
    if isinstance(error, ValueError):
        return PortSeen(name, "setting", words, setting=str(settings))
    if "://" in name:
        user = _user_of(name) if name.startswith(_NETWORK) else ""
        return PortSeen(name, "busy", holders=(user,)) if user else PortSeen(name, "unreachable", words)
    if number in (errno.ENOENT, errno.ENXIO, errno.ENODEV) or (os.name == "nt" and number == 2):
        return PortSeen(name, "missing", "", listed_ports(), serial=serial_number)
    if number in (errno.EBUSY, errno.EAGAIN) or (os.name == "nt" and number == errno.EACCES):
        return PortSeen(name, "busy", words, holders=holders(name))
    if number in (errno.EACCES, errno.EPERM):
        return PortSeen(name, "forbidden", words, group=owning_group(name))
    if number in (errno.ENOTTY, errno.EISDIR, errno.EINVAL) or isinstance(error, TERMINAL_ERRORS):
        return PortSeen(name, "not a port", words)
    if number is None and "configure" in str(error):
        return PortSeen(name, "not a port", words)
    return PortSeen(name, "other", words)
