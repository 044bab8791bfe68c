"""A group whose commands are loaded only when they are called or their own help is wanted."""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module
from typing import ClassVar

import click

from greenstep.core.nearest import nearest


class LazyCommands(click.Group):
    """`places` are (module in this package, name in it) by command; `called` is what a person types for the group."""

    places: ClassVar[Mapping[str, tuple[str, str]]]
    called: ClassVar[str]

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self.places)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in self.places:
            return None
        module, name = self.places[cmd_name]
        command: click.Command = getattr(import_module(f"greenstep.cli.{module}"), name)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in self.places and not args[0].startswith("-"):
            near = nearest(args[0], self.places)
            hint = f" Did you mean '{near[0]}'?" if near else f" '{self.called} --help' lists them."
            raise click.UsageError(f"There is no command '{args[0]}'.{hint}", ctx)
        return super().resolve_command(ctx, args)
