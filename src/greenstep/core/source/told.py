"""What is shown below a line that mentions addresses."""

from __future__ import annotations

import os.path
from collections.abc import Iterator

from ..frozen import frozen
from .mentioned import mentioned
from .program import Frame, Program


@frozen
class Place:
    """An address that a line mentions, and the functions that are under way there, innermost first. `returns`: what
    is shown is the call before it."""

    address: int
    frames: tuple[Frame, ...]
    returns: bool = False


def places(program: Program, text: str) -> list[Place]:
    """Those that are code. Where the flash begins at 0, any small number could be code: then only those count that a
    label or brackets mark."""
    found: dict[int, Place] = {}
    for one in mentioned(text):
        address = program.code_address(one.address)
        if address is None or address in found or (program.begins_low and not one.marked):
            continue
        frames = program.frames(address - 1 if one.returns else address)
        if frames:
            found[address] = Place(address, frames, one.returns)
    return list(found.values())


def in_words(place: Place, folder: str) -> Iterator[str]:
    """One line for each function; files below `folder` are shown from there on."""
    head = f"{place.address:08X}"
    for number, frame in enumerate(place.frames):
        at = _where(frame, folder)
        how = "called from " if place.returns and not number else "inlined in " if number else ""
        yield f"    {head if not number else '':<8}  {how}{frame.function}{f'  {at}' if at else ''}"


def _where(frame: Frame, folder: str) -> str:
    if not frame.file:
        return ""
    file = frame.file
    if file.startswith(folder.rstrip("/") + "/"):
        file = os.path.relpath(file, folder)
    return f"{file}:{frame.line or '?'}"
