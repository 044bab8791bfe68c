"""The one place where text goes to the screen: every line is made harmless here, whoever it comes from. And which
signs a stream can show.

Lines are given one by one. A line feed inside one came from outside, and is shown as \\n: else a name or a text could
begin a line that looks like ours. Colours are ours, and are added here, after that.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any, TextIO

import click

from greenstep.core.safety.harmless_text import harmless

if TYPE_CHECKING:
    from rich.text import Text


def shows_signs(stream: TextIO) -> bool:
    """Whether a stream can show the ladder's signs."""
    return (getattr(stream, "encoding", None) or "").lower().startswith("utf")


def bar(done: float, total: float, width: int, signs: bool) -> str:
    """How much is done, as a row of marks."""
    full = min(width, int(width * done / total)) if total else 0
    mark, rest = ("▰", "▱") if signs else ("*", ".")
    return mark * full + rest * (width - full)


class Painted(str):
    """Text of our own with colours in it, as `painted` makes it; what is joined to it becomes plain text again."""

    __slots__ = ()


def painted(text: str, **style: Any) -> Painted:
    """The text, made harmless, in a colour (`fg`, `bold`, … as of click.style)."""
    return Painted(click.style(harmless(text, keep="\t"), **style))


def side_by_side(*parts: str) -> Painted:
    """Parts in one line, some of them painted."""
    return Painted("".join(part if isinstance(part, Painted) else harmless(part, keep="\t") for part in parts))


def say(*lines: str, err: bool = False) -> None:
    """Print lines; without any, an empty one. `err`: to standard error."""
    say_all(lines or ("",), err)


def say_all(lines: Iterable[str], err: bool = False) -> None:
    """The same for many."""
    shown = (line if isinstance(line, Painted) else harmless(line, keep="\t") for line in lines)
    click.echo("\n".join(shown), err=err)


def say_on_line(text: str) -> None:
    """Text after which the line goes on."""
    click.echo(harmless(text, keep="\t"), nl=False)


def live(text: str, style: str = "") -> Text:
    """Text for what changes on a terminal."""
    from rich.text import Text

    return Text(harmless(text, keep="\t"), style=style)


def can_ask() -> bool:
    """Whether there is somebody to ask."""
    return sys.stdin.isatty() and sys.stderr.isatty()


def ask(question: str, default: str | None = None, hidden: bool = False) -> str:
    """A question on the terminal; an answer may be left out if `default` says for what. Raises click.Abort."""
    shown = bool(default)
    return str(click.prompt(harmless(question), default=default, show_default=shown, hide_input=hidden, err=True))


def ask_number(question: str, most: int) -> int:
    """A number from 1 on. Raises click.Abort."""
    return int(click.prompt(harmless(question), type=click.IntRange(1, most), err=True))


def confirmed(question: str, default: bool = False) -> bool:
    """Yes or no. Raises click.Abort."""
    return bool(click.confirm(harmless(question), default=default, err=True))
