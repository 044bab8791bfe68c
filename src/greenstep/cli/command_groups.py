"""Groups whose commands are loaded only when they are called or their own help is wanted; and help pages: names are
never cut at their hyphens, since they are copied from there, and a long page says first what it holds."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from importlib import import_module
from typing import Any, ClassVar

import click

from greenstep.core.suggestions import nearest


class HintingGroup(click.Group):
    """A group that answers an unknown command with the one that may be meant. `called` is what a person types for the
    group; `others` are words that people try -> what does it."""

    called: ClassVar[str]
    others: ClassVar[Mapping[str, str]] = {}

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        there = self.list_commands(ctx)
        if args and args[0] not in there and not args[0].startswith("-"):
            near = nearest(args[0], there)
            if args[0] in self.others:
                hint = f" It is: {self.called} {self.others[args[0]]}"
            else:
                hint = f" Did you mean '{near[0]}'?" if near else f" '{self.called} --help' lists them."
            raise click.UsageError(f"There is no command '{args[0]}'.{hint}", ctx)
        return super().resolve_command(ctx, args)


class LazyCommands(HintingGroup):
    """`places` are (module in this package, name in it) by command; `summaries` are for the group's help."""

    places: ClassVar[Mapping[str, tuple[str, str]]]
    summaries: ClassVar[Mapping[str, str]]

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self.places)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in self.places:
            return None
        module, name = self.places[cmd_name]
        command: click.Command = getattr(import_module(f"greenstep.cli.{module}"), name)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(self.summaries.items()))


_UNBROKEN = "\u2011"  # at which lines are not wrapped; never written
_WITHIN = re.compile(r"(?<=\w)-(?=\w)")
_LINES = 24
_MANY = 14
SECTIONS = {
    "Board": (
        "chip", "port", "dialect", "baud", "frame", "hookup", "enter", "leave", "by-hand", "patience",
        "also-accept", "bootloader-bytes", "set",
    ),
    "Images": ("images", "eeprom", "keep", "even-if", "erase", "compare", "verify"),
    "Application": ("start", "wait", "expect", "expect-within", "console-baud", "elf", "talk", "line-end"),
    "General": ("trace", "json", "project", "brief", "help"),
}  # fmt: skip
"""Where options that many commands have are shown in a long list of them."""


class HelpPage(click.HelpFormatter):
    """Click's own, with that."""

    def __init__(self, **sizes: Any) -> None:
        super().__init__(**sizes)
        self._headings: list[str] = []
        self._top = 0

    def write_heading(self, heading: str) -> None:
        if not self._headings:
            self._top = len(self.buffer)
        self._headings.append(heading)
        super().write_heading(heading)

    def write_dl(self, rows: Iterable[tuple[str, str]], col_max: int = 30, col_spacing: int = 2) -> None:
        shown = [(word, _WITHIN.sub(_UNBROKEN, text)) for word, text in rows]
        if len(shown) < _MANY or self._headings[-1:] != ["Options"]:
            super().write_dl(shown, col_max, col_spacing)
            return
        parts: dict[str, list[tuple[str, str]]] = {"": [], **{title: [] for title in SECTIONS}}
        for row in shown:
            parts[section_of(row[0])].append(row)
        for title, part in parts.items():
            if title and part:
                self.dedent()
                self.write_paragraph()
                self.write_heading(title)
                self.indent()
            if part:
                super().write_dl(part, col_max, col_spacing)

    def write_text(self, text: str) -> None:
        super().write_text(_WITHIN.sub(_UNBROKEN, text))

    def getvalue(self) -> str:
        lines = "".join(self.buffer).count("\n")
        if self._top and lines > _LINES:
            headings = ", ".join(heading.partition(",")[0] for heading in self._headings)
            self.buffer.insert(self._top, f"  Below, in {lines} lines: {headings}.\n\n")
            self._top = 0
        return super().getvalue().replace(_UNBROKEN, "-")


def section_of(word: str) -> str:
    """The section of an option, as `--chip NAME` or `-h, --help`; empty if it is the command's own."""
    found = re.search(r"--([a-z-]+)", word)
    return next((title for title, names in SECTIONS.items() if found and found[1] in names), "")
