"""What a sequence does to the pins, in volts over time, and whether the chip takes it as intended.

The adapter's lines are 0 V when asserted and at the supply when released. A wire follows its line at once; the
transistors of a cross pair pull down at once and release into a pull-up with a capacitor; a capacitor in the line
passes edges only: V(t) = Vcc (1 - exp(-t / RC)) after an edge to low.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence as Many
from typing import Literal

from ..frozen import frozen
from .circuits import CROSS_FARAD, Hookup
from .drive import Driver
from .sequence import Sequence

LOW_SHARE, HIGH_SHARE = 0.25, 0.75
"""As shares of the supply: below the first a pin is surely low, above the second surely high (data sheets: 0.2-0.3,
0.7-0.75)."""

_DIODE_V = 0.6
_TWO_CALLS_S = 0.001
_SHORTEST_HOLD_S = 0.002
_TAIL_S = 0.03
_LEAD_S = 0.01


@frozen
class Electrics:
    """The parts around the pins: supply in V, pull-up of reset in ohm, capacitor from reset to ground and capacitor
    in the line in farad."""

    volts: float = 3.3
    pull_up_ohm: float = 10_000.0
    reset_farad: float = 0.0
    coupling_farad: float = 100e-9

    @classmethod
    def usual(cls, hookup: Hookup, volts: float) -> Electrics:
        """The values usually found with such a hookup: a cross pair has a capacitor at reset."""
        return cls(volts=volts, reset_farad=CROSS_FARAD[0] if hookup.crossed else 0.0)


@frozen
class Segment:
    """From `start_s` on, the voltage goes from `from_v` towards `to_v` with the time constant `tau_s` (0: at
    once)."""

    start_s: float
    from_v: float
    to_v: float
    tau_s: float = 0.0

    def at(self, time_s: float) -> float:
        if self.tau_s <= 0:
            return self.to_v
        return self.to_v + (self.from_v - self.to_v) * math.exp(-(time_s - self.start_s) / self.tau_s)

    def reaches(self, level_v: float, end_s: float) -> float | None:
        """When it passes `level_v` before `end_s`; None if it does not."""
        if (self.from_v - level_v) * (self.to_v - level_v) > 0 or self.from_v == level_v:
            return None
        if self.tau_s <= 0:
            return self.start_s
        if self.to_v == level_v:
            return None
        time_s = self.start_s + self.tau_s * math.log((self.from_v - self.to_v) / (level_v - self.to_v))
        return time_s if time_s < end_s else None


@frozen
class Lane:
    """One signal over time."""

    name: str
    stretches: tuple[Segment, ...]

    def at(self, time_s: float) -> float:
        """Volts at a time."""
        now = self.stretches[0]
        for stretch in self.stretches:
            if stretch.start_s > time_s:
                break
            now = stretch
        return now.at(time_s)

    def crossings(self, level_v: float, end_s: float) -> list[tuple[float, bool]]:
        """(time, rising) of each passing of `level_v`."""
        found = []
        for index, stretch in enumerate(self.stretches):
            following = self.stretches[index + 1].start_s if index + 1 < len(self.stretches) else end_s
            time_s = stretch.reaches(level_v, following if following > stretch.start_s else math.inf)
            if time_s is not None:
                found.append((time_s, stretch.to_v > level_v))
        return found


@frozen
class Pulse:
    """Reset low from `start_s` to `end_s` (None: still low at the end), and what the chip reads at its boot pin when
    reset has risen: selected or not, None if no line moves it."""

    start_s: float
    end_s: float | None
    sampled_s: float | None
    boot_selected: bool | None


@frozen
class LineMove:
    """From `at_s` on the lines are in this state; `text` is the move as written."""

    at_s: float
    dtr: bool
    rts: bool
    text: str


@frozen
class Waveform:
    """A whole sequence. `moves` are the lines' states in time order; `lanes` DTR, RTS and the pins they reach."""

    volts: float
    end_s: float
    moves: tuple[LineMove, ...]
    lanes: tuple[Lane, ...]
    pulses: tuple[Pulse, ...]

    def lane(self, name: str) -> Lane | None:
        return next((lane for lane in self.lanes if lane.name == name), None)


class _Paper:
    """Accepts a driver's moves and only records when they would happen."""

    def __init__(self, idle: tuple[bool, bool]) -> None:
        self.at_s = _LEAD_S
        self.states: list[tuple[float, bool, bool]] = [(0.0, *idle)]

    def sleep(self, seconds: float) -> None:
        self.at_s += seconds

    def set_lines(self, dtr: bool, rts: bool) -> None:
        self.states.append((self.at_s, dtr, rts))

    def set_break(self, on: bool) -> None:
        """TX is no pin of the boot circuit."""

    def reopen(self, baud: int | None) -> bool:
        """A board that disappears moves no pin that could be drawn."""
        return False


def draw_waveform(
    hookup: Hookup, sequence: Sequence, electrics: Electrics, boot_level: str, first: Literal["", "dtr", "rts"] = ""
) -> Waveform:
    """The voltages of a sequence from 10 ms before its first move. `boot_level` is the level at which the boot pin
    selects the bootloader. `first` names the line that changes 1 ms before the other, for systems that can only
    change one at a time."""
    paper = _Paper(hookup.idle_lines)
    Driver(paper, hookup).run(sequence)
    states = _in_two_calls(paper.states, first)
    end_s = paper.at_s + max(_TAIL_S, 6 * electrics.pull_up_ohm * electrics.reset_farad)
    lanes = [
        _line_lane("DTR", [(at, dtr) for at, dtr, _ in states], electrics.volts),
        _line_lane("RTS", [(at, rts) for at, _, rts in states], electrics.volts),
    ]
    reset = _reset_lane(hookup, states, electrics)
    boot = _boot_lane(hookup, states, electrics, boot_level)
    lanes += [lane for lane in (reset, boot) if lane is not None]
    pulses = _pulses(reset, boot, electrics.volts, boot_level, end_s) if reset else ()
    moves = tuple(
        LineMove(at, dtr, rts, f"DTR {_word(dtr)}, RTS {_word(rts)}")
        for (at, dtr, rts), before in zip(states[1:], states, strict=False)
        if (dtr, rts) != before[1:]
    )
    return Waveform(electrics.volts, end_s, moves, tuple(lanes), pulses)


def _word(asserted: bool) -> str:
    return "asserted" if asserted else "released"


def _in_two_calls(states: list[tuple[float, bool, bool]], first: str) -> list[tuple[float, bool, bool]]:
    if not first:
        return states
    out = [states[0]]
    for at, dtr, rts in states[1:]:
        _, was_dtr, was_rts = out[-1]
        if dtr != was_dtr and rts != was_rts:
            out.append((at, dtr, was_rts) if first == "dtr" else (at, was_dtr, rts))
            at += _TWO_CALLS_S
        out.append((at, dtr, rts))
    return out


def _line_lane(name: str, states: list[tuple[float, bool]], volts: float) -> Lane:
    levels = [(at, 0.0 if asserted else volts) for at, asserted in states]
    return Lane(name, _steps(levels))


def _steps(levels: Many[tuple[float, float]], tau_up_s: float = 0.0) -> tuple[Segment, ...]:
    """Stretches for levels that are reached at once or, upwards, with a time constant."""
    stretches = [Segment(levels[0][0], levels[0][1], levels[0][1])]
    for at, level in levels[1:]:
        before = stretches[-1]
        if level != before.to_v:
            tau = tau_up_s if level > before.to_v else 0.0
            stretches.append(Segment(at, before.at(at), level, tau))
    return tuple(stretches)


def _line(state: tuple[float, bool, bool], name: str) -> bool:
    return state[1] if name == "dtr" else state[2]


def _reset_lane(hookup: Hookup, states: list[tuple[float, bool, bool]], electrics: Electrics) -> Lane | None:
    role, boot = hookup.reset, hookup.boot
    if role is None:
        return None
    volts = electrics.volts
    if role.through == "capacitor":
        return Lane("reset", _through_capacitor([(s[0], _line(s, role.line)) for s in states], electrics))
    held = [_line(state, role.line) == role.asserted for state in states]
    if hookup.crossed and boot is not None:
        held = [low and not _line(state, boot.line) for low, state in zip(held, states, strict=True)]
    tau_s = electrics.pull_up_ohm * electrics.reset_farad
    levels = [(state[0], 0.0 if low else volts) for state, low in zip(states, held, strict=True)]
    return Lane("reset", _steps(levels, tau_s))


def _through_capacitor(states: list[tuple[float, bool]], electrics: Electrics) -> tuple[Segment, ...]:
    volts, tau_s = electrics.volts, electrics.pull_up_ohm * electrics.coupling_farad
    stretches = [Segment(0.0, volts, volts)]
    for (_, was), (at, asserted) in itertools.pairwise(states):
        if asserted != was:
            now_v = stretches[-1].at(at) + (-volts if asserted else volts)
            clamped_v = max(-_DIODE_V, min(volts + _DIODE_V, now_v))
            stretches += [Segment(at, stretches[-1].at(at), clamped_v), Segment(at, clamped_v, volts, tau_s)]
    return tuple(stretches)


def _boot_lane(
    hookup: Hookup, states: list[tuple[float, bool, bool]], electrics: Electrics, boot_level: str
) -> Lane | None:
    role, reset = hookup.boot, hookup.reset
    if role is None:
        return None
    selected = [_line(state, role.line) == role.asserted for state in states]
    if hookup.crossed and reset is not None:
        selected = [on and not _line(state, reset.line) for on, state in zip(selected, states, strict=True)]
    high = boot_level == "high"
    levels = [(state[0], electrics.volts if on == high else 0.0) for state, on in zip(states, selected, strict=True)]
    return Lane("boot", _steps(levels))


def _pulses(reset: Lane, boot: Lane | None, volts: float, boot_level: str, end_s: float) -> tuple[Pulse, ...]:
    pulses = []
    falls = [at for at, rising in reset.crossings(LOW_SHARE * volts, end_s) if not rising]
    leaves = [at for at, rising in reset.crossings(LOW_SHARE * volts, end_s) if rising]
    rises = [at for at, rising in reset.crossings(HIGH_SHARE * volts, end_s) if rising]
    for index, start in enumerate(falls):
        following = falls[index + 1] if index + 1 < len(falls) else math.inf
        end = next((at for at in leaves if start <= at < following), None)
        sampled = next((at for at in rises if start <= at < following), None)
        selected = None
        if boot is not None and sampled is not None:
            high = boot.at(sampled) > volts / 2
            selected = high == (boot_level == "high")
        pulses.append(Pulse(start, end, sampled, selected))
    return tuple(pulses)


def warnings(
    hookup: Hookup,
    sequence: Sequence,
    electrics: Electrics,
    boot_level: str,
    entering: bool,
    shortest_reset_s: float = 0.0,
) -> tuple[str, ...]:
    """Why the chip may not take the sequence as intended; empty if nothing speaks against it.

    `entering`: the boot pin should be selected when reset rises. `shortest_reset_s` is the shortest pulse that the
    chip's data sheet accepts as a reset.
    """
    if hookup.reset is None:
        return ()
    drawn = draw_waveform(hookup, sequence, electrics, boot_level)
    found = []
    if not drawn.pulses:
        found.append("reset is never pulled low: this sequence resets nothing")
    for pulse in drawn.pulses:
        if pulse.end_s is not None and pulse.end_s - pulse.start_s < shortest_reset_s:
            found.append(
                f"reset is low for {_time(pulse.end_s - pulse.start_s)}, and the chip needs "
                f"at least {_time(shortest_reset_s)}"
            )
    if drawn.pulses and drawn.pulses[-1].sampled_s is None:
        found.append("reset is still low at the end: the chip is held there")
    elif drawn.pulses:
        found += _about_boot(drawn, drawn.pulses[-1], entering, boot_level)
        found += _about_two_calls(hookup, sequence, electrics, boot_level, drawn)
    return tuple(found)


def _about_boot(drawn: Waveform, last: Pulse, entering: bool, boot_level: str) -> list[str]:
    boot = drawn.lane("boot")
    if boot is None or last.sampled_s is None or last.boot_selected is None:
        return []
    if last.boot_selected != entering:
        if not entering:
            return ["the boot pin still selects the bootloader when reset rises"]
        gone = [s.start_s for s in boot.stretches if last.start_s - 1 < s.start_s <= last.sampled_s]
        late = [s.start_s for s in boot.stretches if s.start_s > last.sampled_s]
        if late and (boot.at(late[0]) > drawn.volts / 2) == (boot_level == "high"):
            return [f"the boot pin is set {_time(late[0] - last.sampled_s)} after reset has risen: too late"]
        if gone and len(boot.stretches) > 1:
            return [f"the boot pin is released {_time(last.sampled_s - gone[-1])} before reset has risen: too early"]
        return ["the boot pin never selects the bootloader while reset rises"]
    let_go = next((s.start_s for s in boot.stretches if s.start_s > last.sampled_s), None)
    if entering and let_go is not None and let_go - last.sampled_s < _SHORTEST_HOLD_S:
        return [f"the boot pin is released only {_time(let_go - last.sampled_s)} after reset has risen"]
    return []


def _about_two_calls(
    hookup: Hookup, sequence: Sequence, electrics: Electrics, boot_level: str, whole: Waveform
) -> list[str]:
    """If a system changes DTR and RTS one after the other: does the state in between change what happens?"""
    orders: tuple[Literal["dtr", "rts"], ...] = ("dtr", "rts")
    for first in orders:
        split = draw_waveform(hookup, sequence, electrics, boot_level, first)
        if [p.boot_selected for p in split.pulses] != [p.boot_selected for p in whole.pulses]:
            return [
                f"where the system changes {first.upper()} before the other line, the state in between matters: "
                "the chip would see another boot pin level, or another reset"
            ]
    return []


def _time(seconds: float) -> str:
    if seconds < 0.001:
        return f"{seconds * 1e6:.3g} us"
    return f"{seconds * 1000:.3g} ms" if seconds < 1 else f"{seconds:.3g} s"
