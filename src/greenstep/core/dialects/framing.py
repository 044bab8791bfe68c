"""How a dialect's frames are taken apart, so that a recording of them can be explained."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

from ..frozen import frozen
from .spec import ProtocolCommand

Opened = tuple[int, bytes] | tuple[int, bytes, str] | None


def _all_is_well(command: Any, sent: bytes, heard: bytes) -> str:
    return ""


def _nothing_else(sent: bytes, heard: bytes) -> tuple[str, str] | None:
    return None


@frozen
class Framing:
    """What was sent, as commands whose layouts stand in the table `commands`; numbers are in `order`, addresses are
    shown with so many `digits`.

    `opened`: a frame's command and its data, and a layout where the command's own does not hold; None if it is no
    frame. `answered`: what an answer says, if it says more than that all is well. `silent`: commands that nothing
    answers. `other`: words for what is no frame, and what to show with them."""

    commands: type[ProtocolCommand]
    opened: Callable[[bytes], Opened]
    order: Literal["big", "little"] = "little"
    digits: int = 8
    answered: Callable[[Any, bytes, bytes], str] = _all_is_well
    silent: tuple[ProtocolCommand, ...] = ()
    other: Callable[[bytes, bytes], tuple[str, str] | None] = _nothing_else


def headed(sent: bytes, head: bytes, place: int, check_bytes: int) -> Opened:
    """The command, which stands at `place`, and what follows it up to the check, of a frame that begins with one of
    the bytes in `head`; the zeros before it woke the chip."""
    frame = sent.lstrip(b"\x00")
    if len(frame) < place + 1 + check_bytes or frame[0] not in head:
        return None
    return frame[place], frame[place + 1 : -check_bytes]
