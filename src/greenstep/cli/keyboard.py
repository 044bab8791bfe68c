"""The keys of a terminal, as they are pressed, or the lines of a pipe."""

from __future__ import annotations

import contextlib
import os
import queue
import select
import sys
import threading
from collections.abc import Iterator
from typing import Any

try:
    import termios
    import tty
except ImportError:  # Windows
    termios = None  # type: ignore[assignment]


@contextlib.contextmanager
def terminal_keys(all_keys: bool) -> Iterator[None]:
    """Keys come one by one and without echo while the block runs. `all_keys`: Ctrl-C is a key like the others."""
    if termios is None:
        yield
        return
    descriptor = sys.stdin.fileno()
    before = termios.tcgetattr(descriptor)
    try:
        tty.setcbreak(descriptor)
        wanted: list[Any] = termios.tcgetattr(descriptor)
        wanted[0] &= ~termios.ICRNL
        if all_keys:
            wanted[3] &= ~(termios.ISIG | termios.IEXTEN)
        termios.tcsetattr(descriptor, termios.TCSANOW, wanted)
        yield
    finally:
        termios.tcsetattr(descriptor, termios.TCSADRAIN, before)


def pressed() -> bytes:
    """The keys that have been pressed, if any."""
    if termios is None:
        return _pressed_on_windows()
    ready, _, _ = select.select([sys.stdin], [], [], 0)
    return os.read(sys.stdin.fileno(), 1024) if ready else b""


def _pressed_on_windows() -> bytes:
    import msvcrt

    keys = ""
    while msvcrt.kbhit():  # type: ignore[attr-defined]
        keys += msvcrt.getwch()  # type: ignore[attr-defined]
    return keys.encode()


class PipedLines:
    """Lines from a pipe or a file, in whatever encoding, read in a thread of their own, because a pipe cannot be
    asked whether it has any."""

    def __init__(self) -> None:
        self._lines: queue.Queue[bytes] = queue.Queue()
        self._ended = threading.Event()
        threading.Thread(target=self._read, name="piped lines", daemon=True).start()

    def _read(self) -> None:
        # past Python's own buffer: a thread that still waits holds its lock when the program ends, which aborts it
        begun = b""
        with contextlib.suppress(OSError, ValueError):  # closed by the parent process: no lines
            while more := os.read(sys.stdin.fileno(), 4096):
                *lines, begun = (begun + more).split(b"\n")
                for line in lines:
                    self._lines.put(line.rstrip(b"\r"))
        if begun:
            self._lines.put(begun.rstrip(b"\r"))
        self._ended.set()

    def wait_for_end(self, longest_s: float) -> None:
        """Wait until there are no more to come."""
        if longest_s > 0:
            self._ended.wait(longest_s)

    def take(self) -> list[bytes]:
        """The lines that have come."""
        lines = []
        with contextlib.suppress(queue.Empty):
            while True:
                lines.append(self._lines.get_nowait())
        return lines
