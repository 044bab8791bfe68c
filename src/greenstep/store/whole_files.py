"""Files that exist completely or not at all: anything a person could lose is written here."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from greenstep.core.safety.plain_files import NO_FILE, is_replaceable


# Written, on the disk, then renamed: the name belongs to the old content or to the new one at every moment,
# also when the power fails in between. The temporary file is in the same folder, as a rename across file
# systems is a copy. The sync of the folder is for the name itself: without it, a file that is on the disk may
# have no name there after a crash. What was saved from a chip is written this way *before* the chip is
# erased, so that one of the two always has it.
def write_whole(path: Path, content: Iterable[bytes]) -> None:
    """Write a file under a temporary name, make sure that it is on the disk, and only then rename it: if writing
    breaks off, the old file is unchanged. A link stays a link; a new file has the usual permissions. Raises
    OSError."""
    import tempfile

    path = path.resolve()
    if not is_replaceable(path):
        raise OSError(errno.EINVAL, NO_FILE, str(path))
    descriptor, name = tempfile.mkstemp(prefix=f".{path.name}-", dir=path.parent)
    half = Path(name)
    try:
        with os.fdopen(descriptor, "wb") as stream:
            stream.writelines(content)
            stream.flush()
            os.fsync(stream.fileno())
        half.chmod(path.stat().st_mode & 0o777 if path.exists() else 0o666 & ~_mask())
        half.replace(path)
    except BaseException:
        with suppress(OSError):
            half.unlink()
        raise
    if os.name == "posix":  # its name is in the folder, which needs a sync of its own
        folder = os.open(path.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)


def _mask() -> int:
    """The permissions that the system removes from new files."""
    mask = os.umask(0o022)
    os.umask(mask)
    return mask
