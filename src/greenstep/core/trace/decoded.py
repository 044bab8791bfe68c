"""A row of a recorded conversation."""

from __future__ import annotations

from ..frozen import frozen


@frozen
class DecodedExchange:
    """`count` exchanges from number `first` on were one `command`, with something to say about it; `place` is the
    range (address, size) it was about, so that rows may be joined."""

    first: int
    count: int
    command: str
    detail: str = ""
    place: tuple[int, int] | None = None
