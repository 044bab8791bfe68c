"""The addresses that a line of text mentions (crash dumps, backtraces, fault registers, bare hexadecimal numbers),
and what is shown of them below it."""

from __future__ import annotations

import os.path
import re
from collections.abc import Iterator

from ..frozen import frozen
from .elf_program import CallFrame, Program

_MOST = 24
_RETURN_LABELS = ("lr", "ra", "return")
_PATTERN = re.compile(
    r"""
    (?P<label>\b(?:pc|lr|ra|sepc|mepc|epc\d?|return|fault(?:ing)?\ address)\b)\s*(?:is|at|[:=])?\s*
        (?:0x)?(?P<labelled>[0-9a-f]{4,16})\b
    | [\[(<]{1,2}\s*(?:0x)?(?P<bracketed>[0-9a-f]{4,16})\s*[\])>]{1,2}
    | (?<![0-9a-z_])0x(?P<plain>[0-9a-f]{4,16})(?![0-9a-z_])
    """,
    re.IGNORECASE | re.VERBOSE,
)
"""A label and a number; a number in brackets; a number that is written as one."""
_SURE_DIGITS = 6


@frozen
class Mentioned:
    """`returns`: it is where a function returns to, so that the call is before it. `marked`: a label or brackets say
    that it is an address; else it may be any number."""

    address: int
    returns: bool = False
    marked: bool = False


def mentioned(text: str) -> list[Mentioned]:
    """In the order of the line, each once."""
    found: dict[int, Mentioned] = {}
    for match in _PATTERN.finditer(text):
        digits = match["labelled"] or match["bracketed"] or match["plain"]
        marked = match["plain"] is None
        if not marked and len(digits) < _SURE_DIGITS:
            continue
        returns = bool(match["label"]) and match["label"].lower() in _RETURN_LABELS
        value = int(digits, 16)
        found.setdefault(value, Mentioned(value, returns, marked))
        if len(found) == _MOST:
            break
    return list(found.values())


@frozen
class Place:
    """An address that a line mentions, and the functions that are under way there, innermost first. `returns`: what
    is shown is the call before it."""

    address: int
    frames: tuple[CallFrame, ...]
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


def _where(frame: CallFrame, folder: str) -> str:
    if not frame.file:
        return ""
    file = frame.file
    if file.startswith(folder.rstrip("/") + "/"):
        file = os.path.relpath(file, folder)
    return f"{file}:{frame.line or '?'}"
