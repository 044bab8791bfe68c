"""What a board sends, as a stream for a terminal that shows it while it comes: its colours pass, orders do not."""

from __future__ import annotations

import codecs
import re

from ..outside_text import colours_only

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
