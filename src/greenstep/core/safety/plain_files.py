"""Files that may be read whole: no device, no pipe, and no more than is expected.

A device or a pipe never ends, or waits for ever, and opening a serial port resets the board behind it: so it is
looked at before it is opened.
"""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path
from typing import BinaryIO

from ..quantities import show_size

NO_FILE = "it is a device or a pipe, and no file"


def open_plain(path: Path) -> BinaryIO:
    """Open a regular file for reading. Raises OSError for anything else."""
    kind = path.stat().st_mode
    if stat.S_ISDIR(kind):
        raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), str(path))
    if not stat.S_ISREG(kind):
        raise OSError(errno.ENODEV, NO_FILE, str(path))
    return path.open("rb")


def read_plain(path: Path, most: int) -> bytes:
    """All of a regular file of at most `most` bytes. Raises OSError."""
    with open_plain(path) as stream:
        data = stream.read(most + 1)
    if len(data) > most:
        raise OSError(errno.EFBIG, f"it has more than {show_size(most)}", str(path))
    return data


def read_text(path: Path, most: int, encoding: str = "utf-8") -> str:
    """The same as text. Raises OSError, UnicodeDecodeError."""
    return read_plain(path, most).decode(encoding)


def is_pipe(path: Path) -> bool:
    """Whether a file would only open for writing once somebody reads it."""
    try:
        return stat.S_ISFIFO(path.stat().st_mode)
    except OSError:
        return False


def is_replaceable(path: Path) -> bool:
    """Whether a file may be written in that place: nothing is there, or a regular file. What cannot be looked at,
    writing tells."""
    try:
        return stat.S_ISREG(path.stat().st_mode)
    except OSError:
        return True
