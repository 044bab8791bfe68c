"""Bytes to lines: CR, LF and CR LF each end one, however they are split."""

from __future__ import annotations

from ..outside_text import colours_only


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
