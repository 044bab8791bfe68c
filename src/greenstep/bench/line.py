"""The line between a host's adapter and a simulated chip, with every delay of a real one."""

from __future__ import annotations

import math
import random
from collections import deque
from dataclasses import replace

from greenstep.core.link import LineErrors, LineSettings

from .chip import DAMAGED, Inbound, SimulatedChip
from .circuits import Circuit, PinChange
from .faults import Faults
from .wire import received, same_language

_NEVER = 1 << 60
_SINGLE = [bytes([value]) for value in range(256)]
SHARE_LATE = 0.125
"""The share of answers that are late, if some are."""


# Why a virtual clock
# -------------------
# An upload takes seconds on a real line, and most of what can go wrong is about time: a loader that gives up,
# an answer that is late, a reset that comes 20 ms too early. With a real clock such tests are slow, and they
# are false as well: on a busy machine everything is late, and late looks like lost.
#
# So nobody here reads a clock. Every call names its time, and the line lets everything happen that is due
# until then, in order: characters arriving at the chip, the chip's own waiting and working, pins moving,
# characters arriving at the host. A host that reads with a time-out does not wait; `settle` moves time to
# whatever comes first, the characters or the time-out. A whole upload is some thousand such events and takes
# milliseconds, and its duration is exact: the benchmarks compare it with the least time that the line needs.
#
# Characters have length here, which is what makes rates real: each is complete only `settings.seconds(1)`
# after it began, a chip that listens at another rate hears other bits (`wire.py`), and a host that changes
# its rate in the middle of an answer hears the rest at the new one (`_hear_the_rest`). What a chip sends has
# left it at some moment and reaches the host later; only the second is delayed by `turnaround_s` and by
# lateness, and nothing overtakes anything.
#
# The same chips serve real ports: `bench/server.py` calls with the time of the machine instead.
class SimulatedLine:
    """Driven from outside: every call names its time, which must not run backwards.

    `turnaround_s` is the delay between a character on the wire and the host receiving it (USB frames, a bridge's
    latency timer). `frames_count` is False for a pty, which knows bytes and no parity. What is late keeps its order:
    nothing overtakes it.
    """

    def __init__(
        self, chip: SimulatedChip, circuit: Circuit, faults: Faults | None = None, turnaround_s: float = 0.001
    ) -> None:
        self.chip = chip
        self.circuit = circuit
        self.faults = faults or Faults()
        self.turnaround_s = turnaround_s
        self.settings = LineSettings(115200)
        self.errors = LineErrors()
        self.lines = (False, False)
        self.frames_count = True
        self.boot_selected = False
        self.to_chip_count = 0
        self.to_host_count = 0
        self._inbound: Inbound = deque()
        self._outbound: deque[tuple[float, int, float]] = deque()
        """(when it reaches the host, value, when it was complete on the wire)"""
        self._pins: deque[PinChange] = deque()
        self._host_free_s = 0.0
        self._chip_free_s = 0.0
        self._speaking: deque[tuple[float, bytes, LineSettings]] = deque(maxlen=64)
        self._alike: tuple[LineSettings, LineSettings, bool] | None = None
        self._asked = False
        """Whether the chip has heard anything since it last sent: what it sends next is a new answer."""
        self._late_s = 0.0
        self._held_until_s = 0.0
        self._dice = random.Random(self.faults.seed)

    def power_on(self, at_s: float) -> None:
        """The chip starts, with the boot pin as it is."""
        if not self.faults.dead:
            self.chip.release_reset(at_s, self.boot_selected and not self.faults.no_boot)
            self._collect()

    # --- the host's side

    def write(self, at_s: float, data: bytes) -> None:
        """The host's UART begins to send as soon as it is free."""
        self.advance(at_s)
        character_s = self.settings.seconds(1)
        end_s = max(at_s, self._host_free_s)
        for value in data:
            end_s += character_s
            self._inbound.append((end_s, value, self.settings))
        self._host_free_s = end_s

    @property
    def written_by(self) -> float:
        """When the last bit that the host wrote has left."""
        return self._host_free_s

    def configure(self, at_s: float, settings: LineSettings) -> None:
        self.advance(at_s)
        changed, self.settings = settings != self.settings, settings
        if changed:
            self._hear_the_rest(at_s)

    def set_lines(self, at_s: float, dtr: bool, rts: bool) -> None:
        self.advance(at_s)
        before, self.lines = self.lines, (dtr, rts)
        if before != self.lines:
            self.change_pins(self.circuit.moved(at_s, before, self.lines))
            self.advance(at_s)

    def set_break(self, at_s: float, on: bool) -> None:
        """Hold the chip's RX low, or release it."""
        self.advance(at_s)
        self.chip.break_held = on

    def hang_up(self, at_s: float) -> bool:
        """The host closes the port. Returns True if the board disappears and comes back."""
        self.advance(at_s)
        gone = self.chip.hung_up(at_s, self.settings.baud, self.lines[0])
        self._collect()
        return gone or self.chip.leaving

    def change_pins(self, changes: list[PinChange]) -> None:
        """What the circuit (or a hand) is going to do to the pins; changes still pending are dropped."""
        if changes:
            self._pins = deque(changes)

    @property
    def pins_will_change(self) -> bool:
        """Whether moves are pending."""
        return bool(self._pins)

    def take(self, at_s: float, most: int) -> bytes:
        """Characters that have reached the host."""
        self.advance(at_s)
        return self.take_settled(at_s, most)

    def take_settled(self, at_s: float, most: int) -> bytes:
        """The same after `settle`, when everything has happened already."""
        outbound = self._outbound
        if not outbound or outbound[0][0] > at_s:
            return b""
        if most == 1:
            return _SINGLE[outbound.popleft()[1]]
        taken = bytearray()
        while outbound and len(taken) < most and outbound[0][0] <= at_s:
            taken.append(outbound.popleft()[1])
        return bytes(taken)

    def settle(self, at_s: float, deadline_s: float, size: int) -> float:
        """Let time pass from `at_s` until `size` characters have reached the host, but not past the deadline. Returns
        the time it is then."""
        return max(at_s, self._run(deadline_s, size))

    @property
    def backlog(self) -> int:
        """Characters on their way to the chip."""
        return len(self._inbound)

    @property
    def at_rest(self) -> bool:
        """Whether nothing is pending, and the chip waits for a character."""
        return not self._inbound and not self._outbound and self.chip.listens

    @property
    def next_look(self) -> float | None:
        """When a real-time server has to look at the line next: characters on their way to the chip are delivered
        together, with the last of them, which saves a wake-up for each. None if nothing will happen."""
        times = [self._outbound[0][0]] if self._outbound else []
        if self._inbound:
            times.append(self._inbound[-1][0])
        if (following := self._next_by_itself) is not None:
            times.append(following)
        return min(times, default=None)

    @property
    def next_change(self) -> float | None:
        """When something happens next to the chip; None if nothing will."""
        times = [self._inbound[0][0]] if self._inbound else []
        if (following := self._next_by_itself) is not None:
            times.append(following)
        return min(times, default=None)

    @property
    def _next_by_itself(self) -> float | None:
        times = [self._pins[0].at_s] if self._pins else []
        if self.chip.wakes_at is not None:
            times.append(self.chip.wakes_at)
        return min(times, default=None)

    # --- time

    def advance(self, to_s: float) -> None:
        """Let everything happen that is due up to `to_s`, in order."""
        self._run(to_s, _NEVER)

    def _run(self, to_s: float, size: int) -> float:
        """The same, but only until so many characters have reached the host. Returns the time reached."""
        chip, inbound = self.chip, self._inbound
        limit_s = self._ready(size, to_s)
        while True:
            wake_s = chip.wakes_at
            pins = self._pins
            pin_s = pins[0].at_s if pins else math.inf
            character_s = inbound[0][0] if inbound else math.inf
            if wake_s is not None and wake_s <= limit_s and wake_s <= pin_s and wake_s <= character_s:
                chip.advance(wake_s)
            elif pin_s <= limit_s and pin_s <= character_s:
                self._apply(pins.popleft())
                limit_s = self._ready(size, to_s)
            elif character_s <= limit_s:
                if self.faults.spare_what_is_sent:
                    self._deliver_all(limit_s, pin_s)
                else:
                    self._deliver(*inbound.popleft())
                if self.faults.echo:
                    limit_s = self._ready(size, to_s)
            else:
                return limit_s
            if chip.sent:
                self._collect()
                limit_s = self._ready(size, to_s)

    def _ready(self, size: int, latest_s: float) -> float:
        """When so many characters have reached the host; `latest_s` if that is later, or not known yet."""
        if len(self._outbound) < size:
            return latest_s
        return min(latest_s, self._outbound[size - 1][0])

    def _apply(self, change: PinChange) -> None:
        moved, self.boot_selected = change.boot_selected != self.boot_selected, change.boot_selected
        if self.faults.dead:
            return
        if moved:
            self.chip.boot_pin_moved(change.boot_selected)
        if change.reset_held and not self.chip.in_reset:
            self.chip.hold_reset(change.at_s)
            self._fall_silent(change.at_s)
        elif not change.reset_held and self.chip.in_reset:
            self.chip.release_reset(change.at_s, change.boot_selected and not self.faults.no_boot)

    def _deliver(self, at_s: float, value: int, sent: LineSettings) -> None:
        faults = self.faults
        number, self.to_chip_count = self.to_chip_count, self.to_chip_count + 1
        if faults.echo:
            self._outbound.append((at_s + self.turnaround_s, value, at_s))
            return
        if faults.dead:
            return
        if number == faults.restart_after or (faults.restart_every and number and not number % faults.restart_every):
            self.chip.brown_out(at_s)
            return
        if number == faults.cut_after:
            faults.dead = True
            self.chip.hold_reset(at_s)
            self._fall_silent(at_s)
            return
        self._asked = True
        value = self._through_noise(value, sent)
        if faults.hurts_to_chip:
            for arrived in faults.to_chip(number, value):
                self._hand_over(at_s, arrived, sent)
        else:
            self._hand_over(at_s, value, sent)

    def _through_noise(self, value: int, settings: LineSettings) -> int:
        """A character after the wire: rarely with other bits, which parity does not show."""
        share = self.faults.damaged_share(settings.baud)
        return value ^ self._dice.randrange(1, 256) if share and self._dice.random() < share else value

    def _deliver_all(self, to_s: float, before_s: float) -> None:
        """`_deliver` for unaffected characters, one after the other until something else is due."""
        chip, inbound = self.chip, self._inbound
        self._asked = True
        while True:
            at_s, value, sent = inbound.popleft()
            self.to_chip_count += 1
            if chip.in_reset:
                pass
            elif chip.hear_raw(value, sent) or self._understood(sent, chip.settings):
                chip.receive(at_s, value)
                if chip.gathers:
                    self.to_chip_count += chip.receive_run(inbound, sent, to_s, before_s)
            else:
                self._hand_over(at_s, value, sent)
            if chip.sent or not inbound:
                return
            next_s, wake_s = inbound[0][0], chip.wakes_at
            if next_s > to_s or next_s >= before_s or (wake_s is not None and wake_s <= next_s):
                return

    def _hand_over(self, at_s: float, value: int, sent: LineSettings) -> None:
        chip = self.chip
        if chip.in_reset:
            return
        if chip.hear_raw(value, self._as_the_chip_hears(sent)):
            chip.receive(at_s, value)
            return
        hearing = self._real(chip.settings)
        if self._understood(sent, hearing):
            chip.receive(at_s, value)
            return
        for _, heard, flaw in received(bytes([value]), sent, hearing):
            chip.receive(at_s, DAMAGED if flaw else heard)

    def _real(self, settings: LineSettings) -> LineSettings:
        """The rate that the chip's clock makes of the intended one."""
        clock = self.faults.clock
        return settings if clock == 1.0 else replace(settings, baud=round(settings.baud * clock))

    def _understood(self, sent: LineSettings, hearing: LineSettings) -> bool:
        if sent is hearing:
            return True
        alike = self._alike  # the same two rates are compared for every character
        if alike is not None and alike[0] is sent and alike[1] is hearing:
            return alike[2]
        shown = hearing if self.frames_count else replace(hearing, frame=sent.frame)
        verdict = same_language(sent, shown)
        self._alike = sent, hearing, verdict
        return verdict

    def _as_the_chip_hears(self, sent: LineSettings) -> LineSettings:
        clock = self.faults.clock
        return sent if clock == 1.0 else replace(sent, baud=round(sent.baud / clock))

    def _collect(self) -> None:
        """Put what the chip sent on the wire."""
        if self._asked:
            self._asked, self._late_s = False, self._lateness()
        for at_s, data, meant in self.chip.sent:
            settings = self._real(meant)
            begin_s = max(at_s, self._chip_free_s)
            self._chip_free_s = begin_s + settings.seconds(len(data))
            if self.faults.echo:
                continue
            self._speaking.append((begin_s, data, settings))
            self._be_heard(begin_s, data, settings)
        self.chip.sent.clear()

    def _lateness(self) -> float:
        """How late the answer that begins now will be, in s."""
        faults = self.faults
        late_ms = faults.late
        if faults.late_some and self._dice.random() < SHARE_LATE:
            late_ms += self._dice.uniform(0, faults.late_some)
        return late_ms / 1000

    def _be_heard(self, begin_s: float, data: bytes, settings: LineSettings) -> None:
        """What the host's receiver makes of characters that begin at a given time."""
        if self._understood(settings, self.settings):
            character_s = settings.seconds(1)
            first_s = begin_s + character_s + self.turnaround_s + self._late_s
            if first_s >= self._held_until_s and not self.faults.hurts_to_host and not self.faults.late_once:
                self._arrive_whole(begin_s, data, character_s)
                return
            for index, value in enumerate(data, 1):
                self._arrive(begin_s + index * character_s, value)
            return
        for offset_s, value, flaw in received(data, settings, self.settings):
            if flaw:
                self.errors = replace(self.errors, **{flaw: getattr(self.errors, flaw) + 1})
            self._arrive(begin_s + offset_s, value)

    def _hear_the_rest(self, at_s: float) -> None:
        """The host changed its rate while characters were on their way: from the next one on they are heard at
        that."""
        speaking = [
            (begin, data, meant) for begin, data, meant in self._speaking if begin + meant.seconds(len(data)) > at_s
        ]
        if not speaking:
            return
        self._forget_after(at_s)
        for begin_s, data, meant in speaking:
            character_s = meant.seconds(1)
            gone = max(0, math.ceil((at_s - begin_s) / character_s))
            if data[gone:]:
                self._be_heard(begin_s + gone * character_s, data[gone:], meant)

    def _fall_silent(self, at_s: float) -> None:
        """Reset stops the chip's transmitter in the middle of a character."""
        self._forget_after(at_s)
        self._speaking.clear()
        self._chip_free_s = at_s

    def _forget_after(self, at_s: float) -> None:
        """Characters not complete on the wire by then never arrive; the others do, however late."""
        self._outbound = deque(item for item in self._outbound if item[2] <= at_s)

    def _arrive_whole(self, begin_s: float, data: bytes, character_s: float) -> None:
        """The same as `_arrive` for unaffected characters."""
        self.to_host_count += len(data)
        later_s = self.turnaround_s + self._late_s
        ends = [begin_s + index * character_s for index in range(1, len(data) + 1)]
        self._outbound.extend((end_s + later_s, value, end_s) for end_s, value in zip(ends, data, strict=True))
        if data:
            self._held_until_s = ends[-1] + later_s

    def _arrive(self, at_s: float, value: int) -> None:
        number, self.to_host_count = self.to_host_count, self.to_host_count + 1
        faults = self.faults
        due_s = at_s + self.turnaround_s + self._late_s
        if number in faults.late_once:
            due_s += faults.late_once[number] / 1000
        self._held_until_s = due_s = max(due_s, self._held_until_s)
        if not faults.hurts_to_host:
            self._outbound.append((due_s, value, at_s))
            return
        for arrived in faults.to_host(number, self._through_noise(value, self.settings)):
            self._outbound.append((due_s, arrived, at_s))
