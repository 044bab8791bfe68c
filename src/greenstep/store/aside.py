"""Bytes that must be kept, in a file while the chip does not hold them."""

from __future__ import annotations

import re
from contextlib import suppress
from datetime import datetime
from pathlib import Path

import platformdirs

from greenstep.core.errors import RefusedFault
from greenstep.core.frozen import frozen
from greenstep.core.image import Image
from greenstep.core.image.intel_hex import write_intel_hex

from .journal_place import journal_file
from .whole_files import write_whole


@frozen
class AsideFile:
    """An Intel HEX file in this user's data folder."""

    path: Path
    earlier: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        return str(self.path)

    def drop(self) -> None:
        with suppress(OSError):  # then it stays, and the next upload says so
            self.path.unlink(missing_ok=True)


def aside_folder() -> Path:
    """Where they are: beside the journal."""
    journal = journal_file()
    return (journal.parent if journal is not None else platformdirs.user_data_path("greenstep")) / "kept"


def aside_files() -> list[Path]:
    """Those that no chip got back, oldest first."""
    return sorted(aside_folder().glob("*.hex"), key=lambda path: path.stat().st_mtime)


def put_aside(image: Image, whose: str) -> AsideFile:
    """Store the bytes beside the journal. Raises RefusedFault if that fails: nothing is erased then."""
    folder = aside_folder()
    stem = re.sub(r"[^A-Za-z0-9._-]", "-", whose) or "board"
    at = datetime.now().strftime("%Y-%m-%d-%H%M%S-%f")
    path = folder / f"{stem}-{at}.hex"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        # named alike up to the time
        before = [old for old in sorted(folder.glob("*.hex")) if old.stem[: -len(at) - 1] == stem]
        write_whole(path, (line.encode("ascii") for line in write_intel_hex(image)))
        written = path.read_bytes()
        for old in [old for old in before if old.read_bytes() == written]:  # the chip holds them again
            old.unlink()
            before.remove(old)
        earlier = tuple(map(str, before))
    except OSError as error:
        raise RefusedFault.of(
            "keeps",
            "the bytes to be kept could not be saved before erasing",
            (f"{path}: {error.strerror or error}",),
            ("free some space there, or make it writable", "save it yourself: greenstep backup, and leave out keep"),
        ) from error
    return AsideFile(path, earlier)
