"""`greenstep boards`"""

from __future__ import annotations

from pathlib import Path

import click

from greenstep.store.board import BoardSettings

from .options import How, general_options


@click.command("boards", short_help="List the boards of greenstep.toml.")
@general_options
def command(said: BoardSettings, how: How) -> int:
    """List the boards of the project file: chip, port and where it is now, hookup, images and whether they are
    there. Opens no port."""
    from greenstep.core.errors import usage
    from greenstep.store.project import find_project
    from greenstep.work.readiness import readiness

    found = find_project(Path.cwd(), how.project)
    if not found.boards:
        raise usage("no-boards", "no board: there is no greenstep.toml here or above", "greenstep init writes one")
    rows = [readiness(name, board) for name, board in found.boards.items()]
    if how.as_json:
        from .json_view import json_line, plain

        for row in rows:
            json_line("board", **plain(row))
        return 0
    names = max(len(row.board) for row in rows)
    chips = max(len(row.chip) for row in rows)
    for row in rows:
        click.echo(f"{row.board:<{names}}   {row.chip:<{chips}}   {row.hookup}   {row.baud}".rstrip())
        click.echo(f"{'':<{names}}   {row.port}")
        for image in row.images:
            click.echo(f"{'':<{names}}   {image}")
        for trouble in row.trouble:
            click.echo(f"{'':<{names}}   ✗ {trouble}")
    return 0
