"""Typing a line below text that keeps coming: the line is removed, the text shown, the line restored."""

from __future__ import annotations

from typing import TextIO

from greenstep.core.console.streams import readable

LEAVE_KEY = b"\x07"
LEAVE_NAME = "Ctrl-G"
_ESCAPES = {b"\x1b[A": "older", b"\x1bOA": "older", b"\x1b[B": "newer", b"\x1bOB": "newer"}


class LineEditor:
    """`width` is the terminal's. `typed` is what was typed and not sent."""

    def __init__(self, stream: TextIO, width: int) -> None:
        self._stream = stream
        self._width = max(width, 20)
        self._partial = ""
        self._shown = 0
        self._typed = b""
        self._history: list[bytes] = []
        self._place = 0
        self._escape = b""
        self.left = False

    def show(self, lines: list[str], partial: str) -> None:
        """Whole lines, then what follows them without an end."""
        self._take_away()
        for line in lines:
            self._stream.write(line + "\r\n")
        self._partial = partial
        self._put_back()

    def keys(self, data: bytes) -> list[bytes]:
        """Lines to send, for the keys pressed; `left` is set if the leave key was among them."""
        lines: list[bytes] = []
        for value in data:
            key = bytes([value])
            if self._escape or key == b"\x1b":
                self._in_escape(key)
            elif key == LEAVE_KEY:
                self.left = True
                return lines
            elif key in (b"\r", b"\n"):
                lines.append(self._entered())
            elif key in (b"\x7f", b"\x08"):
                self._typed = self._typed.decode("utf-8", "ignore")[:-1].encode()
            elif key == b"\x15":
                self._typed = b""
            elif value >= 32 or key == b"\t":
                self._typed += key
        self._take_away()
        self._put_back()
        return lines

    def _entered(self) -> bytes:
        line, self._typed = self._typed, b""
        self._take_away()
        self._stream.write(self._partial + readable(line) + "\r\n")
        self._partial = ""
        self._shown = 0
        if line and line not in self._history[-1:]:
            self._history.append(line)
        self._place = len(self._history)
        return line

    def _in_escape(self, key: bytes) -> None:
        self._escape += key
        way = _ESCAPES.get(self._escape)
        if way:
            step = -1 if way == "older" else 1
            self._place = max(0, min(len(self._history), self._place + step))
            self._typed = self._history[self._place] if self._place < len(self._history) else b""
        second, last = self._escape[1:2], self._escape[-1]
        whole = len(self._escape) > 2 and 0x40 <= last <= 0x7E  # ECMA-48, 5.4: the final byte
        if way or whole or (second and second not in b"[O"):
            self._escape = b""

    def _take_away(self) -> None:
        rows = max(0, self._shown - 1) // self._width
        self._stream.write((f"\x1b[{rows}A" if rows else "") + "\r\x1b[J")
        self._shown = 0

    def _put_back(self) -> None:
        text = self._partial + readable(self._typed)
        self._stream.write(text)
        self._shown = len(text)
        self._stream.flush()
