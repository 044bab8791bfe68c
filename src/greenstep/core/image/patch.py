"""Bytes put at an address: in hexadecimal, as a text, or with fields that are filled in for each board."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from string import Formatter

from ..frozen import frozen
from ..quantities import parse_number

FORM = "ADDRESS=BYTES"
_NUMBER = re.compile(r"u(8|16|32|64)(be)?$")
_ESCAPES = {"\\0": "\0", "\\n": "\n", "\\r": "\r", "\\t": "\t", "\\\\": "\\"}
_ESCAPE = re.compile(r"\\.")


@frozen
class Patch:
    """What goes to `address` in `memory`. `what` is a text or hexadecimal digits, and may hold fields: `{name}`."""

    memory: str
    address: int
    what: str
    is_text: bool

    @property
    def fields(self) -> tuple[str, ...]:
        """The names of its fields."""
        return fields_of(self.what)

    def data(self, values: Mapping[str, str]) -> bytes:
        """The bytes with these values. Raises ValueError for a value that does not fit, KeyError for none."""
        if self.is_text:
            return filled_in(self.what, values).encode()
        return b"".join(
            _digits(literal) + (_number(values[name], form) if name is not None else b"")
            for literal, name, form in _parts(self.what)
        )


def parse_patch(text: str) -> Patch:
    """`0x7C=32 2E 35`, `0x7C="2.5"`, `eeprom:0x10="{serial}\\0"`, `0x800F000={count:u32}`. Raises ValueError."""
    place, sign, what = text.partition("=")
    memory, colon, address = place.rpartition(":")
    what = what.strip()
    if not sign or not what:
        raise ValueError(f"it is not {FORM}")
    is_text = len(what) > 1 and what[0] == what[-1] and what[0] in "\"'"
    if is_text:
        what = _ESCAPE.sub(_byte, what[1:-1])
    patch = Patch(memory if colon else "flash", parse_number(address), what, is_text)
    for literal, name, form in _parts(what):
        if name is None and not is_text:
            _digits(literal)
        if name is not None and (form != "hex" and not _NUMBER.match(form)) != is_text:
            raise ValueError(
                f"{{{name}:{form}}} is no form of a text"
                if is_text
                else f"{{{name}}}: as which number? {{{name}:u32}}"
            )
    if not patch.fields and patch.address + len(patch.data({})) > 1 << 32:
        raise ValueError("it leaves the 32-bit addresses")
    return patch


def fields_of(text: str) -> tuple[str, ...]:
    """The names in braces. Raises ValueError for braces that do not match."""
    return tuple(name for _, name, _ in _parts(text) if name is not None)


def filled_in(text: str, values: Mapping[str, str]) -> str:
    """A text with values for its fields; `{name:05}` has zeros before it. Raises KeyError, ValueError."""
    return "".join(
        literal + (_padded(values[name], form) if name is not None else "") for literal, name, form in _parts(text)
    )


def _parts(text: str) -> Iterator[tuple[str, str | None, str]]:
    """(text before, name of the field or None, its form)."""
    for literal, name, form, conversion in Formatter().parse(text):
        if name is not None and (conversion or not name):
            raise ValueError("a field is a name in braces: {serial}")
        yield literal, name, form or ""


def _byte(escape: re.Match[str]) -> str:
    if escape[0] not in _ESCAPES:
        raise ValueError(f"{escape[0]} is none of {' '.join(_ESCAPES)}")
    return _ESCAPES[escape[0]]


def _digits(text: str) -> bytes:
    try:
        return bytes.fromhex(text)
    except ValueError:
        raise ValueError(f"'{text.strip()}' is not in pairs of hexadecimal digits; a text stands in quotes") from None


def _padded(value: str, form: str) -> str:
    if form and not (form.isdecimal() and int(form) < 100):
        raise ValueError(f"'{form}' is no width, such as 05")
    return value.zfill(int(form)) if form else value


def _number(value: str, form: str) -> bytes:
    if form == "hex":
        return _digits(value.replace(":", "").replace("-", ""))
    found = _NUMBER.match(form)
    assert found is not None
    size = int(found[1]) // 8
    number = parse_number(value)
    if not 0 <= number < 1 << 8 * size:
        raise ValueError(f"{value} does not fit into {form}")
    return number.to_bytes(size, "big" if found[2] else "little")
