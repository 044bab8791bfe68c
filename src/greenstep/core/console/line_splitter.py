"""Bytes to lines: CR, LF and CR LF each end one, however they are split."""

from __future__ import annotations


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


def readable(data: bytes, keep_escapes: bool = False) -> str:
    """Text for people: UTF-8 where valid, every other byte and control character as a dot. `keep_escapes` lets ESC
    through, with which boards colour their text, to a terminal that understands it."""
    text = data.decode("utf-8", "replace").replace("\ufffd", "·")
    return "".join(
        char if char.isprintable() or char == "\t" or (keep_escapes and char == "\x1b") else "·" for char in text
    )
