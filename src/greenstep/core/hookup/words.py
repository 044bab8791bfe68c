"""The effect of a sequence, in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .circuits import Hookup
from .sequence import Sequence
from .waveform import Electrics, Pulse, Waveform, draw_waveform

if TYPE_CHECKING:
    from ..chips import Part


def sampling_words(pulse: Pulse, drawn: Waveform) -> str:
    """What the chip reads at its boot pin when reset has risen."""
    boot = drawn.lane("boot")
    if boot is None or pulse.sampled_s is None or pulse.boot_selected is None:
        return "reset has risen: the chip starts"
    chosen = "bootloader" if pulse.boot_selected else "application"
    return f"boot pin read: {boot.at(pulse.sampled_s):.1f} V, {chosen}"


def meter_words(hookup: Hookup, sequence: Sequence, part: Part) -> list[str]:
    """What a meter should show where, after a sequence; a line each."""
    drawn = draw_waveform(hookup, sequence, Electrics.usual(hookup, part.wires.volts), part.boot_level)
    last = drawn.moves[-1] if drawn.moves else None
    dtr, rts = (last.dtr, last.rts) if last else hookup.idle_lines
    lines = [
        f"{name:<6} {'asserted: 0 V' if asserted else 'released: the supply'} at the adapter's pin"
        for name, asserted in (("DTR", dtr), ("RTS", rts))
    ]
    for lane in drawn.lanes[2:]:
        through = hookup.reset is not None and hookup.reset.through == "capacitor" and lane.name == "reset"
        words = "back at the supply: a capacitor passes edges only" if through else f"{lane.at(drawn.end_s):.1f} V"
        lines.append(f"{lane.name:<6} {words}" + ("" if through else f" with {drawn.volts:g} V supply"))
    return lines
