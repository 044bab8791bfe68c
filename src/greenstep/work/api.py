"""What `import greenstep` offers a program. A board's keys have the names and values that they have in
greenstep.toml; docs/python.md shows them at work."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, TypedDict, Unpack

from greenstep.core.engine.job import Job, Purpose
from greenstep.core.errors import usage
from greenstep.core.image import Image, join
from greenstep.store import image_files
from greenstep.store.board_keys import board_from_table
from greenstep.store.image_files import check_place
from greenstep.store.project import find_project

from .board import Board, with_bench_board
from .jobs import make_job
from .listening import HeardLine, heard_lines
from .planning import Planned, plan_for
from .port_choice import BENCH
from .run import Run, save_backup

ImageLike = Image | str | Path | tuple[str | Path, int]
"""An image, a file, or a raw file with its address."""


class BoardKeys(TypedDict, total=False):
    """What can be said about a board, besides its images: docs/project-file.md explains each. Rates are in baud,
    times in seconds, addresses and sizes in bytes."""

    chip: str
    port: str | Mapping[str, str]
    baud: int | str
    frame: str
    hookup: str | Mapping[str, Any]
    enter: str
    leave: str
    by_hand: Mapping[str, Sequence[str]] | Sequence[str]
    wait: bool
    patience: float
    dialect: str
    set: Mapping[str, Any]
    also_accept: Sequence[int]
    keep: Sequence[Mapping[str, Any]]
    bootloader_bytes: int
    erase: str
    even_if: Sequence[str]
    compare: str
    verify: bool
    start: bool
    expect: str
    expect_within: float
    console_baud: int
    elf: str
    talk: Sequence[Mapping[str, Any]]
    line_end: str


class BoardAndImages(BoardKeys, total=False):
    """And its images: file names, or tables with `file` and `at`; `eeprom` are those for the EEPROM."""

    images: Sequence[str | Mapping[str, Any]]
    eeprom: Sequence[str | Mapping[str, Any]]


class OpenBoard:
    """A board, and what can be done with it. Nothing is opened before a run is iterated over."""

    def __init__(self, board: Board) -> None:
        self.board = board

    def plan(self, *images: ImageLike) -> Planned:
        """What an upload of the images (the board's own if none is given) would erase and write, and the seconds it
        would take. Opens no port. Raises UsageFault, ImageFault, and RefusedFault for what must not be written."""
        return plan_for(self.board, images=self._images(images))

    def greet(self, trace: str | Path | None = None) -> Run:
        """Ask who is there; changes nothing on the chip. `trace` records the line (VCD)."""
        return self._run("greet", trace=trace)

    def upload(self, *images: ImageLike, trace: str | Path | None = None, recorded: bool = True) -> Run:
        """Write the images (the board's own if none is given), prove them, and start the application. `recorded`: add
        a row to the journal."""
        return self._run("upload", images, trace, recorded)

    def verify(self, *images: ImageLike, trace: str | Path | None = None) -> Run:
        """Compare what the chip holds with the images, byte for byte; changes nothing on the chip. A difference ends
        in a VerifyFault."""
        return self._run("verify", images, trace)

    def back_up(
        self,
        save: str | Path | None = None,
        memory: str = "flash",
        start: int | None = None,
        size: int | None = None,
        trace: str | Path | None = None,
        recorded: bool = True,
    ) -> Run:
        """Read a memory, twice, from the address `start` (default: its own start) for `size` bytes (default: to its
        end). After a good end, what was read is in `outcome.backup`, and in the file `save`, in the format of its
        ending. Raises UsageFault for a file that exists already."""
        if save is not None:
            check_place(Path(save), replace=False)
        run = self._run("backup", (), trace, recorded, (memory, start, size))
        if save is not None:
            file = Path(save)
            run.at_a_good_end(lambda: save_backup(run, file))
        return run

    def start(self, trace: str | Path | None = None) -> Run:
        """Start the application; with the key `expect`, its text is the evidence."""
        return self._run("start", trace=trace)

    def listen(
        self, seconds: float | None = None, expect: str = "", reset: bool = False, send: Sequence[str] = ()
    ) -> Iterator[HeardLine]:
        """The lines that the application prints, as they come: for so many seconds (default: without limit), or until
        the text `expect` has come; a StartFault if it does not come within `seconds`, by default 5 if a text is
        awaited. `reset`: reset the board first, by its hookup. The lines in `send` are sent at the beginning. Closing
        the iterator closes the port."""
        if expect and seconds is None:
            seconds = 5.0
        return heard_lines(self.board, seconds, expect, reset, send)

    def _images(self, given: Sequence[ImageLike]) -> dict[str, Image] | None:
        """The given ones, for the flash; None if the board's own are meant."""
        if not given:
            return None
        base = self.board.choice.first.flash.start
        images = [_image(one, base) for one in given]
        return {"flash": join(images)}

    def _run(
        self,
        purpose: Purpose,
        images: Sequence[ImageLike] = (),
        trace: str | Path | None = None,
        recorded: bool = True,
        region: tuple[str, int | None, int | None] | None = None,
    ) -> Run:
        job: Job = make_job(purpose, self.board, region=region, images=self._images(images))
        return Run(job, trace=None if trace is None else Path(trace), recorded=recorded)


def _image(given: ImageLike, base: int) -> Image:
    if isinstance(given, Image):
        return given
    file, at = given if isinstance(given, tuple) else (given, None)
    return image_files.load_image(Path(file), base, at)


def load_image(file: str | Path, at: int = 0) -> Image:
    """The image in a file: Intel HEX, S-record, TI-TXT, ELF, or raw binary, which is placed at the address `at`.
    Raises UsageFault for a missing file, ImageFault for one that cannot be read."""
    return image_files.load_image(Path(file), at)


def open_board(name: str = "", project: str | Path | None = None, **keys: Unpack[BoardAndImages]) -> OpenBoard:
    """The board with that name in the project file (`project`, else the nearest greenstep.toml), with `keys`
    replacing what is said there; without a name, the board that the keys describe. For a simulated board, with a port
    `bench:NAME`, nothing else is needed. Raises UsageFault."""
    said = board_from_table(_as_in_toml(keys), "board", Path.cwd())
    if name:
        found = find_project(Path.cwd(), None if project is None else Path(project))
        if name not in found.boards:
            near = found.names_like(name)
            raise usage("no-such-board", f"no board '{name}'", *([f"did you mean {near[0]}?"] if near else []))
        said = said.over(found.boards[name])
    if said.port is not None and said.port.name.startswith(BENCH):
        said = with_bench_board(said)
    return OpenBoard(Board(name, said))


def _as_in_toml(value: Any) -> Any:
    """Tuples as lists, paths as texts: what is said about a board is read as from its file."""
    if isinstance(value, Mapping):
        return {key: _as_in_toml(one) for key, one in value.items() if one is not None}
    if isinstance(value, list | tuple):
        return [_as_in_toml(one) for one in value]
    return str(value) if isinstance(value, Path) else value


def plan(*images: ImageLike, **keys: Unpack[BoardKeys]) -> Planned:
    """`OpenBoard.plan` of the board that the keys describe."""
    return open_board(**keys).plan(*images)


def greet(**keys: Unpack[BoardKeys]) -> Run:
    """`OpenBoard.greet` of the board that the keys describe."""
    return open_board(**keys).greet()


def upload(*images: ImageLike, **keys: Unpack[BoardKeys]) -> Run:
    """`OpenBoard.upload` to the board that the keys describe."""
    return open_board(**keys).upload(*images)


def verify(*images: ImageLike, **keys: Unpack[BoardKeys]) -> Run:
    """`OpenBoard.verify` of the board that the keys describe."""
    return open_board(**keys).verify(*images)


def back_up(save: str | Path | None = None, **keys: Unpack[BoardKeys]) -> Run:
    """`OpenBoard.back_up` of the flash of the board that the keys describe."""
    return open_board(**keys).back_up(save)


def listen(
    seconds: float | None = None, reset: bool = False, send: Sequence[str] = (), **keys: Unpack[BoardKeys]
) -> Iterator[HeardLine]:
    """`OpenBoard.listen` to the board that the keys describe, `expect` among them."""
    return open_board(**keys).listen(seconds, keys.get("expect", ""), reset, send)
