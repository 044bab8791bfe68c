"""Which programs hold a device or a file open, and which group owns it (Linux; elsewhere nobody can say)."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path

try:
    import grp
except ImportError:  # Windows has no groups in this sense
    grp = None  # type: ignore[assignment]

_WRITING = os.O_WRONLY | os.O_RDWR


def holders(device: str, proc: Path = Path("/proc")) -> tuple[str, ...]:
    """Programs that have `device` open, as 'name (pid)', except our own; empty if the system does not report them."""
    wanted = os.path.realpath(device)
    return tuple(
        f"{_name(process)} ({process.name})"
        for process in _others(proc)
        if any(target == wanted for _, target in _open_files(process))
    )


def being_written(paths: Iterable[Path], proc: Path = Path("/proc")) -> bool:
    """Whether any of the files is open for writing in another process that we may look into."""
    wanted = {os.path.realpath(path) for path in paths}
    return any(
        target in wanted and _flags(process / "fdinfo" / name) & _WRITING
        for process in _others(proc)
        for name, target in _open_files(process)
    )


def _others(proc: Path) -> Iterator[Path]:
    own = str(os.getpid())
    try:
        yield from (entry for entry in proc.iterdir() if entry.name.isdecimal() and entry.name != own)
    except OSError:
        return


def _open_files(process: Path) -> Iterator[tuple[str, str]]:
    """(number, path) of what a process has open; nothing of those that we may not inspect, or that just ended."""
    try:
        entries = list((process / "fd").iterdir())
    except OSError:
        return
    for entry in entries:
        with suppress(OSError):
            yield entry.name, str(entry.readlink())


def _flags(info: Path) -> int:
    """How a file was opened: the line `flags:` of its fdinfo, in octal (proc(5)); 0 if it is closed by now."""
    with suppress(OSError, ValueError, IndexError):
        for line in info.read_text().splitlines():
            if line.startswith("flags:"):
                return int(line.split()[1], 8)
    return 0


def _name(process: Path) -> str:
    try:
        return (process / "comm").read_text().strip()
    except OSError:
        return "a program"


def owning_group(device: str) -> str:
    """The group that owns the device; empty if there is no name for it."""
    if grp is None:
        return ""
    try:
        return grp.getgrgid(Path(device).stat().st_gid).gr_name
    except (OSError, KeyError):
        return ""
