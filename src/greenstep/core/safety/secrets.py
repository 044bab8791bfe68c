"""Texts that are sent to a board and must not be written anywhere: no log, no recording, no message."""

from __future__ import annotations

_MOST_LETTERS = 4


class Secrets:
    """Every secret of a run, and how to take them out of what is kept."""

    def __init__(self) -> None:
        self._values: list[bytes] = []

    def add(self, value: str) -> None:
        """From now on this text is masked. An empty one is ignored."""
        encoded = value.encode()
        if encoded and encoded not in self._values:
            self._values.append(encoded)
            self._values.sort(key=len, reverse=True)

    def mask(self, data: bytes) -> bytes:
        """`data` with every secret in it as stars; its length stays, so that times and places remain right."""
        for value in self._values:
            data = data.replace(value, b"*" * len(value))
        return data

    @property
    def longest(self) -> int:
        """The length of the longest secret, in bytes."""
        return max((len(value) for value in self._values), default=0)

    def begun_at_end(self, data: bytes) -> int:
        """How many bytes at the end of `data` may be the beginning of a secret."""
        sizes = range(self.longest - 1, 0, -1)
        return next((n for n in sizes if any(len(v) > n and data.endswith(v[:n]) for v in self._values)), 0)


class MaskedStream:
    """Masks a stream that comes in pieces: what may be the beginning of a secret is held back until that is clear."""

    def __init__(self, secrets: Secrets) -> None:
        self._secrets = secrets
        self._shown = b""
        self._held = b""

    def feed(self, data: bytes) -> bytes:
        """What may be shown by now."""
        before = len(self._shown)
        raw = self._shown + self._held + data
        masked = self._secrets.mask(raw)
        keep = self._secrets.begun_at_end(masked[before:])
        self._held = raw[len(raw) - keep :] if keep else b""
        end = len(raw) - keep
        self._shown = raw[max(0, end - self._secrets.longest) : end]
        return masked[before:end]

    def flush(self) -> bytes:
        """What was held back, when nothing more has come for a while: the first letters of a secret are usually those
        of another word; a longer beginning becomes stars."""
        held, self._held = self._held, b""
        self._shown = (self._shown + held)[-self._secrets.longest :] if held else self._shown
        return held if len(held) < _MOST_LETTERS else b"*" * len(held)
