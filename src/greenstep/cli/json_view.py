"""Events as JSON, one per line."""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from typing import TYPE_CHECKING, Any, TextIO

from greenstep.core.chips.part import EraseUnit
from greenstep.core.image import Piece
from greenstep.core.spans import Span

if TYPE_CHECKING:
    from greenstep.core.events import Event


class JsonView:
    """`event` is the kind, in lower case with hyphens; the other keys are the event's own."""

    def __init__(self, stream: TextIO | None = None) -> None:
        self._stream = stream or sys.stdout

    def show(self, event: Event) -> None:
        json_line(_kind(event), self._stream, **plain(event))

    def details(self, rows: list[tuple[str, str]]) -> None:
        """Nothing: the figures of the step `chip` carry them."""

    def close(self) -> None:
        """Nothing is held open."""

    def passed(self, line: str) -> None:
        """They have a line of their own."""


def json_line(kind: str, stream: TextIO | None = None, /, **values: Any) -> None:
    """Print a line of this kind; dataclasses, spans and paths among its values are made plain."""
    plain_values = {key: _plain_value(value) for key, value in values.items()}
    line = json.dumps({"event": kind, **plain_values}, ensure_ascii=False)
    print(_UNSAFE.sub(_as_escape, line), file=stream, flush=True)


_UNSAFE = re.compile("[\x7f-\x9f\xad\u061c\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ud800-\udfff\ufff9-\ufffb]")
"""What JSON lets through and a terminal obeys. It is escaped, which a reader of JSON undoes."""


def _as_escape(found: re.Match[str]) -> str:
    return f"\\u{ord(found[0]):04x}"


def _kind(event: object) -> str:
    return re.sub(r"(?<!^)(?=[A-Z])", "-", type(event).__name__).lower()


def plain(value: object) -> dict[str, Any]:
    """A dataclass as a dictionary of plain values, at every depth."""
    return {field.name: _plain_value(getattr(value, field.name)) for field in fields(value)}  # type: ignore[arg-type]


def _plain_value(value: Any) -> Any:
    match value:
        case float():
            return round(value, 6)
        case None | str() | int():
            return value
        case bytes():
            return value.hex()
        case tuple() | list():
            return [_plain_value(item) for item in value]
        case Mapping():
            return {key: _plain_value(item) for key, item in value.items()}
        case EraseUnit():
            return {"number": value.number, "address": value.address, "bytes": value.size}
        case Piece():
            return {"address": value.address, "bytes": len(value.data)}
        case Span():
            return {"address": value.start, "bytes": value.size}
        case _ if is_dataclass(value):
            return plain(value)
        case _:
            return str(value)
