"""Whether the boards of a project are ready: what is known of each without opening a port, and what is missing; and
waiting for a build: image files that have changed and come to rest."""

from __future__ import annotations

import time
from collections.abc import Callable, Generator, Sequence
from contextlib import closing, suppress
from pathlib import Path
from threading import Event as Flag

from greenstep.core.errors import Fault, usage
from greenstep.core.frozen import frozen
from greenstep.core.quantities import count, show_seconds
from greenstep.ports.holders import being_written
from greenstep.store.board import BoardSettings, ImageFile

from .board import Board
from .line_memory import known_of


@frozen
class Readiness:
    """`port` and `images` are in words: where the port is now, how many bytes each file holds. `known` is what was
    learnt of its line, `trouble` what is wrong with the board; both may be empty."""

    board: str
    chip: str
    port: str
    hookup: str
    baud: str
    known: tuple[str, ...]
    images: tuple[str, ...]
    trouble: tuple[str, ...]


def readiness(name: str, settings: BoardSettings) -> Readiness:
    """What there is to say about a board; anything wrong with it is in `trouble`, and is not raised."""
    trouble: list[str] = []
    chip, hookup, baud = settings.chip or "no chip", "", str(settings.baud or "")
    known: tuple[str, ...] = ()
    try:
        board = Board(name, settings)
        chip = board.choice.title
        hookup, baud = board.hookup_name, "fastest" if board.fastest else f"{board.baud} baud"
        known = _known(board)
    except Fault as fault:
        trouble.append(fault.finding.cause)
    images = []
    for image in settings.images or ():
        at = "" if image.at is None else f" at 0x{image.at:08X}" if isinstance(image.at, int) else f" at {image.at}"
        images.append(f"{image.file.name}{at}: {_held(image, trouble)}")
    port = _port(settings, trouble)
    return Readiness(name, chip, port, hookup, baud, known, tuple(images), tuple(trouble))


def _known(board: Board) -> tuple[str, ...]:
    """The highest rate that its line was found to carry; how it was entered, if not as declared, or by hand."""
    learnt = known_of(board)
    if learnt is None:
        return ()
    said = [f"its line carries {learnt.recent_baud}"] if learnt.recent_baud is not None else []
    if learnt.waited_s:
        said.append(f"last entered by hand in {show_seconds(learnt.waited_s)}")
    elif learnt.hookup not in ("", board.hookup_name):
        said.append(f"last entered by {learnt.hookup}")
    return tuple(said)


def _held(image: ImageFile, trouble: list[str]) -> str:
    """How many bytes a file holds, which is not its size if it is a text."""
    from greenstep.store.image_files import load_image

    if image.pack is not None and image.file.is_dir():
        from greenstep.store.placing import files_in

        files, _ = files_in(image.file)
        return f"{count(len(files), 'file')}, {sum(map(len, files.values())):,} bytes, as {image.pack}"
    if not image.file.is_file():
        trouble.append(f"there is no {image.file}: build it first?")
        return "not there"
    try:
        at = image.at if isinstance(image.at, int) else None if image.at is None else 0
        return f"{load_image(image.file, 0, at).size_bytes:,} bytes"
    except Fault as fault:
        trouble.append(fault.finding.cause)
        return "cannot be read"


def _port(settings: BoardSettings, trouble: list[str]) -> str:
    """How the port is named, and where it is now."""
    from .port_choice import BENCH, port_name

    if settings.port is None:
        return "no port given: the only one plugged in"
    try:
        found = port_name(settings.port)
    except Fault as fault:
        trouble.append(fault.finding.cause)
        return (
            f"remembered as {settings.port.remembered}"
            if settings.port.remembered
            else f"serial {settings.port.serial}"
        )
    if settings.port.name and "://" not in found and not found.startswith(BENCH) and not Path(found).exists():
        trouble.append(f"{found} is not plugged in")
    how = (
        f"   (serial {settings.port.serial})"
        if settings.port.serial
        else f"   ({settings.port.remembered})"
        if settings.port.remembered
        else ""
    )
    return f"{found}{how}"


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
