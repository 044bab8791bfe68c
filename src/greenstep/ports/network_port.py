"""pySerial's RFC 2217 port, guarded against a server that sends without pause: it neither fills the memory nor keeps
a thread for ever, and an error in the library's threads is reported as a lost port."""

from __future__ import annotations

import queue
import threading
from typing import Any

from serial import rfc2217
from serial.serialutil import PortNotOpenError

_NAME = "pySerial"
"""The names of pySerial's own threads."""


def quiet_threads() -> None:
    """From now on no thread of that library prints to the terminal. Others are not affected."""
    before = threading.excepthook
    if getattr(before, "__module__", "") == __name__:
        return

    def hook(args: threading.ExceptHookArgs, /) -> None:
        if args.thread is None or not args.thread.name.startswith(_NAME):
            before(args)

    threading.excepthook = hook


_MOST_WAITING = 1 << 20


class _LastBytes(queue.Queue[bytes | None]):
    """A queue whose writer never waits: when it is full, the oldest goes."""

    def __init__(self) -> None:
        super().__init__(_MOST_WAITING)

    def put(self, item: bytes | None, block: bool = True, timeout: float | None = None) -> None:
        while True:
            try:
                return super().put(item, False)
            except queue.Full:
                self.drop(1)

    def drop(self, most: int) -> None:
        """Take at most so many out."""
        for _ in range(most):
            try:
                self.get(False)
            except queue.Empty:
                return


class NetworkPort(rfc2217.Serial):
    """`_read_buffer` is what its reader thread fills; the parent makes a new one whenever it is opened."""

    @property
    def _read_buffer(self) -> Any:
        return self.__dict__.get("_last_bytes")

    @_read_buffer.setter
    def _read_buffer(self, fresh: object) -> None:
        self.__dict__["_last_bytes"] = None if fresh is None else _LastBytes()

    def reset_input_buffer(self) -> None:
        """What has come by now is left out; the parent would go on for as long as more comes."""
        if not self.is_open:
            raise PortNotOpenError
        self.rfc2217_send_purge(rfc2217.PURGE_RECEIVE_BUFFER)
        self._read_buffer.drop(self._read_buffer.qsize())
