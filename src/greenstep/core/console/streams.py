"""What a console makes of a stream of bytes: lines, rows of hexadecimal, text for a terminal, and a text that is
waited for."""

from __future__ import annotations

import codecs
import re

from ..frozen import frozen
from ..safety.harmless_text import colours_only


class LineSplitter:
    """`partial` is what follows the last line end."""

    def __init__(self) -> None:
        self.partial = b""
        self._after_cr = False

    def feed(self, data: bytes) -> list[bytes]:
        """The lines that `data` completes, without their ends."""
        lines = []
        for value in data:
            if value == 0x0A and self._after_cr:
                self._after_cr = False
                continue
            self._after_cr = value == 0x0D
            if value in (0x0A, 0x0D):
                lines.append(self.partial)
                self.partial = b""
            else:
                self.partial += bytes([value])
        return lines


def readable(data: bytes, keep_colours: bool = False) -> str:
    """Text for people: UTF-8 where valid, every other byte and control character as a dot. `keep_colours` lets the
    sequences through with which boards colour their text, for a terminal."""
    text = data.decode("utf-8", "replace").replace("\ufffd", "·")
    if keep_colours:
        shown = colours_only(text)
        return f"{shown}\x1b[0m" if "\x1b" in shown else shown  # what we say next must not be in its colour
    return "".join(char if char.isprintable() or char == "\t" else "·" for char in text)


ROW_BYTES = 16
_PAUSE_S = 0.05


@frozen
class HexRow:
    """Up to 16 bytes, the first heard at `at_s`."""

    at_s: float
    data: bytes

    def __str__(self) -> str:
        text = "".join(chr(value) if 32 <= value < 127 else "·" for value in self.data)
        return f"{self.data.hex(' ').upper():<{ROW_BYTES * 3}} {text}"


class HexRows:
    """A row ends when it is full, or when a pause follows it."""

    def __init__(self) -> None:
        self._data = b""
        self._began_s = self._last_s = 0.0

    def feed(self, data: bytes, at_s: float) -> list[HexRow]:
        """The rows that `data`, heard at `at_s`, completes."""
        rows = self.pause(at_s)
        for value in data:
            if not self._data:
                self._began_s = at_s
            self._data += bytes([value])
            if len(self._data) == ROW_BYTES:
                rows += self.flush()
        self._last_s = at_s
        return rows

    def pause(self, at_s: float) -> list[HexRow]:
        """What is to be shown because nothing has come for a while."""
        return self.flush() if self._data and at_s - self._last_s >= _PAUSE_S else []

    def flush(self) -> list[HexRow]:
        row = [HexRow(self._began_s, self._data)] if self._data else []
        self._data = b""
        return row


class Expectation:
    """Found once the text has come, however it was split."""

    def __init__(self, text: str) -> None:
        self.text = text
        self._wanted = text.encode()
        self._tail = b""
        self.found = False

    def feed(self, data: bytes) -> bool:
        """Whether the text has come by now."""
        whole = self._tail + data
        self.found = self.found or self._wanted in whole
        self._tail = whole[-max(1, len(self._wanted) - 1) :]
        return self.found


_MOST_HELD = 4096
_BEGUN = re.compile(r"\x1b(?:\[[0-?]*[ -/]*|[\]PX^_][^\x07\x1b]*\x1b?)?\Z")
"""The beginning of a control sequence at the end of what has come."""


class TerminalStream:
    """Line ends, tabs, backspaces and bells pass too: an echo needs them, and they stay in their line."""

    def __init__(self) -> None:
        self._decoder = codecs.getincrementaldecoder("utf-8")("replace")
        self._held = ""

    def feed(self, data: bytes) -> str:
        """What may be shown by now. The beginning of a sequence is held back until it is whole, or too long."""
        text = self._held + self._decoder.decode(data)
        begun = _BEGUN.search(text, max(0, len(text) - _MOST_HELD))
        self._held = text[begun.start() :] if begun else ""
        return colours_only(text[: begun.start()] if begun else text, keep="\r\n\t\b\a")
