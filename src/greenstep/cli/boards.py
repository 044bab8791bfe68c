"""`greenstep boards` (list, add, change and remove) and `init`, which asks for the first one."""

from __future__ import annotations

import dataclasses
import re
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from greenstep.core.errors import Fault
from greenstep.store.board import FASTEST, BoardSettings, ImageFile, PortChoice
from greenstep.work.board import Board

from .completion import complete_board
from .options import How, board_options, collected, every_key_options, general_options, start_options
from .prompts import consented
from .screen import ask, can_ask, confirmed, say

if TYPE_CHECKING:
    from greenstep.store.known_lines import Learnt


@click.group("boards", invoke_without_command=True, short_help="The boards of greenstep.toml.")
@general_options
@click.pass_context
def boards_command(context: click.Context, settings: BoardSettings, how: How) -> int:
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


@boards_command.command("add", short_help="Write a board into the file.")
@click.argument("name")
@every_key_options
@click.option("--replace", "instead", is_flag=True, help="Replace a board of this name.")
@_FILE
@collected
def add(name: str, instead: bool, settings: BoardSettings, how: How) -> int:
    """Write a board into greenstep.toml from options alone; greenstep init asks.

    \b
    greenstep boards add hive-scale --chip atmega328p --images scale.hex
    """
    from greenstep.store.board_tables import table_of
    from greenstep.store.new_project import add_board

    path = _file(how) or Path("greenstep.toml")
    _refuse_unknown(name, settings)
    add_board(path, name, table_of(settings, path.parent), instead)
    say(f"{path}: board {name} written")
    return 0


@boards_command.command("change", short_help="Give a board other values.")
@click.argument("name", shell_complete=complete_board)
@every_key_options
@click.option("--without", multiple=True, metavar="KEY", help="Take this key away, so that its default holds.")
@_FILE
@collected
def change(name: str, without: tuple[str, ...], settings: BoardSettings, how: How) -> int:
    """Give a board of greenstep.toml other values; what is not named stays, comments included.

    \b
    greenstep boards change hive-scale --baud 57600 --without expect
    """
    from greenstep.core.errors import usage
    from greenstep.store.board_tables import table_of
    from greenstep.store.new_project import change_board

    path = _there(how)
    keys = table_of(settings, path.parent)
    if not keys and not without:
        raise usage("no-keys", "change what?", "options are named like the keys: --port, --baud; or --without KEY")
    _refuse_unknown(name, settings)
    change_board(path, name, keys, [key.replace("-", "_") for key in without])
    say(f"{path}: board {name} changed: {', '.join((*keys, *(f'without {key}' for key in without)))}")
    return 0


@boards_command.command("remove", short_help="Take a board out of the file.")
@click.argument("name", shell_complete=complete_board)
@click.option("--yes", is_flag=True, help="Do not ask.")
@_FILE
@collected
def remove(name: str, yes: bool, settings: BoardSettings, how: How) -> int:
    """Take a board out of greenstep.toml. Its images and its rows in the journal stay."""
    from greenstep.store.new_project import remove_board

    path = _there(how)
    remove_board(path, name, lambda: consented(f"Remove {name} from {path}?", yes))
    say(f"{path}: board {name} removed")
    return 0


def _refuse_unknown(name: str, settings: BoardSettings) -> None:
    """Raises UsageFault for a chip, dialect or hookup that is not known."""
    from greenstep.work.board import Board

    if settings.chip or settings.dialect or settings.hookup:
        board = Board(name, settings if settings.chip or settings.dialect else replace(settings, chip="any"))
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


@click.command("init", short_help="Write a first greenstep.toml.")
@click.argument("name", required=False)
@board_options
@click.option("--images", multiple=True, metavar="'FILE [at ADDRESS]'", help="An image of this board.")
@start_options
@click.option("--replace", is_flag=True, help="Replace a board of this name.")
@click.option(
    "--project",
    type=click.Path(path_type=Path, dir_okay=False),
    envvar="GREENSTEP_PROJECT",
    default=Path("greenstep.toml"),
    metavar="FILE",
    help="The file to write. [greenstep.toml]",
)
@collected
def init_command(name: str | None, replace: bool, settings: BoardSettings, how: How) -> int:
    """Write a board into greenstep.toml. What the options do not say is asked for on the terminal.

    \b
    greenstep init
    greenstep init hive-scale --chip atmega328p --images build/scale.hex
    """
    from greenstep.core.hookup.circuits import NAMED
    from greenstep.store.board_tables import image_value
    from greenstep.store.board_words import hookup_argument
    from greenstep.store.new_project import add_board

    project = how.project or Path("greenstep.toml")
    name = _name(name)
    chip = settings.chip or _asked("chip", "Which chip? (such as atmega328p, stm32f103c8, stm32)")
    usual = Board(name, BoardSettings(chip=chip)).choice.first.hookup
    keys: dict[str, Any] = {"chip": chip}
    if settings.dialect:
        keys["dialect"] = settings.dialect
    keys["port"] = _port(settings.port.name if settings.port else None, name)
    for key in ("baud", "frame"):
        if getattr(settings, key):
            keys[key] = getattr(settings, key)
    known = _known(chip, keys["port"])
    if known is not None:
        usual = known.hookup if known.hookup in NAMED else usual
        keys |= _as_known(known, settings)
    keys["hookup"] = settings.hookup or hookup_argument(
        _asked("hookup", "How do DTR and RTS reach reset and boot?", usual)
    )
    wanted = Board(name, dataclasses.replace(settings, chip=chip, hookup=keys["hookup"]))
    _ = wanted.hookup  # refuses an unknown hookup
    images = settings.images or _asked_images()
    if images:
        keys["images"] = [image_value(image, project.parent) for image in images]
    expect = settings.expect or _asked("expect", "Text that the program prints (empty: none)", "")
    if expect:
        keys["expect"] = expect
    for key in ("enter", "leave", "patience", "expect_within", "console_baud"):
        if getattr(settings, key) is not None:
            keys[key] = getattr(settings, key)
    add_board(project, name, keys, replace)
    say(f"{project}: board {name} written. Next: greenstep greet {name}")
    return 0


def _known(chip: str, port: Any) -> Learnt | None:
    """What was learnt of a board with this chip at this port, in whatever project."""
    from greenstep.store.known_lines import learnt
    from greenstep.work.line_memory import adapter_at
    from greenstep.work.port_choice import port_name

    choice = PortChoice(name=port) if isinstance(port, str) else PortChoice(**port)
    try:
        found = learnt(chip=chip, adapter=adapter_at(port_name(choice)))
    except Fault:  # it is not plugged in
        return None
    return found[0] if found else None


def _as_known(known: Learnt, settings: BoardSettings) -> dict[str, Any]:
    """The keys that what is known suggests; a person is asked for the rate, and else told of it."""
    from greenstep.core.engine.job import BY_HAND_PATIENCE_S

    keys: dict[str, Any] = {}
    words = [f"entered by {known.hookup}"] if known.hookup else []
    if known.baud is not None:
        words.append(f"its line carried {known.baud} baud")
    if not words:
        return keys
    say(f"known from {known.at[:10]}: {', '.join(words)}")
    if known.baud is not None and settings.baud is None:
        if not _interactive():
            say('  baud = "fastest" uses that rate: --baud fastest')
        elif confirmed("Use the highest rate that the line carries?", default=True):
            keys["baud"] = FASTEST
    if settings.patience is None and 2 * known.waited_s > BY_HAND_PATIENCE_S:
        keys["patience"] = float(round(2 * known.waited_s))
        say(f"  patience = {keys['patience']:g}: entering by hand took {known.waited_s:g} s")
    return keys


def _interactive() -> bool:
    return can_ask() and sys.stdout.isatty()


def _asked(option: str, question: str, default: str | None = None) -> str:
    """An answer, or the default if nobody can be asked. Raises UsageFault if there is no default either."""
    from greenstep.core.errors import usage

    if _interactive():
        return ask(question, default)
    if default is None:
        raise usage(f"no-{option}", f"which {option}?", f"--{option}: there is no terminal to ask on")
    return default


def _name(name: str | None) -> str:
    from greenstep.core.errors import usage

    if name is None and not _interactive():
        raise usage("no-name", "what should the board be called?", "greenstep init NAME --chip … --port …")
    name = name or ask("A name for the board (such as hive-scale)")
    if not re.fullmatch(r"[A-Za-z0-9][\w-]*", name):
        raise usage("board-name", f"'{name}' is not a valid board name", "letters, digits, '-' and '_'")
    return name


def _asked_images() -> tuple[ImageFile, ...]:
    from greenstep.store.board_words import image_option

    if not _interactive():
        return ()
    text = ask("Which image? (file, or 'FILE at ADDRESS'; empty: later)", default="")
    return image_option(text) if text.strip() else ()


def _port(given: str | None, name: str) -> Any:
    """How the board's port is written: by serial number if it has one, so that a changed name does not matter."""
    from greenstep.ports.discovery import find_ports
    from greenstep.work.port_choice import known_ports

    ports = find_ports(aliases=known_ports())
    if given is None:
        given = _chosen(ports, name)
    if given in known_ports():
        return {"remembered": given}
    port = next((port for port in ports if given in (port.name, port.by_id)), None)
    if port is not None and port.serial and sum(other.serial == port.serial for other in ports) == 1:
        return {"serial": port.serial}
    return given


def _chosen(ports: list[Any], name: str) -> str:
    from greenstep.core.errors import usage

    if not _interactive():
        if len(ports) == 1:
            return str(ports[0].name)
        there = ", ".join(port.name for port in ports) or "none plugged"
        raise usage("no-port", "which port?", f"--port: there is no terminal to ask on ({there})")
    for number, port in enumerate(ports, 1):
        say(f"  {number}  {port.name}  {port.label}")
    say("  s  find it by its plug")
    answer = ask("Which port? (number, s, or a name)", "1" if ports else "s")
    if answer == "s":
        return _by_plug(name)
    if answer.isdecimal() and 1 <= int(answer) <= len(ports):
        return str(ports[int(answer) - 1].name)
    return answer


def _by_plug(name: str) -> str:
    import time

    from greenstep.core.errors import usage
    from greenstep.ports.discovery import find_ports, wait_for_change
    from greenstep.work.port_choice import remember_port

    say("Unplug the board, or plug it in …")
    change = wait_for_change(find_ports, time.monotonic, time.sleep, 60.0)
    if change is None:
        raise usage("no-change", "no port came or went in 60 s", "greenstep init again, with --port NAME")
    say(remember_port(name, change.ports))
    return name
