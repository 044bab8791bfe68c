"""DTR and RTS, both at once if the system can, and the driver's error counters."""

from __future__ import annotations

import array
import errno
import struct
import time
from typing import Any

from greenstep.core.link import LineErrors, LinesMissing

try:
    import fcntl
    import termios
except ImportError:  # Windows: pySerial's own way, one line after the other
    fcntl = None  # type: ignore[assignment]
    termios = None  # type: ignore[assignment]

NO_LINES = (errno.ENOTTY, errno.EINVAL, errno.EOPNOTSUPP)
_TIOCGICOUNT = 0x545D  # Linux, asm-generic/ioctls.h
_CONFIRMED_WITHIN_S = 0.3  # a loader entered by a reset may wait only a second
_COUNTER_INTS = 20  # struct serial_icounter_struct: … 6 frame, 7 overrun, 8 parity …


def set_both(port: Any, dtr: bool, rts: bool) -> None:
    """Assert (True) or release both lines of an open pySerial port.

    Between two single changes a circuit sees a state that nobody wants. A terminal device takes both in one TIOCMSET;
    over RFC 2217 both changes are sent without waiting for the first one's answer, which would cost a round trip or
    more, and have happened when the second one is confirmed. Raises LinesMissing, OSError.
    """
    if _is_bare_socket(port):
        raise LinesMissing
    if hasattr(port, "rfc2217_send_subnegotiation"):
        _set_over_network(port, dtr, rts)
        return
    descriptor = getattr(port, "fd", None)
    try:
        if termios is not None and isinstance(descriptor, int):
            _set_at_once(descriptor, dtr, rts)
        else:
            for name, on in _rising_first(port, dtr, rts):
                setattr(port, name, on)
    except OSError as error:
        if error.errno in NO_LINES:
            raise LinesMissing from error
        raise


def _rising_first(port: Any, dtr: bool, rts: bool) -> list[tuple[str, bool]]:
    """The order of two single changes: the line to be asserted goes first. In between, both are then asserted and
    never both released, which the USB-Serial/JTAG of an ESP32-C3 and its relatives takes for 'run' (its lines are
    decoded, not wired); a cross pair is at rest in both states."""
    moves = [("dtr", dtr), ("rts", rts)]
    return moves[::-1] if rts and not port.rts else moves


def has_lines(port: Any) -> bool:
    """Whether an open port has DTR and RTS at all; assumed if the system cannot tell."""
    if _is_bare_socket(port):
        return False
    descriptor = getattr(port, "fd", None)
    if termios is None or not isinstance(descriptor, int):
        return True
    try:
        fcntl.ioctl(descriptor, termios.TIOCMGET, array.array("i", [0]))
    except OSError as error:
        return error.errno not in NO_LINES
    return True


def _is_bare_socket(port: Any) -> bool:
    """Whether it is pySerial's `socket://`, which accepts settings and lines and does nothing with them."""
    return type(port).__module__.endswith("protocol_socket")


def _set_at_once(descriptor: int, dtr: bool, rts: bool) -> None:
    state = array.array("i", [0])
    fcntl.ioctl(descriptor, termios.TIOCMGET, state)
    both = termios.TIOCM_DTR | termios.TIOCM_RTS
    wanted = (termios.TIOCM_DTR if dtr else 0) | (termios.TIOCM_RTS if rts else 0)
    fcntl.ioctl(descriptor, termios.TIOCMSET, struct.pack("i", state[0] & ~both | wanted))


def _set_over_network(port: Any, dtr: bool, rts: bool) -> None:
    """A wait after this begins when the lines have moved at the other end: on a slow network two moves would
    otherwise arrive together. If no confirmation comes, the moves count from when they were sent."""
    from serial import rfc2217

    orders = {
        ("dtr", True): rfc2217.SET_CONTROL_DTR_ON, ("dtr", False): rfc2217.SET_CONTROL_DTR_OFF,
        ("rts", True): rfc2217.SET_CONTROL_RTS_ON, ("rts", False): rfc2217.SET_CONTROL_RTS_OFF,
    }  # fmt: skip
    moves = _rising_first(port, dtr, rts)
    first, second = (orders[move] for move in moves)
    port._dtr_state, port._rts_state = dtr, rts  # what pySerial's own setters record
    port.rfc2217_send_subnegotiation(rfc2217.SET_CONTROL, first)
    request = port._rfc2217_options["control"]  # pySerial's own setters wait after each, or not at all
    request.set(second)
    end_s = time.monotonic() + _CONFIRMED_WITHIN_S
    reader = port._thread
    while request.state != rfc2217.ACTIVE and reader.is_alive() and time.monotonic() < end_s:
        time.sleep(0.001)


def count_errors(port: Any) -> LineErrors | None:
    """What the driver has counted since it was loaded; None if it does not count."""
    descriptor = getattr(port, "fd", None)
    if fcntl is None or not isinstance(descriptor, int):
        return None
    counters = array.array("i", [0] * _COUNTER_INTS)
    try:
        fcntl.ioctl(descriptor, _TIOCGICOUNT, counters)
    except OSError:
        return None
    return LineErrors(parity=counters[8], framing=counters[6], overrun=counters[7])
