"""Waiting for a build: a board's image files have changed, and come to rest.

A compiler writes in several steps, removes files and folders and makes them anew. So it is the files themselves that
are looked at; what the system says of changes only tells when to look.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Generator, Sequence
from contextlib import closing, suppress
from pathlib import Path
from threading import Event as Flag

from greenstep.core.errors import usage
from greenstep.ports.holders import being_written

REST_S = 0.3
"""How long nothing must change."""
_LOOK_MS, _STEP_MS = 100, 25
_Print = tuple[tuple[str, int, int, int], ...]


class Rebuilds:
    """The files of one board. What is there at the beginning counts as new."""

    def __init__(self, files: Sequence[Path], rest_s: float = REST_S) -> None:
        if not files:
            raise usage("no-image", "no image to watch", "name a file, or images in greenstep.toml")
        self._files = tuple(path.absolute() for path in files)
        self._rest_s = rest_s
        self._taken: _Print | None = None
        self._seen: _Print | None = None
        self._since_s = 0.0

    @property
    def missing(self) -> tuple[Path, ...]:
        """Files that are not there."""
        return tuple(path for path in self._files if not path.exists())

    def ready(self) -> bool:
        """Whether there is something new, at rest. Returns at once."""
        now, at_s = self._fingerprint(), time.monotonic()
        if now != self._seen:
            self._seen, self._since_s = now, at_s
        if now is None or now == self._taken or at_s - self._since_s < self._rest_s:
            return False
        return not being_written([Path(name) for name, *_ in now])

    def take(self) -> None:
        """What was at rest is taken: only another change counts from here on, one that has just begun included. Call
        it before the files are read."""
        self._taken = self._seen

    @property
    def changed_since(self) -> bool:
        """Whether the files have changed since they were taken: what was read may be half of one and half of the
        other."""
        return self._fingerprint() != self._taken

    def wait(self, left: Callable[[], bool]) -> bool:
        """Until there is something new, at rest; False once `left` says so. Raises KeyboardInterrupt."""
        with closing(self._looks()) as looks:  # what is raised while it is disposed of unclosed would be lost
            for _ in looks:
                if left():
                    return False
                if self.ready():
                    return True
        return False

    def _looks(self) -> Generator[None, None, None]:
        """Whenever it is worth looking: after each change that the system reports, and now and then in any case."""
        from watchfiles import watch

        while True:
            yield
            folders = self._folders()
            stop = Flag()
            changes = watch(
                *folders, watch_filter=None, debounce=_STEP_MS, step=_STEP_MS, stop_event=stop, recursive=False,
                rust_timeout=_LOOK_MS, yield_on_timeout=True,
            )  # fmt: skip
            with closing(changes), suppress(FileNotFoundError):  # one went away just now
                for _ in changes:
                    yield
                    if self._folders() != folders:  # some came, or were made anew
                        stop.set()

    def _folders(self) -> list[Path]:
        """The folders of the files, or the nearest there are of those that are missing."""
        found = set()
        for path in self._files:
            folder = path if path.is_dir() else path.parent
            while not folder.is_dir():
                folder = folder.parent
            found.add(folder)
        return sorted(found)

    def _every_file(self) -> list[Path]:
        """The files, and those in the folders among them."""
        found = []
        for path in self._files:
            found += [inner for inner in path.rglob("*") if inner.is_file()] if path.is_dir() else [path]
        return sorted(found)

    def _fingerprint(self) -> _Print | None:
        """What tells one state of the files from another; None while one is missing."""
        if self.missing:
            return None
        marks = []
        try:
            for path in self._every_file():
                kept = path.stat()
                marks.append((str(path), kept.st_mtime_ns, kept.st_size, kept.st_ino))
        except OSError:  # one went away just now
            return None
        return tuple(marks)
