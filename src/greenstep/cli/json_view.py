"""Events as JSON, one a line."""

from __future__ import annotations

import json
import re
import sys
from dataclasses import fields, is_dataclass
from typing import TYPE_CHECKING, Any, TextIO

if TYPE_CHECKING:
    from greenstep.core.errors import Finding
    from greenstep.core.events import Event


class JsonView:
    """`event` is the kind, in lower case with hyphens; the other keys are the event's own."""

    def __init__(self, stream: TextIO | None = None) -> None:
        self._stream = stream or sys.stdout

    def show(self, event: Event) -> None:
        self.line(_kind(event), plain(event))

    def details(self, rows: list[tuple[str, str]]) -> None:
        """Nothing: the figures of the step `chip` carry them."""

    def line(self, kind: str, values: dict[str, Any]) -> None:
        """One line of our own."""
        print(json.dumps({"event": kind, **values}, ensure_ascii=False), file=self._stream, flush=True)

    def close(self) -> None:
        """Nothing is held open."""


def findings_line(findings: tuple[Finding, ...], exit_code: int) -> str:
    """A fault outside the ladder, as a line like the others."""
    return json.dumps(
        {"event": "fault", "exit_code": exit_code, "findings": [plain(finding) for finding in findings]},
        ensure_ascii=False,
    )


def _kind(event: object) -> str:
    return re.sub(r"(?<!^)(?=[A-Z])", "-", type(event).__name__).lower()


def plain(value: object) -> dict[str, Any]:
    """A dataclass as a dictionary of plain values; findings inside it likewise."""
    assert is_dataclass(value)
    return {field.name: _plain_value(getattr(value, field.name)) for field in fields(value)}


def _plain_value(value: Any) -> Any:
    if isinstance(value, tuple):
        return [_plain_value(item) for item in value]
    if is_dataclass(value) and not isinstance(value, type):
        return plain(value)
    if isinstance(value, float):
        return round(value, 4)
    return value
