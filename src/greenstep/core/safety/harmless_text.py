"""Text that comes from outside (kits, project files, file names, boards, journals), made harmless before it is shown
or stored.

A terminal obeys what it is sent: an escape sequence moves the cursor, changes the title or colours a line green, a
line feed begins a line that looks like one of ours, a direction mark shows an ending that is not there. So each such
character is replaced by its escape, as Python writes it: visible, in one line, and still telling what was there.
"""

from __future__ import annotations

import re

_UNSAFE = frozenset(("Cc", "Cf", "Cs", "Zl", "Zp"))
"""Unicode categories: controls (C0, DEL, C1), formats (direction marks, zero width), lone surrogates, line and
paragraph separators."""
_CONTROLS = frozenset(("Cc", "Zl", "Zp"))
_DIRECTIONS = "[\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069]"
_SEQUENCE = r"(?s)\x1b(?:\[[0-?]*[ -/]*(?:[@-~]|\Z)|\][^\x07\x1b]*(?:\x07|\x1b\\)?|[PX^_][^\x1b]*(?:\x1b\\)?|.?)"
"""A control sequence (ECMA-48), or its beginning at the end of a line: CSI, OSC, the other strings, a short one."""
_COLOUR = r"\x1b\[[0-9;:]*m"


def harmless(text: str, keep: str = "") -> str:
    """The text in one line that a terminal shows as it is; the characters of `keep` pass."""
    if text.isprintable():
        return text
    return "".join(char if char in keep or not is_unsafe(char) else escaped(char) for char in text)


def harmless_lines(text: str) -> list[str]:
    """The text's lines, each harmless; tabs are kept."""
    return [harmless(line, keep="\t") for line in re.split(r"\r\n|\r|\n", text)]


def is_unsafe(char: str) -> bool:
    """Whether a character does something other than being shown."""
    return not char.isprintable() and _kind(char) in _UNSAFE


def _kind(char: str) -> str:
    """Its Unicode category."""
    import unicodedata  # most texts need none of it

    return unicodedata.category(char)


def escaped(char: str) -> str:
    """A character as its escape: \\n, \\x1b, \\u202e."""
    return char.encode("unicode_escape", "surrogatepass").decode("ascii")


def is_plain(text: str) -> bool:
    """Whether a name is fit to be one: not empty, without line ends, other controls and direction marks."""
    if text.isprintable():
        return bool(text.strip())
    kinds = (_kind(char) for char in text)
    return not any(kind in _CONTROLS for kind in kinds) and not re.search(_DIRECTIONS, text)


def plain_name(text: str) -> str:
    """A name fit to be one, from one that may not be: its controls and direction marks become underscores."""
    unfit = (_kind(char) in _CONTROLS or re.match(_DIRECTIONS, char) for char in text)
    return "".join("_" if bad else char for char, bad in zip(text, unfit, strict=True))


def colours_only(text: str, keep: str = "\t") -> str:
    """Text as a board prints it: its colours and the characters of `keep` pass; other sequences are left out, other
    controls become dots."""
    if text.isprintable():
        return text
    text = re.sub(_SEQUENCE, lambda found: found[0] if re.fullmatch(_COLOUR, found[0]) else "", text)
    return "".join(char if char == "\x1b" or char in keep or not is_unsafe(char) else "·" for char in text)
