"""A group whose commands are loaded only when they are called or their own help is wanted."""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module
from typing import ClassVar

import click

from greenstep.core.suggestions import nearest


class LazyCommands(click.Group):
    """`places` are (module in this package, name in it) by command; `summaries` are for the group's help; `called` is
    what a person types for the group; `others` are words that people try -> what does it."""

    places: ClassVar[Mapping[str, tuple[str, str]]]
    summaries: ClassVar[Mapping[str, str]]
    called: ClassVar[str]
    others: ClassVar[Mapping[str, str]] = {}

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

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in self.places and not args[0].startswith("-"):
            near = nearest(args[0], self.places)
            if args[0] in self.others:
                hint = f" It is: {self.called} {self.others[args[0]]}"
            else:
                hint = f" Did you mean '{near[0]}'?" if near else f" '{self.called} --help' lists them."
            raise click.UsageError(f"There is no command '{args[0]}'.{hint}", ctx)
        return super().resolve_command(ctx, args)
