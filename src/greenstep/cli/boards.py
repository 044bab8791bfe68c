"""`greenstep boards`: list, add, change and remove."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import click

from greenstep.store.board import BoardSettings

from .completing import complete_board
from .consent import consented
from .options import How, collected, every_key_options, general_options
from .screen import say


@click.group("boards", invoke_without_command=True, short_help="The boards of greenstep.toml.")
@general_options
@click.pass_context
def command(context: click.Context, said: BoardSettings, how: How) -> int:
    """List the boards of the project file: chip, port and where it is now, hookup, images and whether they are
    there; or add, change and remove one. Opens no port.

    \b
    greenstep boards
    greenstep boards change hive-scale --port /dev/ttyUSB1
    """
    return 0 if context.invoked_subcommand else _list(how)


def _list(how: How) -> int:
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
        line = "; ".join((row.baud, *row.known))
        say(f"{row.board:<{names}}   {row.chip:<{chips}}   {row.hookup}   {line}".rstrip())
        say(f"{'':<{names}}   {row.port}")
        for image in row.images:
            say(f"{'':<{names}}   {image}")
        for trouble in row.trouble:
            say(f"{'':<{names}}   ✗ {trouble}")
    return 0


_FILE = click.option(
    "--project", type=click.Path(path_type=Path, dir_okay=False), envvar="GREENSTEP_PROJECT", metavar="FILE",
    help="The project file, if not the nearest greenstep.toml.",
)  # fmt: skip


@command.command("add", short_help="Write a board into the file.")
@click.argument("name")
@every_key_options
@click.option("--replace", "instead", is_flag=True, help="Replace a board of this name.")
@_FILE
@collected
def add(name: str, instead: bool, said: BoardSettings, how: How) -> int:
    """Write a board into greenstep.toml from options alone; greenstep init asks.

    \b
    greenstep boards add hive-scale --chip atmega328p --images scale.hex
    """
    from greenstep.store.board_tables import table_of
    from greenstep.store.new_project import add_board

    path = _file(how) or Path("greenstep.toml")
    _refuse_unknown(name, said)
    add_board(path, name, table_of(said, path.parent), instead)
    say(f"{path}: board {name} written")
    return 0


@command.command("change", short_help="Give a board other values.")
@click.argument("name", shell_complete=complete_board)
@every_key_options
@click.option("--without", multiple=True, metavar="KEY", help="Take this key away, so that its default holds.")
@_FILE
@collected
def change(name: str, without: tuple[str, ...], said: BoardSettings, how: How) -> int:
    """Give a board of greenstep.toml other values; what is not named stays, comments included.

    \b
    greenstep boards change hive-scale --baud 57600 --without expect
    """
    from greenstep.core.errors import usage
    from greenstep.store.board_tables import table_of
    from greenstep.store.new_project import change_board

    path = _there(how)
    keys = table_of(said, path.parent)
    if not keys and not without:
        raise usage("no-keys", "change what?", "options are named like the keys: --port, --baud; or --without KEY")
    _refuse_unknown(name, said)
    change_board(path, name, keys, [key.replace("-", "_") for key in without])
    say(f"{path}: board {name} changed: {', '.join((*keys, *(f'without {key}' for key in without)))}")
    return 0


@command.command("remove", short_help="Take a board out of the file.")
@click.argument("name", shell_complete=complete_board)
@click.option("--yes", is_flag=True, help="Do not ask.")
@_FILE
@collected
def remove(name: str, yes: bool, said: BoardSettings, how: How) -> int:
    """Take a board out of greenstep.toml. Its images and its rows in the journal stay."""
    from greenstep.store.new_project import remove_board

    path = _there(how)
    remove_board(path, name, lambda: consented(f"Remove {name} from {path}?", yes))
    say(f"{path}: board {name} removed")
    return 0


def _refuse_unknown(name: str, said: BoardSettings) -> None:
    """Raises UsageFault for a chip, dialect or hookup that is not known."""
    from greenstep.work.board import Board

    if said.chip or said.dialect or said.hookup:
        board = Board(name, said if said.chip or said.dialect else replace(said, chip="any"))
        _ = board.dialect, board.hookup


def _file(how: How) -> Path | None:
    from greenstep.store.project import find_project

    return how.project or find_project(Path.cwd()).path


def _there(how: How) -> Path:
    """The project file. Raises UsageFault if there is none."""
    from greenstep.core.errors import usage

    path = _file(how)
    if path is None:
        raise usage("no-boards", "no board: there is no greenstep.toml here or above", "greenstep init writes one")
    return path
