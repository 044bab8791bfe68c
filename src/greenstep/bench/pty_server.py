"""A bench board on a pseudo terminal: no DTR, no RTS, and a kernel that passes bytes without rate or parity."""

from __future__ import annotations

import os
import selectors
import threading
import time
import tty

from .boards import BenchBoard, Hands
from .faults import Faults

_LONGEST_WAIT_S = 0.05


class PtyServer:
    """One board behind one pty, entered by a simulated person. Serves in a thread of its own until closed."""

    def __init__(
        self,
        board: BenchBoard,
        faults: Faults | None = None,
        turnaround_s: float = 0.001,
        hands: Hands | None = None,
    ) -> None:
        self.board = board
        self.line = board.build(faults, turnaround_s)
        self.line.frames_count = False
        self._hands = hands
        self._ended = threading.Event()
        self._ours, self._theirs = os.openpty()
        tty.setraw(self._theirs)
        self.url = os.ttyname(self._theirs)
        self._started = time.monotonic()
        self.line.power_on(0.0)
        self._thread = threading.Thread(target=self._serve, name=f"bench {board.name}", daemon=True)
        self._thread.start()

    def close(self) -> None:
        self._ended.set()
        self._thread.join(timeout=2)
        for descriptor in (self._ours, self._theirs):
            os.close(descriptor)

    def _now(self) -> float:
        return time.monotonic() - self._started

    def _serve(self) -> None:
        pressed = False
        # epoll counts in whole milliseconds, of which an upload waits for thousands
        with selectors.SelectSelector() as selector:
            selector.register(self._ours, selectors.EVENT_READ)
            while not self._ended.is_set():
                following = self.line.next_answer
                wait_s = _LONGEST_WAIT_S if following is None else following - self._now()
                if selector.select(min(_LONGEST_WAIT_S, max(0.0, wait_s))):
                    wanted = os.read(self._ours, 4096)
                    if self._hands is not None and not pressed:
                        pressed = True
                        self._hands.press(self.line, self._now())
                    self.line.write(self._now(), wanted)
                heard = self.line.take(self._now(), 1 << 16)
                if heard:
                    os.write(self._ours, heard)
