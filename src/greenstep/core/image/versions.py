"""Which version a program is: the one place that reads it from an image, from what a chip holds, and from what it
prints, and says how sure that is."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime
from typing import Literal

from ..frozen import frozen
from . import Image, Piece
from .content import Text, look_into

Known = Literal["read", "heard", "journal", "unchecked"]
"""By its text in the chip's memory; in what it printed; by the journal's row for this chip, which a sample read from
it confirms; or by that row alone."""
_SURE: dict[Known, str] = {
    "read": "its text was read from the chip",
    "heard": "its text was heard",
    "journal": "the journal and a sample agree",
    "unchecked": "as the journal has it; not looked at",
}
_MONTHS = (
    *("January", "February", "March", "April", "May", "June"),
    *("July", "August", "September", "October", "November", "December"),
)
_LARGEST_LOOKED_INTO = 16 << 20
_NUMBER = re.compile(r"(?<![\d.])[vV]?(\d{1,4}\.\d{1,5}(?:\.\d{1,5}){0,2})(?![\d.])")
_DIGITS = re.compile(r"\d+")


@frozen
class Version:
    """`number` is as in "2.3", `text` the words around it; `image`, `at` (ISO 8601) and `journal` are those of the
    upload that brought it, as far as that is known. `known` says by what."""

    number: str = ""
    text: str = ""
    image: str = ""
    at: str = ""
    journal: int = 0
    known: Known = "read"

    @property
    def name(self) -> str:
        """The number; else the day of its upload, or the file."""
        return self.number or day_of(self.at) or self.image

    @property
    def words(self) -> str:
        """For a line about the chip: which, and how sure that is."""
        parts = [self.text or self.number or self.image]
        if self.journal:
            parts.append(f"{self.image + ' of ' if self.text and self.image else ''}{day_of(self.at)}")
            parts.append(f"journal {self.journal}")
        return f"{', '.join(part for part in parts if part)} ({_SURE[self.known]})"


def day_of(at: str) -> str:
    """`14 November 2026` from ISO 8601; empty if it is none."""
    try:
        moment = datetime.fromisoformat(at)
    except ValueError:
        return ""
    return f"{moment.day} {_MONTHS[moment.month - 1]} {moment.year}"


def version_text(image: Image) -> Text | None:
    """The first text of an image that looks like a version; none of images too large to look into."""
    if image.size_bytes > _LARGEST_LOOKED_INTO:
        return None
    return next((found for found in look_into(image).texts if found.kind == "version"), None)


def number_in(text: str) -> str:
    """The version number in a text, as "2.3"; empty if there is none."""
    found = _NUMBER.search(text)
    return found[1] if found else ""


def version_of(image: Image) -> Version:
    """What an image says of itself."""
    found = version_text(image)
    return Version(number_in(found.text), found.text, image.name) if found else Version(image=image.name)


def same_text_in(data: bytes, text: str) -> str:
    """The text that differs from `text` in its digits only, where `data` holds one; empty if it does not."""
    words = _DIGITS.split(text)
    if len(words) < 2 or not any(re.search("[A-Za-z]{2}", word) for word in words):
        return ""
    pattern = rb"\d{1,6}".join(re.escape(word.encode("ascii", "replace")) for word in words)
    found = re.search(pattern, data)
    return found[0].decode("ascii") if found else ""


def found_in(pieces: Iterable[Piece], like: str) -> Version | None:
    """The version in bytes of a chip: the text that differs from `like` in its digits only."""
    texts = (same_text_in(piece.data, like) for piece in sorted(pieces, key=lambda piece: piece.address))
    found = next(filter(None, texts), "")
    return Version(number_in(found), found, known="read") if found else None


def heard_in(data: bytes, like: str) -> Version | None:
    """The version in what a program printed."""
    text = same_text_in(data, like) if like else _first_text(data)
    return Version(number_in(text), text, known="heard") if text else None


def _first_text(data: bytes) -> str:
    """The first readable line that looks like a version."""
    lines = (line.decode("ascii").strip() for line in re.findall(rb"[\x20-\x7e]{6,64}", data))
    return next((line for line in lines if _NUMBER.search(line) and re.search("[A-Za-z]{3}", line)), "")


def change(before: Version | None, after: Version) -> str:
    """`2.3 -> 2.4`; empty if either is not known or they are the same."""
    if before is None or not before.name or not after.name or before.name == after.name:
        return ""
    return f"{before.name} -> {after.name}"
