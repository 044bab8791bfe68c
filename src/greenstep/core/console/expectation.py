"""A text that is waited for in a stream."""

from __future__ import annotations


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
