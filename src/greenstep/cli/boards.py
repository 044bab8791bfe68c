"""`greenstep boards`"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from greenstep.store.board import BoardSettings, ImageFile

from .options import How, general_options


@click.command("boards", short_help="List the boards of greenstep.toml.")
@general_options
def command(said: BoardSettings, how: How) -> int:
    """List the boards of the project file: chip, port and where it is now, hookup, images and whether they are
    there. Opens no port."""
    from greenstep.core.errors import usage
    from greenstep.store.project import find_project

    found = find_project(Path.cwd(), how.project)
    if not found.boards:
        raise usage("no-boards", "no board: there is no greenstep.toml here or above", "greenstep init writes one")
    rows = [_row(name, board) for name, board in found.boards.items()]
    if how.as_json:
        from .json_view import json_line

        for row in rows:
            json_line("board", **row)
        return 0
    names = max(len(row["board"]) for row in rows)
    chips = max(len(row["chip"]) for row in rows)
    for row in rows:
        click.echo(f"{row['board']:<{names}}   {row['chip']:<{chips}}   {row['hookup']}   {row['baud']}".rstrip())
        click.echo(f"{'':<{names}}   {row['port']}")
        for image in row["images"]:
            click.echo(f"{'':<{names}}   {image}")
        for trouble in row["trouble"]:
            click.echo(f"{'':<{names}}   ✗ {trouble}")
    return 0


def _row(name: str, said: BoardSettings) -> dict[str, Any]:
    """What there is to say about a board; anything wrong with it is said in its row, and does not end the list."""
    from greenstep.core.errors import Fault
    from greenstep.work.board import Board

    trouble: list[str] = []
    chip, hookup, baud = said.chip or "no chip", "", str(said.baud or "")
    try:
        board = Board(name, said)
        chip, hookup, baud = board.choice.title, board.hookup_name, f"{board.baud} baud"
    except Fault as fault:
        trouble.append(fault.finding.cause)
    images = []
    for image in said.images or ():
        at = "" if image.at is None else f" at 0x{image.at:08X}"
        images.append(f"{image.file.name}{at}: {_held(image, trouble)}")
    port = _port(said, trouble)
    return {
        "board": name,
        "chip": chip,
        "port": port,
        "hookup": hookup,
        "baud": baud,
        "images": images,
        "trouble": trouble,
    }


def _held(image: ImageFile, trouble: list[str]) -> str:
    """How many bytes a file holds, which is not its size if it is a text."""
    from greenstep.core.errors import Fault
    from greenstep.store.image_files import load_image

    if not image.file.is_file():
        trouble.append(f"there is no {image.file}: build it first?")
        return "not there"
    try:
        return f"{load_image(image.file, 0, image.at).size_bytes:,} bytes"
    except Fault as fault:
        trouble.append(fault.finding.cause)
        return "cannot be read"


def _port(said: BoardSettings, trouble: list[str]) -> str:
    """How the port is named, and where it is now."""
    from greenstep.core.errors import Fault
    from greenstep.work.port_choice import BENCH, port_name

    if said.port is None:
        return "no port given: the only one plugged in"
    try:
        found = port_name(said.port)
    except Fault as fault:
        trouble.append(fault.finding.cause)
        return f"spot {said.port.spot}" if said.port.spot else f"serial {said.port.serial}"
    if said.port.name and "://" not in found and not found.startswith(BENCH) and not Path(found).exists():
        trouble.append(f"{found} is not plugged in")
    how = (
        f"   (serial {said.port.serial})" if said.port.serial else f"   ({said.port.spot})" if said.port.spot else ""
    )
    return f"{found}{how}"
