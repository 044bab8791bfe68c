"""Verify was equal, and the application did not send the text that proves it runs."""

from __future__ import annotations

import re

from ..errors import Finding
from ..quantities import show_heard
from .hearing import is_text
from .line_rules import rom_text
from .observations import Observations
from .rate_rules import garbage

_ENOUGH_TEXT = 12


def _talk(seen: Observations) -> bytes:
    """What the program said: where the ROM prints first, at a rate of its own, what follows that."""
    heard = seen.heard.after
    if not seen.rom_speaks or is_text(heard, seen.after_settings.frame):
        return heard
    tail = re.search(rb"[\t\n\r -~]*\Z", heard)
    return tail[0] if tail is not None and len(tail[0]) >= _ENOUGH_TEXT else heard


def other_text(seen: Observations) -> Finding | None:
    heard = _talk(seen)
    if seen.phase != "start" or not seen.expected_text or not is_text(heard, seen.after_settings.frame):
        return None
    return Finding(
        "other-text",
        f'the application talks, and did not say "{seen.expected_text}"',
        (f"heard {show_heard(heard)}",),
        ("is expect the text of this version?", "does the text come later? --expect-within gives it longer"),
    )


def console_rate(seen: Observations) -> Finding | None:
    return garbage(seen) if seen.phase == "start" else None


def silent_application(seen: Observations) -> Finding | None:
    if seen.phase != "start" or not seen.expected_text:
        return None
    tries = ["does the application print at this rate, on this UART? greenstep listen --find-baud"]
    if seen.boot_pin:
        tries.insert(0, "is the boot pin still set? put it back to run, and press reset")
    tries[:0] = [f"it was written anyway: {doubt}" for doubt in seen.doubts]
    return Finding(
        "silent-application",
        f'nothing heard after the start; "{seen.expected_text}" was expected',
        (f"listened at {seen.after_settings}",),
        (*tries, "does it need longer? --expect-within"),
        "likely",
    )


START_RULES = (rom_text, other_text, console_rate, silent_application)
