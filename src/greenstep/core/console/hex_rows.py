"""Bytes as rows of hexadecimal with their text beside them."""

from __future__ import annotations

from ..frozen import frozen

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
