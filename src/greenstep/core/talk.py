"""What is sent to an application after its start: a text to wait for, then a line to send."""

from __future__ import annotations

from .frozen import frozen

LINE_ENDS = {"crlf": b"\r\n", "lf": b"\n", "cr": b"\r", "none": b""}


@frozen
class TalkLine:
    """One turn. Wait for `expect`, at most `within_s` (empty: do not wait); then send `send` (None: nothing).
    `secret` names what was sent instead of showing it."""

    expect: str = ""
    within_s: float = 5.0
    send: str | None = None
    secret: str = ""
