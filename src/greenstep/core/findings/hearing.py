"""Is it text, and which usual rate is near: questions that several rules ask about what was heard."""

from __future__ import annotations

import re

from ..line_rate import ENOUGH_BYTES, reads_as_talk
from ..link import Frame
from ..quantities import readable_share

USUAL_RATES = (
    *(1200, 2400, 4800, 9600, 14400, 19200, 28800, 38400, 57600, 74880, 76800, 115200),
    *(230400, 250000, 460800, 500000, 921600, 1000000),
)


def standard_rate(rate: int) -> int:
    """The nearest usual rate if it is within 3 %, else the rate itself."""
    near = min(USUAL_RATES, key=lambda candidate: abs(candidate - rate))
    return near if abs(near - rate) <= 0.03 * near else rate


_RUN, _TAIL = 8, 12


def text_in(data: bytes, frame: Frame) -> bytes:
    """What a program printed, if it did: all of it, or what is left where a ROM spoke first at a rate of its own.
    Empty if there is none."""
    if len(data) >= 4 and readable_share(data) > 0.85:
        return data
    longest = max(re.findall(rb"[\t\x20-\x7e]{%d,}" % _RUN, data), key=len, default=b"")
    if len(longest) > len(data) // 3:
        return longest
    tail = re.search(rb"[\t\r\n\x20-\x7e]{%d,}\Z" % _TAIL, data)
    return tail[0] if tail is not None and reads_as_talk(tail[0], frame) else b""


def is_text(data: bytes, frame: Frame) -> bool:
    """Whether bytes are text as they are; slow garbage consists of printable characters too."""
    if len(data) < 4 or readable_share(data) < 0.85:
        return False
    return len(data) < ENOUGH_BYTES or reads_as_talk(data, frame)
