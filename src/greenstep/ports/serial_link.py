"""A `Link` over anything that pySerial opens."""

from __future__ import annotations

import contextlib
import errno
import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import serial

from greenstep.core.frozen import changing
from greenstep.core.link import LineErrors, LineSettings, LinesMissing, LinkLost, RateRefused

from .modem_lines import count_errors, set_both

_PARITY = {"none": serial.PARITY_NONE, "even": serial.PARITY_EVEN, "odd": serial.PARITY_ODD}
SLICE_S = 0.02
"""How long pySerial waits at a time; its time-out never changes, because that would reconfigure the port."""
_LONGEST_SLICE_S = 2 * SLICE_S
"""If a slice took longer, the machine was busy with something else (a compiler on every core, a closed lid), and so
was whatever delivers the bytes: that time is not the chip's silence."""

_CLOSED = "the port was closed"
_NO_BREAK = (errno.ENOTTY, errno.EINVAL, errno.EOPNOTSUPP)

try:
    import termios

    TERMINAL_ERRORS: tuple[type[Exception], ...] = (termios.error,)
except ImportError:
    TERMINAL_ERRORS = ()
LOST: tuple[type[Exception], ...] = (serial.SerialException, OSError, *TERMINAL_ERRORS)


def apply_settings(port: Any, settings: LineSettings, with_frame: bool = True) -> None:
    """Rate and frame of a pySerial port, open or not. Raises ValueError if it cannot make them.

    Only what differs is set: over a network each setting is negotiated separately.
    """
    wanted: dict[str, Any] = {"baudrate": settings.baud}
    if with_frame:
        frame = settings.frame
        wanted.update(bytesize=frame.data_bits, parity=_PARITY[frame.parity], stopbits=frame.stop_bits)
    for name, value in wanted.items():
        if getattr(port, name) != value:
            setattr(port, name, value)


@changing
class _Held:
    """What is restored or compared when the link ends."""

    errors_at_opening: LineErrors | None
    closed: bool = False


class SerialLink:
    """`port` is open and set to `settings`. Every error of the port becomes LinkLost.

    `has_frames` False is a port without parity (a pty): it is never asked for one. `has_lines` False is one that said
    it has no DTR and RTS. `again`, called before the port is closed, returns a function that waits for the port and
    opens it: for boards that come back under another name.
    """

    def __init__(
        self,
        port: Any,
        settings: LineSettings,
        has_frames: bool = True,
        again: Callable[[], Callable[[LineSettings, tuple[bool, bool]], tuple[Any, bool]]] | None = None,
        has_lines: bool = True,
    ) -> None:
        self._has_frames = has_frames
        self._has_lines = has_lines
        self._again = again
        self._port = port
        self._settings = settings
        self._held = _Held(count_errors(port))
        self.makes_no_break = False
        """Whether a break was wanted, and neither adapter nor network made one."""

    @property
    def settings(self) -> LineSettings:
        return self._settings

    def configure(self, settings: LineSettings) -> None:
        if settings == self._settings:
            return
        try:
            self._port.flush()
            self._apply(settings)
        except LOST as error:
            raise LinkLost(_words(error)) from error
        except ValueError as error:  # pySerial's word for a rate that the adapter cannot make
            with contextlib.suppress(*LOST, ValueError):
                self._apply(self._settings)
            raise RateRefused(settings) from error
        self._settings = settings

    def _apply(self, settings: LineSettings) -> None:
        """A terminal without parity (a pty) may report an error when asked for one: then it is used without."""
        try:
            apply_settings(self._port, settings, self._has_frames)
        except TERMINAL_ERRORS as error:
            if not self._has_frames or settings.frame.parity == "none":
                raise LinkLost(_words(error)) from error
            self._has_frames = False
            self._port.parity = serial.PARITY_NONE
            apply_settings(self._port, settings, False)

    def write(self, data: bytes) -> None:
        try:
            self._port.write(data)
        except LOST as error:
            raise LinkLost(_words(error)) from error
        except TypeError as error:  # pySerial's own state is gone when the port is closed during a call
            raise LinkLost(_CLOSED) from error

    def read(self, size: int, timeout_s: float) -> bytes:
        seen_s = time.monotonic()
        left_s = timeout_s
        data: bytes = b""
        try:
            while True:
                data += bytes(self._port.read(size - len(data)))
                now_s = time.monotonic()
                left_s -= min(now_s - seen_s, _LONGEST_SLICE_S)
                seen_s = now_s
                if len(data) >= size or left_s <= 0:
                    return data
        except LOST as error:
            raise LinkLost(_words(error)) from error
        except TypeError as error:
            raise LinkLost(_CLOSED) from error

    def discard(self) -> bytes:
        try:
            waiting = self._port.in_waiting
            return bytes(self._port.read(waiting)) if waiting else b""
        except LOST as error:
            raise LinkLost(_words(error)) from error
        except TypeError as error:
            raise LinkLost(_CLOSED) from error

    def set_lines(self, dtr: bool, rts: bool) -> None:
        if not self._has_lines:
            raise LinesMissing
        try:
            set_both(self._port, dtr, rts)
        except LinesMissing:
            raise
        except LOST as error:
            raise LinkLost(_words(error)) from error
        except ValueError as error:  # the other end of a network port refuses them
            raise LinesMissing from error

    def set_break(self, on: bool) -> None:
        try:
            self._port.break_condition = on
        except ValueError:  # the other end of a network port refuses it
            self.makes_no_break = True
        except LOST as error:
            if getattr(error, "errno", None) not in _NO_BREAK:
                raise LinkLost(_words(error)) from error
            self.makes_no_break = True

    def reopen(self, baud: int | None) -> bool:
        try:
            settings, lines = self._settings, (bool(self._port.dtr), bool(self._port.rts))
        except LOST as error:
            raise LinkLost(_words(error)) from error
        if self._again is None:
            raise LinkLost("this port cannot be opened again")
        open_again = self._again()
        if baud is not None:
            self.configure(replace(settings, baud=baud))
            with contextlib.suppress(LinesMissing):
                self.set_lines(False, False)
        with contextlib.suppress(*LOST):
            self._port.close()
        self._port, went = open_again(settings, lines)
        self._settings = settings
        return went

    def errors(self) -> LineErrors | None:
        start, now = self._held.errors_at_opening, count_errors(self._port)
        if start is None or now is None:
            return None
        return LineErrors(now.parity - start.parity, now.framing - start.framing, now.overrun - start.overrun)

    def now(self) -> float:
        return time.monotonic()

    def sleep(self, seconds: float) -> None:
        time.sleep(seconds)

    def close(self) -> None:
        if self._held.closed:
            return
        self._held.closed = True
        # a lost port has no lines to release, and nothing to close
        with contextlib.suppress(LinesMissing, LinkLost, *LOST):
            self.set_lines(False, False)
        with contextlib.suppress(*LOST):
            self._port.close()


def _words(error: BaseException) -> str:
    """The system's own message, without the class name and number."""
    if isinstance(error, OSError) and error.strerror:
        return error.strerror
    if len(error.args) == 2 and isinstance(error.args[1], str):  # termios.error, which is no OSError
        return error.args[1]
    if "returned no data" in str(error):
        return "reading returned nothing: the device is gone"
    return str(error) or type(error).__name__
