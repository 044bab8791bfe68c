"""Whether the boards of a project are ready: what is known of each without opening a port, and what is wrong."""

from __future__ import annotations

from pathlib import Path

from greenstep.core.errors import Fault
from greenstep.core.frozen import frozen
from greenstep.core.quantities import count, show_seconds
from greenstep.store.board import BoardSettings, ImageFile

from .board import Board
from .line_memory import known_of


@frozen
class Readiness:
    """`port` and `images` are in words: where the port is now, how many bytes each file holds. `known` is what was
    learnt of its line, `trouble` what is wrong with the board; both may be empty."""

    board: str
    chip: str
    port: str
    hookup: str
    baud: str
    known: tuple[str, ...]
    images: tuple[str, ...]
    trouble: tuple[str, ...]


def readiness(name: str, said: BoardSettings) -> Readiness:
    """What there is to say about a board; anything wrong with it is in `trouble`, and is not raised."""
    trouble: list[str] = []
    chip, hookup, baud = said.chip or "no chip", "", str(said.baud or "")
    known: tuple[str, ...] = ()
    try:
        board = Board(name, said)
        chip = board.choice.title
        hookup, baud = board.hookup_name, "fastest" if board.fastest else f"{board.baud} baud"
        known = _known(board)
    except Fault as fault:
        trouble.append(fault.finding.cause)
    images = []
    for image in said.images or ():
        at = "" if image.at is None else f" at 0x{image.at:08X}" if isinstance(image.at, int) else f" at {image.at}"
        images.append(f"{image.file.name}{at}: {_held(image, trouble)}")
    port = _port(said, trouble)
    return Readiness(name, chip, port, hookup, baud, known, tuple(images), tuple(trouble))


def _known(board: Board) -> tuple[str, ...]:
    """The highest rate that its line was found to carry; how it was entered, if not as declared, or by hand."""
    learnt = known_of(board)
    if learnt is None:
        return ()
    said = [f"its line carries {learnt.recent_baud}"] if learnt.recent_baud is not None else []
    if learnt.waited_s:
        said.append(f"last entered by hand in {show_seconds(learnt.waited_s)}")
    elif learnt.hookup not in ("", board.hookup_name):
        said.append(f"last entered by {learnt.hookup}")
    return tuple(said)


def _held(image: ImageFile, trouble: list[str]) -> str:
    """How many bytes a file holds, which is not its size if it is a text."""
    from greenstep.store.image_files import load_image

    if image.pack is not None and image.file.is_dir():
        from greenstep.store.placing import files_in

        files, _ = files_in(image.file)
        return f"{count(len(files), 'file')}, {sum(map(len, files.values())):,} bytes, as {image.pack}"
    if not image.file.is_file():
        trouble.append(f"there is no {image.file}: build it first?")
        return "not there"
    try:
        at = image.at if isinstance(image.at, int) else None if image.at is None else 0
        return f"{load_image(image.file, 0, at).size_bytes:,} bytes"
    except Fault as fault:
        trouble.append(fault.finding.cause)
        return "cannot be read"


def _port(said: BoardSettings, trouble: list[str]) -> str:
    """How the port is named, and where it is now."""
    from .port_choice import BENCH, port_name

    if said.port is None:
        return "no port given: the only one plugged in"
    try:
        found = port_name(said.port)
    except Fault as fault:
        trouble.append(fault.finding.cause)
        return f"remembered as {said.port.remembered}" if said.port.remembered else f"serial {said.port.serial}"
    if said.port.name and "://" not in found and not found.startswith(BENCH) and not Path(found).exists():
        trouble.append(f"{found} is not plugged in")
    how = (
        f"   (serial {said.port.serial})"
        if said.port.serial
        else f"   ({said.port.remembered})"
        if said.port.remembered
        else ""
    )
    return f"{found}{how}"
