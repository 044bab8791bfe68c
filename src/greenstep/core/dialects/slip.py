"""SLIP frames (RFC 1055), as an ESP's ROM sends and accepts them."""

from __future__ import annotations

from ..link import Deadline, Link

_END = b"\xc0"
_LONGEST_DATA = 64
"""More than any reply of a ROM carries: a length beyond this is damaged."""


def slip(data: bytes) -> bytes:
    """A frame as sent on the line."""
    return _END + data.replace(b"\xdb", b"\xdb\xdd").replace(_END, b"\xdb\xdc") + _END


def unescaped(data: bytes) -> bytes:
    return data.replace(b"\xdb\xdc", _END).replace(b"\xdb\xdd", b"\xdb")


def _missing(frame: bytes) -> int:
    """The least number of characters that this partial reply lacks, to be read in one go."""
    if not frame.startswith(_END):
        return 1
    head = unescaped(frame)
    size = min(int.from_bytes(head[3:5], "little"), _LONGEST_DATA) if len(head) > 5 else 2
    return max(1, 1 + 8 + size + 1 - len(head))


class SlipReader:
    """Reads frames from a line. `half` is what had come, without a frame's end, when the last deadline passed."""

    def __init__(self, link: Link) -> None:
        self._link = link
        self._waiting = b""
        self.half = b""

    def forget(self) -> None:
        """What was read beyond the last frame no longer matters."""
        self._waiting = b""

    def next(self, deadline: Deadline) -> bytes:
        """The next frame, unescaped; empty when the deadline passes. Bytes between frames are skipped."""
        heard = self._waiting
        while True:
            first = heard.find(_END)
            end = heard.find(_END, first + 1) if first >= 0 else -1
            if end == first + 1 > 0:  # the end of one frame, then the start of another
                heard = heard[end:]
                continue
            if end > 0:
                self._waiting = heard[end + 1 :]
                return unescaped(heard[first + 1 : end])
            if deadline.over:
                self._waiting, self.half = b"", heard
                return b""
            heard += self._link.read(_missing(heard[max(0, first) :]), deadline.left_s) + self._link.discard()
