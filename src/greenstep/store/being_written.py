"""Whether another program has a file open for writing (Linux; elsewhere nobody can say)."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from pathlib import Path

_WRITING = os.O_WRONLY | os.O_RDWR


def being_written(paths: Iterable[Path], proc: Path = Path("/proc")) -> bool:
    """Whether any of the files is open for writing in a process that we may look into, except our own."""
    wanted = {os.path.realpath(path) for path in paths}
    return any(_writes(process, wanted) for process in _processes(proc))


def _processes(proc: Path) -> Iterator[Path]:
    own = str(os.getpid())
    try:
        yield from (entry for entry in proc.iterdir() if entry.name.isdigit() and entry.name != own)
    except OSError:
        return


def _writes(process: Path, wanted: set[str]) -> bool:
    """Nothing is known of processes that we may not inspect, or that just ended."""
    try:
        names = [entry.name for entry in (process / "fd").iterdir()]
    except OSError:
        return False
    for name in names:
        try:
            if str((process / "fd" / name).readlink()) in wanted and _flags(process / "fdinfo" / name) & _WRITING:
                return True
        except (OSError, ValueError):
            continue
    return False


def _flags(info: Path) -> int:
    """How a file was opened: the line `flags:` of its fdinfo, in octal (proc(5))."""
    for line in info.read_text().splitlines():
        if line.startswith("flags:"):
            return int(line.split()[1], 8)
    return 0
