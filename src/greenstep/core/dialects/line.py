"""What every conversation does with its line besides writing and reading."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..link import Deadline
from ..quantities import readable_share
from .errors import Silence, Unexpected

if TYPE_CHECKING:
    from ..link import Link


def say_last(link: Link, data: bytes) -> None:
    """Send something that is not answered, and let it leave before anything else is done to the port."""
    link.write(data)
    link.sleep(link.settings.seconds(len(data) + 1))


def send_on(link: Link, sent_by_s: float, data: bytes) -> float:
    """Send without waiting until it has left. Returns when its last bit will, if what was sent before has by
    `sent_by_s`."""
    link.write(data)
    return max(sent_by_s, link.now()) + link.settings.seconds(len(data))


def read_exactly(link: Link, size: int, timeout_s: float, waiting_for: str) -> bytes:
    """`size` bytes. Raises Silence with the bytes that did come."""
    data = link.read(size, timeout_s)
    if len(data) < size:
        raise Silence(waiting_for, timeout_s, data)
    return data


def read_until(link: Link, deadline: Deadline) -> bytes:
    """Everything that comes until the deadline: asking again earlier would only answer noise with noise."""
    heard = b""
    while not deadline.over:
        heard += link.read(256, deadline.left_s)
    return heard


def noise(number: int, size: int) -> bytes:
    """Bytes without a pattern, always the same for a number, to see whether a line carries them: a congruential
    generator with the constants of the C standard's example of rand()."""
    state, made = number & 0x7FFFFFFF, bytearray()
    for _ in range(size):
        state = (state * 1103515245 + 12345) & 0x7FFFFFFF
        made.append(state >> 16 & 0xFF)
    return bytes(made)


def drain(link: Link, quiet_s: float, longest_s: float = 2.0) -> bytes:
    """Read until nothing comes for `quiet_s`, or `longest_s` is over."""
    heard = link.discard()
    end = link.now() + longest_s
    while link.now() < end:
        more = link.read(256, quiet_s)
        if not more:
            break
        heard += more
    return heard


def refuse_text(waiting_for: str, heard: bytes) -> None:
    """Text among the replies of a dialect that sends none comes from a program: the chip was reset. Raises
    Unexpected."""
    if len(heard) >= 12 and readable_share(heard) > 0.85:
        raise Unexpected(waiting_for, heard)
