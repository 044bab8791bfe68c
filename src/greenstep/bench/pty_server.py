"""A bench board on a pseudo terminal: no DTR, no RTS, and a kernel that passes bytes without rate or parity."""

from __future__ import annotations

import os
import selectors
import tty

from .boards import BenchBoard
from .faults import Faults
from .person import Hands
from .real_time import RealTimeBoard


class PtyServer(RealTimeBoard):
    """One board behind one pty, entered by a simulated person."""

    def __init__(
        self, board: BenchBoard, faults: Faults | None = None, turnaround_s: float = 0.001, hands: Hands | None = None
    ) -> None:
        super().__init__(board, faults, turnaround_s, hands)
        self.line.frames_count = False
        self._ours, self._theirs = os.openpty()
        tty.setraw(self._theirs)
        self.url = os.ttyname(self._theirs)
        self._begin()

    def _release(self) -> None:
        for descriptor in (self._ours, self._theirs):
            os.close(descriptor)

    def _serve(self) -> None:
        # epoll counts in whole milliseconds, of which an upload waits for thousands
        with selectors.SelectSelector() as selector:
            selector.register(self._ours, selectors.EVENT_READ)
            while not self._ended.is_set():
                waiting = bool(selector.select(self._wait_s()))
                self._look(waiting)
                if waiting:
                    self._written(os.read(self._ours, 4096))
                heard = self._heard()
                if heard:
                    os.write(self._ours, heard)
