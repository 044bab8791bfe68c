"""A `Link` over anything that pySerial opens."""

from __future__ import annotations

import contextlib
import time
from dataclasses import dataclass
from typing import Any

import serial

from greenstep.core.link import LineErrors, LineSettings, LinesMissing, LinkLost

from .modem_lines import count_errors, set_both

_PARITY = {"none": serial.PARITY_NONE, "even": serial.PARITY_EVEN, "odd": serial.PARITY_ODD}
SLICE_S = 0.02
"""How long pySerial waits in one go; its time-out is never changed, which would reconfigure the port."""

LOST = (serial.SerialException, OSError)


def apply_settings(port: Any, settings: LineSettings, with_frame: bool = True) -> None:
    """Rate and frame of a pySerial port, open or not. Raises ValueError where it cannot make them.

    Only what differs is set: over a network each setting is negotiated for itself.
    """
    wanted: dict[str, Any] = {"baudrate": settings.baud}
    if with_frame:
        frame = settings.frame
        wanted.update(bytesize=frame.data_bits, parity=_PARITY[frame.parity], stopbits=frame.stop_bits)
    for name, value in wanted.items():
        if getattr(port, name) != value:
            setattr(port, name, value)


@dataclass
class _Held:
    """What is restored or compared when the link ends."""

    errors_at_opening: LineErrors | None
    closed: bool = False


class SerialLink:
    """`port` is open and set to `settings`. Every trouble of the port becomes LinkLost.

    `has_frames` False is a port that knows no parity (a pty): it is never asked for one.
    """

    def __init__(self, port: Any, settings: LineSettings, has_frames: bool = True) -> None:
        self._has_frames = has_frames
        self._port = port
        self._settings = settings
        self._held = _Held(count_errors(port))

    @property
    def settings(self) -> LineSettings:
        return self._settings

    def configure(self, settings: LineSettings) -> None:
        if settings == self._settings:
            return
        try:
            self._port.flush()
            apply_settings(self._port, settings, self._has_frames)
        except LOST as error:
            raise LinkLost(_words(error)) from error
        self._settings = settings

    def write(self, data: bytes) -> None:
        try:
            self._port.write(data)
        except LOST as error:
            raise LinkLost(_words(error)) from error

    def read(self, size: int, timeout_s: float) -> bytes:
        deadline = time.monotonic() + timeout_s
        data: bytes = b""
        try:
            while True:
                data += bytes(self._port.read(size - len(data)))
                if len(data) >= size or time.monotonic() >= deadline:
                    return data
        except LOST as error:
            raise LinkLost(_words(error)) from error
        except TypeError as error:  # pySerial's own state is gone when the port is closed under it
            raise LinkLost("the port was closed") from error

    def discard(self) -> bytes:
        try:
            waiting = self._port.in_waiting
            return bytes(self._port.read(waiting)) if waiting else b""
        except LOST as error:
            raise LinkLost(_words(error)) from error

    def set_lines(self, dtr: bool, rts: bool) -> None:
        try:
            set_both(self._port, dtr, rts)
        except LinesMissing:
            raise
        except LOST as error:
            raise LinkLost(_words(error)) from error

    def set_break(self, on: bool) -> None:
        try:
            self._port.break_condition = on
        except LOST as error:
            raise LinkLost(_words(error)) from error

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
        # a port that is gone has no lines left to release, and nothing to close
        with contextlib.suppress(LinesMissing, *LOST):
            set_both(self._port, False, False)
        with contextlib.suppress(*LOST):
            self._port.close()


def _words(error: BaseException) -> str:
    """The system's own words, without the class name and number."""
    if isinstance(error, OSError) and error.strerror:
        return error.strerror
    if "returned no data" in str(error):
        return "reading returned nothing: the device is gone"
    return str(error) or type(error).__name__
