"""Files that are there whole or not at all."""

from __future__ import annotations

import os
import tempfile
from contextlib import suppress
from pathlib import Path


def write_whole(path: Path, content: bytes) -> None:
    """Write a file, and see it on the disk before it has its name. Raises OSError."""
    descriptor, name = tempfile.mkstemp(prefix=f".{path.name}-", dir=path.parent)
    half = Path(name)
    try:
        with os.fdopen(descriptor, "wb") as stream:
            stream.write(content)
            stream.flush()
            os.fsync(stream.fileno())
        half.replace(path)
    except BaseException:
        with suppress(OSError):
            half.unlink()
        raise
    if os.name == "posix":  # its name is in the folder, which is a file of its own
        folder = os.open(path.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
