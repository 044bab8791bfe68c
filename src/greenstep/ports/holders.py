"""Which programs hold a device open, and which group owns it (Linux)."""

from __future__ import annotations

import os
from pathlib import Path

try:
    import grp
except ImportError:  # Windows has no groups in this sense
    grp = None  # type: ignore[assignment]


def holders(device: str, proc: Path = Path("/proc")) -> tuple[str, ...]:
    """Programs that have `device` open, as 'name (pid)', except our own; empty if the system does not report them."""
    found = []
    wanted = os.path.realpath(device)
    for process in _processes(proc):
        if process.name == str(os.getpid()):
            continue
        if any(target == wanted for target in _open_files(process)):
            found.append(f"{_name(process)} ({process.name})")
    return tuple(found)


def _processes(proc: Path) -> list[Path]:
    try:
        return [entry for entry in proc.iterdir() if entry.name.isdigit()]
    except OSError:
        return []


def _open_files(process: Path) -> list[str]:
    """What a process has open; nothing for processes that we may not inspect, or that just ended."""
    try:
        entries = list((process / "fd").iterdir())
    except OSError:
        return []
    targets = []
    for entry in entries:
        try:
            targets.append(os.path.realpath(entry.readlink()))
        except OSError:
            continue
    return targets


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
