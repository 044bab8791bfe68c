"""A dialect's own settings, from words to values."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from ..errors import UsageFault, usage
from ..image import Image
from ..plan.write_options import TalkLine
from ..quantities import parse_number
from .dialect import Dialect
from .spec import Setting

if TYPE_CHECKING:
    from ..chips.part import Part


def read_settings(dialect: type[Dialect], pairs: Iterable[tuple[str, Any]]) -> dict[str, Any]:
    """Check (name, value) pairs, with values as found in a project file or as text. Raises UsageFault."""
    known = {setting.name: setting for setting in dialect.spec.settings}
    values = {}
    for name, value in pairs:
        if name not in known:
            has = f"it has {', '.join(known)}" if known else "it has none"
            raise usage("setting", f"{dialect.name} has no setting '{name}'", has)
        values[name] = _read(dialect, known[name], value)
    return values


def preset(part: Part) -> dict[str, Any]:
    """The settings that a part's loader wants, if nothing else is said: by its record."""
    found: dict[str, Any] = {}
    for name, value in part.extra.get("set", {}).items():
        if isinstance(value, list):
            value = tuple(
                TalkLine(turn.get("expect", ""), float(turn.get("within", 5.0)), turn.get("send")) for turn in value
            )
        found[name] = value
    return found


def _read(dialect: type[Dialect], setting: Setting, value: Any) -> Any:
    if setting.kind == "talk":
        if isinstance(value, tuple) and all(isinstance(turn, TalkLine) for turn in value):
            return value
        raise _wrong(dialect, setting, value, "a list of turns, as for talk")
    if setting.kind == "image":
        if isinstance(value, Image):
            return value
        file = f'{setting.name} = {{ file = "…" }}, or --set {setting.name}=@FILE'
        raise _wrong(dialect, setting, value, f"name a file: {file}")
    if setting.kind == "number":
        try:
            number = parse_number(value) if isinstance(value, str) else value
        except ValueError as error:
            raise _wrong(dialect, setting, value, str(error)) from None
        if isinstance(number, bool) or not isinstance(number, int):
            raise _wrong(dialect, setting, value, "write a whole number")
        return number
    text = str(value)
    if setting.choices and text not in setting.choices:
        raise _wrong(dialect, setting, value, f"write {', '.join(setting.choices)}")
    return text


def _wrong(dialect: type[Dialect], setting: Setting, value: Any, wanted: str) -> UsageFault:
    return usage("setting", f"{dialect.name}: {setting.name} is {value!r}", wanted)
