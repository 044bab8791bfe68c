"""What a run is to do, what it hands back to its caller, and what is sent to an application after its start."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import field, replace
from typing import TYPE_CHECKING, Literal, Protocol

from ..chips.part import Part
from ..dialects.dialect import Dialect
from ..dialects.spec import Starting
from ..events import Step
from ..frozen import frozen
from ..image import Piece
from ..image.granules import Granules
from ..link import LineSettings, Link
from ..plan.write_options import CompareWith, TalkLine, WriteOptions
from ..safety.secrets import Secrets
from ..trace.recording import RecordingLink
from .chip_state import ChipState

if TYPE_CHECKING:
    from ..chips.catalogue import Choice
    from ..chips.part import ByHandWords, Part
    from ..events import Step
    from ..hookup.circuits import Hookup
    from ..hookup.other_pins import OutsidePins
    from ..image import Image
    from ..image.granules import Remembered
    from ..trace.recording import LineEvent


Purpose = Literal["greet", "upload", "verify", "start", "backup", "erase", "lock", "unlock"]


BY_HAND_PATIENCE_S = 20.0


@frozen
class Job:
    """One run, with everything it needs to know.

    `port_serial` is the serial number of the adapter, for the finding. `images` are by memory name. `patience_s` is
    how long to keep asking for sync; None is the dialect's own default where lines reset the chip. `expect` is the
    text that proves the application runs, listened for at `console`. `also_accepts` are chip numbers accepted besides
    the declared one's. `talk` is sent to the application after the start, each line with `line_end`; `secrets` are
    kept out of every recording. `keeps_open`: after a green end the link stays open, for a console that goes on
    listening. `region` is the memory, address and size that a backup or an erase is about; None is all of it.
    `recall` returns what the journal knows of a chip, by its own number and its part's name; `put_aside` stores bytes
    that must be kept, for the board or chip named, and raises RefusedFault if it cannot. `own_values` are those of
    this very board, as a text for the journal, and `common_flash` is the image before they were put in. Not empty,
    `only_chip` is the only number of its own with which the chip is the right one. `rates`, if it is not None: use
    the highest rate that both ends carry, and remember it there; `settings` then has the safe one. `pins` moves the
    pins that no line of the port reaches. `watch` is told of everything that passes on the line. `own_hands` are the
    board's own moves by hand, where it has any.
    `end_patience_s` is how long to wait for a person at the end, who sets the boot pin back and presses reset; 0 does
    not wait.
    """

    purpose: Purpose
    choice: Choice
    dialect: type[Dialect]
    settings: LineSettings
    port: str
    hookup: Hookup
    board: str = ""
    port_serial: str = ""
    images: dict[str, Image] = field(default_factory=dict)
    options: WriteOptions = field(default_factory=WriteOptions)
    patience_s: float | None = None
    expect: str = ""
    expect_within_s: float = 5.0
    console: LineSettings = field(default_factory=lambda: LineSettings(115200))
    start: bool = True
    also_accepts: frozenset[int] = frozenset()
    bootloader_bytes: int | None = None
    talk: tuple[TalkLine, ...] = ()
    line_end: bytes = b"\r\n"
    secrets: Secrets = field(default_factory=Secrets)
    keeps_open: bool = False
    region: tuple[str, int | None, int | None] = ("flash", None, None)
    recall: Callable[[str, str], Remembered | None] | None = None
    put_aside: Callable[[Image, str], SafetyCopy] | None = None
    own_values: str = ""
    common_flash: Image | None = None
    only_chip: str = ""
    rates: RateMemory | None = None
    pins: OutsidePins | None = None
    watch: Callable[[LineEvent], None] | None = None
    own_hands: ByHandWords | None = None
    end_patience_s: float = BY_HAND_PATIENCE_S

    @property
    def hands(self) -> ByHandWords:
        """What a person does where no line does it, before the chip is known."""
        return self._hands_or(self.choice.hands)

    def hands_of(self, part: Part) -> ByHandWords:
        """The same for this very part."""
        return self._hands_or(part.hands)

    def _hands_or(self, usual: ByHandWords) -> ByHandWords:
        own = self.own_hands
        if own is None:
            return usual
        return replace(usual, enter=own.enter or usual.enter, leave=own.leave or usual.leave)

    @property
    def boot_by_hand(self) -> bool:
        """Whether a person has to set the boot pin, or whatever else leads into the bootloader."""
        own = self.own_hands is not None and bool(self.own_hands.leave)
        selects = own or bool(self.choice.first.boot_level)
        return selects and not self.dialect.spec.into_ram and not self.hookup.moves_boot

    @property
    def puts_back(self) -> bool:
        """Whether the run ends with the boot pin set back and a reset. Without them a power-up leads into the
        bootloader. A dialect that starts programs by command may have been entered without the pin."""
        if not self.boot_by_hand or self.purpose not in ("upload", "start", "lock", "unlock"):
            return False
        if self.purpose == "start" and self.starts_by_lines:
            return False
        if self.purpose == "unlock":
            return self.options.writes_only
        return self.dialect.spec.starting is Starting.RESET and (self.start or self.purpose != "upload")

    @property
    def first_settings(self) -> LineSettings:
        """Rate and frame for the first question; the wanted rate may have to wait until the loader answers."""
        return replace(self.settings, baud=self.dialect.first_baud(self.choice.first, self.settings.baud))

    @property
    def empties(self) -> bool:
        """Whether the chip shall be blank in the end, or is only looked at whether it is."""
        return self.purpose == "erase" or self.options.blank

    @property
    def starts_by_lines(self) -> bool:
        """Whether the application is started by moving lines rather than by a command."""
        if self.hookup.leave is None:
            return False
        return self.dialect.spec.starting is Starting.RESET or self.purpose == "start"

    @property
    def steps(self) -> tuple[Step, ...]:
        if self.purpose == "start":
            alone = self.starts_by_lines or (self.puts_back and self.end_patience_s > 0)
            way: tuple[Step, ...] = ("port",) if alone else ("port", "enter", "sync")
            return (*way, *self._end)
        approach: tuple[Step, ...] = ("port", "enter", "sync", "chip")
        if self.purpose == "greet":
            return approach
        end = self._end if self.start else ()
        if self.purpose == "verify":
            return (*approach, "verify") if self.options.blank else ("image", *approach, "verify")
        if self.purpose == "backup":
            return (*approach, "read")
        if self.purpose == "lock":
            return (*approach, "lock", *self._back)
        if self.purpose == "unlock":
            return (*approach, "unlock", *self._back)
        erases = self.dialect.spec.erasing.is_a_step or self.options.erase_all
        erase: tuple[Step, ...] = ("erase",) if erases else ()
        if self.purpose == "erase":
            alone = (erases or self.dialect.spec.erases_alone) and self.region[0] == "flash"
            return (*approach, "erase" if alone else "write", "verify")
        return ("image", *approach, *self._sparing, *erase, "write", "verify", *end)

    @property
    def _sparing(self) -> tuple[Step, ...]:
        """Steps that look first, so that something need not be written or is not lost."""
        # without verify, the loader need not be able to read
        reads = self.dialect.spec.reads and self.options.verify
        looks = self.options.compare is not CompareWith.OFF and not self.dialect.spec.into_ram
        compares = looks and not self.options.erase_all and reads
        compare: tuple[Step, ...] = ("compare",) if compares else ()
        return (*compare, "keep") if self.options.keep else compare

    @property
    def _end(self) -> tuple[Step, ...]:
        return (*self._back, "start", "talk") if self.talk else (*self._back, "start")

    @property
    def _back(self) -> tuple[Step, ...]:
        return ("put back",) if self.puts_back else ()

    def part_as_declared(self, part: Part) -> Part:
        """The part, with the bootloader size that this board states."""
        return part.with_loader_room(self.bootloader_bytes)


@frozen
class OpenedPort:
    """An open line, and what the system says is behind it. `shared_with`: the system itself uses it, for its
    `console` or a `login`."""

    link: Link
    evidence: str
    shared_with: str = ""


class RateMemory(Protocol):
    """What is known of the line between this adapter and this board."""

    def known(self) -> int | None:
        """The highest rate that it carries, in baud, if it has been found."""

    def keep(self, baud: int) -> None:
        """Remember it."""


class SafetyCopy(Protocol):
    """A safe place for bytes while the chip does not hold them. `name` is what a person finds them by; `earlier` are
    names of those put aside for the same board before that were never written back."""

    @property
    def name(self) -> str: ...

    @property
    def earlier(self) -> tuple[str, ...]: ...

    def drop(self) -> None:
        """Remove them: the chip holds them again."""


OpenLink = Callable[[LineSettings, tuple[bool, bool]], OpenedPort]
"""Opens the port with the given settings and (DTR, RTS). Raises PortFault."""


@frozen
class Outcome:
    """`part` and `unique_id` are as reported by the chip, None and empty before that; `synced`: whether anything
    answered. `unproven` are the steps without evidence. `backup` is what was read. `granules` are the write units of
    the flash image. `line` is what the conversation was held at. `link` is the line with its recording: open after a
    green end if the job keeps it open, None if the port was never opened."""

    part: Part | None = None
    unique_id: str = ""
    synced: bool = False
    state: ChipState = ChipState.UNTOUCHED
    unproven: tuple[Step, ...] = ()
    backup: tuple[Piece, ...] = ()
    granules: Granules | None = None
    line: LineSettings | None = None
    link: RecordingLink | None = None
    elapsed_s: float = 0.0
