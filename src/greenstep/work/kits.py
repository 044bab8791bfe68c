"""Which board of a kit is meant: by its name, by what the chip reports, or by an answer; and a kit as a program of
one file, for the system that it is made on: no Python is needed where it runs."""

from __future__ import annotations

import importlib.util
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from greenstep.core.chips.catalogue import Choice
from greenstep.core.chips.part import Part
from greenstep.core.engine.job import Job
from greenstep.core.errors import RefusedFault, usage
from greenstep.core.quantities import show_size
from greenstep.store.board import BoardSettings, TalkEntry
from greenstep.store.kit import HANDED_OVER, Kit

from .board import Board
from .jobs import make_job


def board_by_name(kit: Kit, boards: Mapping[str, Board], name: str | None) -> Board | None:
    """The board with that name, or the only one; None if the chip has to be asked. Raises UsageFault."""
    if name is not None:
        if name not in boards:
            raise usage("no-such-board", f"the kit has no board '{name}'", f"it has {', '.join(boards)}")
        return boards[name]
    return next(iter(boards.values())) if len(boards) == 1 and not kit.notes.flash_sizes else None


def with_secrets(settings: BoardSettings, values: Mapping[str, str]) -> BoardSettings:
    """The board with the values of its secrets filled in, by their names."""
    changed: dict[str, Any] = {name: _filled(value, values) for name, value in settings.__dict__.items()}
    return BoardSettings(**changed)


def _filled(value: Any, values: Mapping[str, str]) -> Any:
    match value:
        case TalkEntry() if value.secret in values:
            return replace(value, send=values[value.secret])
        case tuple():
            return tuple(_filled(one, values) for one in value)
        case Mapping():
            return {name: _filled(one, values) for name, one in value.items()}
    return value


def greeting(boards: Mapping[str, Board]) -> Job:
    """A job that greets whatever is there, as any of the boards' chips. Raises UsageFault if they are reached
    differently."""
    ways = {
        (
            board.dialect.name,
            str(board.settings.hookup or board.choice.first.hookup),
            board.settings.baud,
            board.settings.enter,
        )
        for board in boards.values()
    }
    if len(ways) > 1:
        raise usage(
            "kit-which-board",
            "the boards of this kit are reached in different ways",
            f"name one: {', '.join(boards)}",
        )
    parts = {part.name: part for board in boards.values() for part in board.choice.parts}
    job = make_job("greet", replace(next(iter(boards.values())), name=""))
    return replace(job, choice=Choice("one of the kit's", tuple(parts.values())))


def boards_for(kit: Kit, boards: Mapping[str, Board], part: Part) -> list[Board]:
    """The boards that it may be, by the chip that answered. Raises RefusedFault if there is none."""
    left = [board for board in boards.values() if _suits(kit, board, part)]
    if not left:
        listed = tuple(f"{name}: {board.settings.chip}{_size_words(kit, name)}" for name, board in boards.items())
        raise RefusedFault.of(
            "kit-no-board",
            f"no board of this kit has the {part.title} with {show_size(part.flash.size)}",
            listed,
            ("is it the right kit?",),
        )
    return left


def _size_words(kit: Kit, name: str) -> str:
    return f", {show_size(kit.notes.flash_sizes[name])}" if name in kit.notes.flash_sizes else ""


def _suits(kit: Kit, board: Board, part: Part) -> bool:
    size = kit.notes.flash_sizes.get(board.name)
    return part.name in (one.name for one in board.choice.parts) and size in (None, part.flash.size)


_ENTRY = "import sys\nfrom greenstep.cli.handed_over import main\nsys.exit(main(sys.argv[1:]))\n"
_NEEDED = ("greenstep.cli", "greenstep.core", "greenstep.store", "greenstep.work", "greenstep.ports", "serial")
_NOT_NEEDED = (
    *("greenstep.bench", "greenstep.draw", "greenstep.core.loaders", "matplotlib", "PIL", "watchfiles", "elftools"),
    *("tkinter", "unittest", "pydoc", "doctest", "lib2to3", "pip", "setuptools", "ziglang", "hypothesis", "unicorn"),
)
_LARGE_BYTES = 1 << 19
"""An image of so many bytes is looked into with numpy."""
_LONGEST_S = 900


def make_program(kit: Kit, kit_file: Path, save: Path) -> None:
    """Write the program; `kit_file` holds the kit. Raises UsageFault if the tool that packs it is not installed, or
    fails."""
    if importlib.util.find_spec("PyInstaller") is None:
        raise usage(
            "kit-program-tool",
            "what packs a program is not installed",
            "pip install 'greenstep[program]', in the environment that this command runs in",
        )
    with tempfile.TemporaryDirectory(prefix="greenstep-program-") as holder:
        folder = Path(holder)
        (folder / "entry.py").write_text(_ENTRY, "utf-8")
        shutil.copyfile(kit_file, folder / HANDED_OVER)
        words = _command(folder, HANDED_OVER, _without(kit))
        try:
            done = subprocess.run(words, cwd=folder, capture_output=True, text=True, timeout=_LONGEST_S, check=False)
        except subprocess.TimeoutExpired:
            raise usage(
                "kit-program-packing",
                f"the program was not packed within {_LONGEST_S // 60} minutes",
                "try again on an idle machine; update what packs it",
            ) from None
        made = next((path for path in (folder / "dist").glob("*") if path.is_file()), None)
        if done.returncode or made is None:
            last = tuple(line for line in done.stderr.splitlines() if line.strip())[-3:]
            raise usage(
                "kit-program-packing", "the program could not be packed", "update what packs it", evidence=last
            )
        shutil.copyfile(made, save)
        save.chmod(0o755)


def _without(kit: Kit) -> tuple[str, ...]:
    """What this kit does not need."""
    large = any(len(data) >= _LARGE_BYTES for data in kit.members.values())
    return _NOT_NEEDED if large else (*_NOT_NEEDED, "numpy")


def _command(folder: Path, kit: str, without: tuple[str, ...]) -> list[str]:
    words = [
        sys.executable,
        "-m",
        "PyInstaller",
        "--onefile",
        "--noconfirm",
        "--log-level",
        "ERROR",
        "--name",
        "handed-over",
    ]
    words += ["--distpath", str(folder / "dist"), "--workpath", str(folder / "build"), "--specpath", str(folder)]
    words += ["--add-data", f"{folder / kit}{os.pathsep}.", "--collect-data", "greenstep"]
    for package in _NEEDED:
        words += ["--collect-submodules", package]
    for module in without:
        words += ["--exclude-module", module]
    return [*words, str(folder / "entry.py")]
