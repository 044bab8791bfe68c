"""Time and characters of a step that moves data."""

from __future__ import annotations

from ..recording_link import RecordingLink

Figures = dict[str, int | float | str]
"""For programs, in the units given by the names."""


class Meter:
    """Time and characters of one step."""

    def __init__(self, link: RecordingLink) -> None:
        self._link = link
        self._began_s = link.now()
        self._characters = self._moved

    @property
    def _moved(self) -> int:
        return self._link.sent_total + self._link.heard_total

    @property
    def seconds(self) -> float:
        return self._link.now() - self._began_s

    def figures(self, size: int, blocks: int) -> Figures:
        """Bytes, blocks, seconds, bytes a second, and the share of the time in which the line moved bits."""
        seconds = max(self.seconds, 1e-9)
        line_s = self._link.settings.seconds(self._moved - self._characters)
        return {
            "bytes": size,
            "blocks": blocks,
            "seconds": round(seconds, 4),
            "bytes_per_second": round(size / seconds),
            "line_percent": min(100, round(100 * line_s / seconds)),
        }
