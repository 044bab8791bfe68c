"""A board: its settings, and what follows from them. A simulated board needs no describing: the bench knows what was
not given."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

from greenstep.core.chips.catalogue import Catalogue, Choice, UnknownChip
from greenstep.core.errors import usage
from greenstep.core.frozen import frozen
from greenstep.core.plan.write_options import CompareWith
from greenstep.store.board import FASTEST, BoardSettings, PortChoice, TalkEntry

if TYPE_CHECKING:
    from greenstep.core.chips.part import ByHandWords
    from greenstep.core.dialects.dialect import Dialect
    from greenstep.core.hookup.circuits import Hookup
    from greenstep.core.link import Frame, LineSettings


def with_bench_board(settings: BoardSettings) -> BoardSettings:
    """The settings, completed by what the board at a port `bench:…` is. Raises UsageFault."""
    from greenstep.bench.address import parse_address

    address = parse_address(settings.port.name if settings.port else "")
    board = address.board
    if not address.is_known:
        return settings
    if settings.chip is not None and _dialect_of(settings.chip) != _dialect_of(board.chip):
        return settings  # another chip was declared: nothing is known here about that one
    known = BoardSettings(
        chip=board.chip,
        dialect=board.dialect or None,
        baud=board.baud,
        hookup=board.circuit.hookup,
        console_baud=board.console,
        set={name: _as_written(value) for name, value in board.settings} or None,
    )
    return settings.over(known)


def _dialect_of(chip: str) -> str:
    from greenstep.core.chips.catalogue import Catalogue, UnknownChip

    try:
        return Catalogue.load().find(chip).dialect
    except UnknownChip:
        return ""


def _as_written(value: Any) -> Any:
    """A setting of the board, as it is read from a project file."""
    if isinstance(value, tuple):
        return tuple(TalkEntry(turn.expect, turn.within_s, turn.send) for turn in value)
    return value


@frozen
class Board:
    """`name` is its own in the project file; empty if only options describe it. What follows from `settings` is
    computed when it is first needed, and raises UsageFault if it makes no sense."""

    name: str
    settings: BoardSettings

    @cached_property
    def choice(self) -> Choice:
        """The parts it may be."""
        if not self.settings.chip:
            raise usage("no-chip", "which chip?", "--chip NAME, such as --chip atmega328p or --chip stm32f103c8")
        try:
            choice = Catalogue.load().find(self.settings.chip)
        except UnknownChip as unknown:
            near = "greenstep chips lists them, and searches"
            if unknown.nearest:
                near = f"did you mean {' or '.join(unknown.nearest)}?"
            raise usage("unknown-chip", f"no chip is called '{self.settings.chip}'", near) from None
        return choice.speaking(self.settings.dialect) if self.settings.dialect else choice

    @cached_property
    def dialect(self) -> type[Dialect]:
        from greenstep.core.dialects.registry import find_dialect

        return find_dialect(self.settings.dialect or self.choice.dialect)

    @property
    def title(self) -> str:
        """Its own name, else its chip's."""
        return self.name or self.choice.title

    @property
    def baud(self) -> int:
        """The rate of its bootloader; the safe one, if the highest is to be found."""
        return self.settings.rate or self.choice.first.baud

    @property
    def fastest(self) -> bool:
        """Whether the highest rate is to be found that both ends carry."""
        return self.settings.baud == FASTEST

    @property
    def frame(self) -> Frame:
        return self.dialect.frame if self.settings.frame is None else frame_of(self.settings.frame)

    @property
    def line(self) -> LineSettings:
        """Rate and frame of its bootloader."""
        from greenstep.core.link import LineSettings

        return LineSettings(self.baud, self.frame)

    @cached_property
    def hookup(self) -> Hookup:
        from greenstep.core.hookup.circuits import entered_by, hookup_from_table, named_hookup, with_sequences

        part = self.choice.first
        wanted = self.settings.hookup or part.hookup
        hookup = (
            named_hookup(wanted, part.boot_level)
            if isinstance(wanted, str)
            else hookup_from_table(wanted, part.boot_level)
        )
        if hookup.crossed and part.boot_level == "high":
            raise usage(
                "hookup",
                f"a cross pair only pulls low, and this chip's {part.wires.boot or 'boot pin'} must be high",
                "dtr-reset-rts-boot or rts-reset-dtr-boot: the other line to the boot pin, by wire",
                "or dtr-reset-only or rts-reset-only, and the boot pin by hand",
            )
        hookup = entered_by(hookup, self.dialect.spec.asking.entering)
        return with_sequences(hookup, self.settings.enter, self.settings.leave)

    @property
    def hands(self) -> ByHandWords:
        """What a person does where no line does it: the board's own way, or its chip's."""
        usual, own = self.choice.hands, self.settings.by_hand or {}
        return replace(usual, enter=own.get("load", usual.enter), leave=own.get("run", usual.leave))

    @property
    def hookup_name(self) -> str:
        """The hookup's name, for callers to which its moves do not matter."""
        from greenstep.core.hookup.circuits import NAMED

        wanted = self.settings.hookup or self.choice.first.hookup
        if isinstance(wanted, str) and wanted in NAMED and not (self.settings.enter or self.settings.leave):
            return wanted
        return self.hookup.name

    @property
    def without_port(self) -> Board:
        """The same board when no port is going to be opened."""
        return self.at_port(NO_PORT)

    def without_journal(self) -> Board:
        """The same board, whose chip is believed and no record of it."""
        wanted = (
            self.settings.compare if self.settings.compare == CompareWith.OFF.value else CompareWith.NO_JOURNAL.value
        )
        return Board(self.name, replace(self.settings, compare=wanted))

    def at_port(self, name: str) -> Board:
        """The same board at another port."""
        return Board(self.name, replace(self.settings, port=PortChoice(name=name)))


NO_PORT = "-"
"""As a port's name: none is going to be opened."""


def frame_of(text: str | None) -> Frame:
    """A frame as written; 8N1 if none is. Raises UsageFault."""
    from greenstep.core.link import Frame

    try:
        return Frame() if text is None else Frame.parse(text)
    except ValueError as error:
        raise usage("frame", str(error)) from None
