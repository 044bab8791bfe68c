"""Which of the builds in a downloaded archive is meant: what cannot be for this chip is ruled out."""

from __future__ import annotations

import zipfile
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from greenstep.core.engine.connect import refuse_unfit
from greenstep.core.errors import Fault, RefusedFault, usage
from greenstep.core.frozen import frozen
from greenstep.store.board import ImageFile
from greenstep.store.image_files import load_image
from greenstep.store.kit import is_kit
from greenstep.store.release import members_of

from .board import Board
from .jobs import make_job


@frozen
class Build:
    """A file in an archive; `against` is why it cannot be for this board, empty if it can."""

    member: str
    against: str = ""


Ask = Callable[[str, Sequence[Build]], str]
"""Asks which of several builds of an archive it is; raises UsageFault where nobody can be asked."""


def with_builds(board: Board, ask: Ask) -> Board:
    """The board with a member in place of each archive among its images. Raises UsageFault, ImageFault."""
    files = board.settings.images or ()
    if not any(is_release(file.file) for file in files):
        return board
    picked = tuple(_picked(board, file, ask) if is_release(file.file) else file for file in files)
    return Board(board.name, replace(board.settings, images=picked))


def is_release(path: Path) -> bool:
    """Whether a file is an archive of builds: neither a kit nor a package for one board."""
    if path.suffix.lower() != ".zip" or not path.is_file() or is_kit(path):
        return False
    try:
        with zipfile.ZipFile(path) as archive:
            return "manifest.json" not in archive.namelist()
    except (OSError, zipfile.BadZipFile, ValueError):
        return False


def _picked(board: Board, file: ImageFile, ask: Ask) -> ImageFile:
    builds = [Build(member, _against(board, file, member)) for member in members_of(file.file)]
    left = [build for build in builds if not build.against]
    if not builds:
        raise usage("release-empty", f"{file.file.name} holds no image", "is it the right download?")
    if board.settings.chip and not left:
        raise RefusedFault.of(
            "release-none-fits",
            f"no build in {file.file.name} is for this board",
            tuple(f"{build.member}: {build.against}" for build in builds[:8]),
            ("is --chip right?", f"to upload one all the same: {file.file}:{builds[0].member}"),
        )
    member = left[0].member if len(left) == 1 else ask(str(file.file), builds)
    return replace(file, file=Path(f"{file.file}:{member}"))


def _against(board: Board, file: ImageFile, member: str) -> str:
    """Why this build cannot be for the board; empty if it can, or no chip is named."""
    if not board.settings.chip:
        return ""
    one = replace(file, file=Path(f"{file.file}:{member}"))
    try:
        load_image(one.file, 0)
        alone = Board(board.name, replace(board.settings, images=(one,)))
        refuse_unfit(make_job("upload", alone.without_port))
    except Fault as fault:
        return fault.finding.cause
    return ""
