"""A simulated chip: a program that waits for characters, spends time and sends, driven by the line's clock.

The program is a generator. It yields `Take` to wait for a character and `Spend` while it is busy and does not listen;
`self.send` puts characters on its TX. It is sent a character's value, DAMAGED for one with wrong parity or stop bit,
or TIMED_OUT. `yield from self.several(...)` waits for many, between which it does nothing. Every breach of the
document is noted in `violations`. While `keeps_early` is set, characters for a busy chip wait in its UART as far as
that can hold them; else they are lost.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections import deque
from collections.abc import Generator
from typing import ClassVar

from greenstep.core.frozen import frozen
from greenstep.core.link import LineSettings

from .faults import Faults

DAMAGED = -1
TIMED_OUT = -2


@frozen
class Take:
    """Wait for a character, for `longest_s` or without limit."""

    longest_s: float | None = None


@frozen
class TakeMany:
    """Wait for so many characters, for each this long, or until one of `stops` has come."""

    number: int
    longest_s: float | None
    stops: frozenset[int]


@frozen
class Spend:
    """Be busy. Anything that arrives meanwhile is lost."""

    seconds: float


Wish = Take | TakeMany | Spend
Program = Generator[Wish, int, None]
Inbound = deque[tuple[float, int, LineSettings]]
"""Characters on their way to the chip: when each is complete, its value, and how it was sent."""


# Why chips are generators, and stricter than silicon
# ---------------------------------------------------
# A boot ROM is a loop that waits for a character, does something for a while, and answers. Written as a
# generator it reads like the document: `value = yield Take(0.5)` is "wait for a character, at most half a
# second". There is no table of states to get wrong, and time passes only where the program says so.
#
# No simulated chip imports a dialect, not even for a constant: what both took from one place would be wrong
# in both, and every test would agree. A test holds that. Where the document leaves something open, the chip
# has a setting for either kind of silicon. Where real chips are lenient - a write across a page, a command
# while busy - these note a violation: some member of the family is not lenient, and it is not on anybody's
# desk.
class SimulatedChip(ABC):
    """One chip. Times are the line's clock, in seconds."""

    settings: LineSettings
    base = 0
    """The address of the first byte of `flash`."""
    flash: bytearray
    faults: Faults
    top_baud: ClassVar[int | None] = None
    """The highest rate that its loader follows unless a fault says otherwise; None for no limit."""
    lasting_marks: ClassVar[tuple[str, ...]] = ()
    """Attributes besides the memories that survive without power: locks, and the like."""
    tells_size = True
    """Whether it shows how large its flash is, where chips of its kind do."""
    copy = 0
    """Which of several boards of one kind it is: chips with a number of their own report a different one for each."""

    def __init__(self) -> None:
        self.now = 0.0
        self.sent: list[tuple[float, bytes, LineSettings]] = []
        self.violations: list[str] = []
        self.in_reset = False
        self.break_held = False
        self.leaving = False
        """Whether it is about to leave the USB."""
        self._program: Program | None = None
        self._next_program: Program | None = None
        self._listening = False
        self._until: float | None = None
        self.keeps_early = False
        self._early: list[int] = []
        self._many: TakeMany | None = None
        self._gathered: list[int] = []

    @property
    def memories(self) -> tuple[str, ...]:
        """The attributes that hold bytes, and keep them without power."""
        return tuple(name for name in ("flash", "eeprom") if hasattr(self, name))

    # --- what a kind of chip defines

    @abstractmethod
    def boot(self, boot_selected: bool) -> Program:
        """The program that runs after reset."""

    def follows(self, baud: int) -> bool:
        """Whether its loader can measure a rate, or go to it if told."""
        limit = self.faults.chip_limit or self.top_baud
        return baud >= 1200 and (limit is None or baud <= limit)

    def hear_raw(self, value: int, sent: LineSettings) -> bool:
        """A chance to take a character whatever its rate, as auto-baud does. Returns True if it was taken."""
        return False

    # --- what a program uses

    def send(self, data: bytes) -> None:
        """Put characters on TX as soon as it is free."""
        self.sent.append((self.now, data, self.settings))

    def several(
        self, number: int, longest_s: float | None = None, stops: frozenset[int] = frozenset()
    ) -> Generator[Wish, int, list[int]]:
        """That many characters; fewer if one of `stops` ended them, or nothing came for `longest_s`."""
        if number > 0:
            yield TakeMany(number, longest_s, stops)
        gathered, self._gathered = self._gathered, []
        return gathered

    def violation(self, text: str) -> None:
        self.violations.append(f"{self.now:.6f} s: {text}")

    # --- what the line does

    def hold_reset(self, at_s: float) -> None:
        self.advance(at_s)
        self.now = at_s
        self.in_reset = True
        self._program = None
        self._listening, self._until = False, None
        self._early = []
        self._many, self._gathered = None, []

    def release_reset(self, at_s: float, boot_selected: bool) -> None:
        self.now = at_s
        self.in_reset = False
        self._begin(self.boot(boot_selected))

    def boot_pin_moved(self, selected: bool) -> None:  # noqa: B027  (most look at it only when reset is released)
        """The boot pin has got another level; before reset is held or released by the same move."""

    def hung_up(self, at_s: float, baud: int, dtr: bool) -> bool:
        """The host closed the port, which was set to `baud`. Returns True if the board leaves the USB for a while."""
        return False

    def brown_out(self, at_s: float) -> None:
        """A reset that no pin caused."""
        self.hold_reset(at_s)
        self.release_reset(at_s, False)

    def run_from(self, at_s: float, program: Program) -> None:
        """Run `program` from now on, as after a reset that no pin caused."""
        self.hold_reset(at_s)
        self.now = at_s
        self.in_reset = False
        self._begin(program)

    def put(self, address: int, data: bytes, onto_blank: bool = True) -> None:
        """Program the flash, with the effects of the faults. Where it must be blank, bits are only cleared, and
        anything not blank is noted."""
        if self.faults.dead_write:
            return
        at = address - self.base
        old = bytes(self.flash[at : at + len(data)])
        if onto_blank and old.strip(b"\xff") and old != data:
            self.violation(f"write to {address:05X}, which is not blank")
        kept = (int.from_bytes(old, "big") & int.from_bytes(data, "big")).to_bytes(len(data), "big")
        self.flash[at : at + len(data)] = kept if onto_blank else data
        for worn in self.faults.worn:
            if address <= worn < address + len(data):
                self.flash[worn - self.base] ^= 0x10

    def restart(self, program: Program) -> None:
        """Stop the running program and run `program`, as after a reset from within. Called by a program as its last
        act."""
        self._next_program = program

    def _begin(self, program: Program) -> None:
        self._program = program
        self._next_program = None
        self._resume(None)

    @property
    def wakes_at(self) -> float | None:
        """When the program continues without a character; None if it waits for one."""
        return self._until

    @property
    def patience_ends(self) -> float | None:
        """When it continues without the character it waits for; None while it is busy, or waits without limit."""
        return self._until if self._listening else None

    def advance(self, to_s: float) -> None:
        """Let time pass."""
        while self._until is not None and self._until <= to_s:
            self.now = self._until
            listening = self._listening
            self._resume(TIMED_OUT if listening else 0)

    def receive(self, at_s: float, value: int) -> None:
        """A character, complete at `at_s`."""
        if self._until is not None and self._until <= at_s:
            self.advance(at_s)
        if at_s > self.now:
            self.now = at_s
        if self._program is None:
            return
        if not self._listening and self.keeps_early:
            self._early = [*self._early[:2], value]  # two in the buffer, the latest in the shift register
            return
        if not self._listening:
            self.violation(f"character {value:02X} while the chip was busy: lost")
            return
        if self._many is None:
            self._resume(value)
        else:
            self._gather(self._many, value)

    @property
    def listens(self) -> bool:
        """Whether it waits for a character."""
        return self._listening

    @property
    def gathers(self) -> bool:
        """Whether it waits for many characters, and can take them with `receive_run`."""
        return self._many is not None

    def receive_run(self, inbound: Inbound, sent: LineSettings, to_s: float, before_s: float) -> int:
        """Take characters that are complete by `to_s` and before `before_s`, as long as nothing else happens in
        between. Returns how many."""
        many, gathered, taken = self._many, self._gathered, 0
        assert many is not None
        number, longest_s, stops = many.number, many.longest_s, many.stops
        until_s = self._until
        while inbound:
            at_s, value, settings = inbound[0]
            if settings is not sent or at_s > to_s or at_s >= before_s or (until_s is not None and until_s <= at_s):
                break
            if len(gathered) + 1 >= number or value in stops:
                break  # the last one wakes the program
            inbound.popleft()
            gathered.append(value)
            taken += 1
            self.now = at_s
            if longest_s is not None:
                until_s = at_s + longest_s
        self._until = until_s
        return taken

    def _gather(self, many: TakeMany, value: int) -> None:
        self._gathered.append(value)
        if len(self._gathered) >= many.number or value in many.stops:
            self._resume(value)
        elif many.longest_s is not None:
            self._until = self.now + many.longest_s

    def _resume(self, value: int | None) -> None:
        assert self._program is not None
        self._many = None
        try:
            wish = next(self._program) if value is None else self._program.send(value)
        except StopIteration:
            following, self._next_program = self._next_program, None
            self._listening, self._until = False, None
            self._program = None
            if following is not None:
                self._begin(following)
            return
        if isinstance(wish, TakeMany):
            self._many = wish
            self._listening = True
            self._until = None if wish.longest_s is None else self.now + wish.longest_s
            while self._early and self._many is wish:
                self._gather(wish, self._early.pop(0))
        elif isinstance(wish, Take):
            if self._early:
                self._resume(self._early.pop(0))
                return
            self._listening = True
            self._until = None if wish.longest_s is None else self.now + wish.longest_s
        else:
            self._listening = False
            self._until = self.now + wish.seconds
