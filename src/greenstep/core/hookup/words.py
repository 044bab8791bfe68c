"""The effect of a waveform, in words."""

from __future__ import annotations

from .waveform import Pulse, Waveform


def sampling_words(pulse: Pulse, drawn: Waveform) -> str:
    """What the chip reads at its boot pin when reset has risen."""
    boot = drawn.lane("boot")
    if boot is None or pulse.sampled_s is None or pulse.boot_selected is None:
        return "reset has risen: the chip starts"
    chosen = "bootloader" if pulse.boot_selected else "application"
    return f"boot pin read: {boot.at(pulse.sampled_s):.1f} V, {chosen}"
