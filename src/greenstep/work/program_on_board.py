"""Whether an ELF file is of the program that a board was given last."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import TYPE_CHECKING

from greenstep.core.console.elf_program import LARGEST_ELF_BYTES, Program
from greenstep.core.errors import Fault, UsageFault
from greenstep.core.image import Image
from greenstep.core.image.content import digest_of
from greenstep.core.safety.plain_files import read_plain

from .board import Board
from .jobs import load_images
from .port_choice import port_name

if TYPE_CHECKING:
    from greenstep.store.journal import JournalRow

_LEAST_ID_BYTES = 8


class ProgramFile:
    """A board's ELF file, read again whenever a build has written it anew."""

    def __init__(self, board: Board, path: Path) -> None:
        """Raises UsageFault for a file that is missing, damaged, or no ELF file."""
        self._board, self._path = board, path
        self._state = _state_of(path)
        self._told: str | None = None
        self.program = Program.open(path)

    def news(self, uploaded: bool = False) -> tuple[str, ...]:
        """What is to be said of the file before the next address; empty if that was said already. `uploaded`: the
        board may have been given another program. A file that is just being written is taken the next time."""
        state = _state_of(self._path)
        if state != self._state:
            try:
                self.program = Program.open(self._path)
            except UsageFault:
                return ()
            self._state = state
        elif self._told is not None and not uploaded:
            return ()
        doubt = doubt_about(self._board, self._path, self.program)
        first, before = self._told is None, self._told
        self._told = doubt
        why = self.program.without_lines if first else ""
        lines = f"{self._path.name}: {why}" if why else ""
        return tuple(text for text in (doubt if doubt != before else "", lines) if text)


def _state_of(path: Path) -> tuple[int, int]:
    """What tells one state of a file from another; zeros while it is missing."""
    try:
        kept = path.stat()
    except OSError:
        return 0, 0
    return kept.st_mtime_ns, kept.st_size


def doubt_about(board: Board, path: Path, program: Program) -> str:
    """Why the places shown may be wrong, in words; empty if the file belongs to what is on the board."""
    row = _last_upload(board)
    if row is None:
        return f"{path.name} is not compared with the board: no upload of it is on record"
    if _matches(board, path, program, row):
        return ""
    entry = row.entry
    was = f"journal {row.number}, {entry.image} {entry.crc32}"
    return f"{path.name} is not of what the board was given last ({was}): places may be wrong"


def _last_upload(board: Board) -> JournalRow | None:
    from greenstep.store.journal import JournalTrouble, Wanted, rows
    from greenstep.store.journal_place import journal_file

    path = journal_file()
    if path is None or not path.exists():
        return None
    try:
        wanted = (
            Wanted(board=board.name, last=0) if board.name else Wanted(port=port_name(board.settings.port), last=0)
        )
        written = (row for row in rows(path, wanted) if row.entry.purpose in ("upload", "restore"))
        return next((row for row in written if row.entry.outcome in ("green", "unproven")), None)
    except JournalTrouble:
        return None


def _matches(board: Board, path: Path, program: Program, row: JournalRow) -> bool:
    """By the hash of what was written; or because the very image that was written holds the file's bytes, its build
    id, or its SHA-256, as application descriptors of ESPs do."""
    own = _image_of(path)
    erased = board.choice.first.flash.erased if board.settings.chip else 0xFF
    if own is not None and digest_of(own, erased).sha256 == row.entry.sha256:
        return True
    try:
        written = load_images(board).get("flash")
    except Fault:
        return False
    if written is None or digest_of(written, erased).sha256 not in (row.entry.sha256, row.entry.common_sha256):
        return False
    if own is not None and all(written.cut(p.address, len(p.data), erased) == p.data for p in own.pieces):
        return True
    marks = [hashlib.sha256(read_plain(path, LARGEST_ELF_BYTES)).digest(), bytes.fromhex(program.build_id)]
    return any(mark in piece.data for mark in marks if len(mark) >= _LEAST_ID_BYTES for piece in written.pieces)


def _image_of(path: Path) -> Image | None:
    """What the file would write; None if it is not one to be written."""
    from greenstep.store.image_files import load_image

    try:
        return load_image(path, 0)
    except Fault:
        return None
