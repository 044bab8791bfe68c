"""The addresses that a line of text mentions: crash dumps, backtraces, fault registers, bare hex in brackets."""

from __future__ import annotations

import re

from ..frozen import frozen

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
