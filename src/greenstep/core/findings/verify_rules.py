"""What verify found, read from the pattern of the differences; and an application that was verified and did not send
the text that proves it runs."""

from __future__ import annotations

import re

from ..errors import Finding
from ..quantities import count, show_address, show_bytes, show_heard
from .line_rules import rom_text
from .observations import Difference, Observations
from .rate_rules import garbage
from .text_detection import is_text


def _where(difference: Difference) -> tuple[str, ...]:
    wrong = difference.wrong
    first = wrong[0]
    address = difference.first_address
    expected = difference.expected[first : first + 8]
    found = difference.found[first : first + 8]
    return (
        f"{count(len(wrong), 'byte')} of {len(difference.expected):,} compared differ, "
        f"the first at {show_address(address)}",
        f"expected {show_bytes(expected)}, found {show_bytes(found)}",
    )


def verify_differs(seen: Observations) -> Finding | None:
    if seen.difference is None or not seen.difference.wrong:
        return None
    difference = seen.difference
    evidence = _where(difference)
    for rule in _PATTERNS if difference.written else _LOOKING_ONLY:
        finding = rule(difference, evidence)
        if finding is not None:
            return finding
    if difference.emptied:
        tries = ("greenstep erase", "if it stays, the flash may be worn")
        return Finding("not-blank", "the chip is not blank there", evidence, tries, "certain")
    if not difference.written:
        return Finding(
            "other-image",
            "the chip holds another image" if len(difference.wrong) > 64 else "the chip holds almost this image",
            evidence,
            ("upload it", "is it the image you meant?"),
            "certain",
        )
    return Finding(
        "verify-differs",
        "the chip holds something other than the image",
        evidence,
        ("upload again", "if it stays, the flash may be worn, or a lower --baud may help"),
        "possible",
    )


def _unstable(d: Difference, evidence: tuple[str, ...]) -> Finding | None:
    if not d.reads_differ:
        return None
    return Finding(
        "unstable-read",
        "reading the same place twice gave two answers: the line is damaged, not the flash",
        evidence,
        ("verify again", "shorter wires, a lower --baud, and check ground"),
        "likely",
    )


_FEW = 8
"""Fewer wrong bytes are no block that was not written."""


def _last_block(d: Difference, evidence: tuple[str, ...]) -> Finding | None:
    if len(d.blocks) < 2:
        return None
    offset, size = d.blocks[-1]
    wrong = d.wrong
    if wrong[0] < offset or wrong[-1] >= offset + size or len(wrong) < _FEW:
        return None
    return Finding(
        "last-block",
        "only the last block differs: the end of the image was not written",
        evidence,
        ("upload again", "a bootloader that buffers pages may want the image filled up to a whole page"),
        "likely",
    )


def _not_written(d: Difference, evidence: tuple[str, ...]) -> Finding | None:
    if any(d.found[i] != d.erased for i in d.wrong):
        return None
    if not d.written:
        return Finding("blank", f"those places are blank ({d.erased:02X})", evidence, ("upload the image",))
    return Finding(
        "not-written",
        f"those places are still blank ({d.erased:02X}): they were erased, and not written",
        evidence,
        ("upload again", "is the region write-protected, or does the bootloader ignore this memory?"),
        "likely",
    )


def _no_effect(d: Difference, evidence: tuple[str, ...]) -> Finding | None:
    size = len(d.before)
    if not d.before.strip(bytes([d.erased])) or d.expected[:size] == d.before or d.found[:size] != d.before:
        return None
    return Finding(
        "no-effect",
        "the chip still holds what it held before: writing had no effect",
        evidence,
        ("is the flash write-protected?", "does this bootloader ignore this memory?"),
        "likely",
    )


def _shifted(d: Difference, evidence: tuple[str, ...]) -> Finding | None:
    if len(d.expected) < 32:
        return None
    first = d.wrong[0]
    span = min(64, len(d.expected) - first)
    if span < 16 or len(set(d.expected[first : first + span])) < 4:
        return None
    for shift in (*range(-8, 0), *range(1, 9)):
        low = first + max(0, -shift)
        window = min(span, len(d.found) - max(low, low + shift))
        if window < 16 or low + shift < 0:
            continue
        if d.found[low + shift : low + shift + window] == d.expected[low : low + window]:
            return Finding(
                "shifted",
                f"the data are {count(abs(shift), 'byte')} too {'high' if shift > 0 else 'low'}: bytes were "
                f"{'added' if shift > 0 else 'lost'} on the way",
                evidence,
                ("upload again at a lower --baud", "is the base address of the image right?"),
                "likely",
            )
    return None


def _not_erased(d: Difference, evidence: tuple[str, ...]) -> Finding | None:
    """Programming only moves bits away from the erased value; what was not erased has too many such bits."""
    erased_bits = 0xFF if d.erased else 0x00
    wrong = d.wrong
    if len(wrong) < 4:
        return None
    for i in wrong:
        programmed_found = d.found[i] ^ erased_bits
        programmed_wanted = d.expected[i] ^ erased_bits
        if programmed_wanted & ~programmed_found:
            return None
    return Finding(
        "not-erased",
        "bits were only moved away from blank: the place was not erased before",
        evidence,
        ("erase everything: --erase all", "is the chip or its flash size another than declared?"),
        "likely",
    )


def _worn(d: Difference, evidence: tuple[str, ...]) -> Finding | None:
    wrong = d.wrong
    if any((d.expected[i] ^ d.found[i]).bit_count() != 1 for i in wrong) or len(wrong) * 20 > len(d.expected):
        return None
    if len(wrong) == 1 and not d.guarded:
        return None
    return Finding(
        "worn-flash",
        "scattered single bits differ: worn flash, or a marginal supply",
        evidence,
        ("upload again; if the same places fail, the flash is worn out there", "measure the supply while it writes"),
        "likely",
    )


_PATTERNS = (_unstable, _no_effect, _not_written, _last_block, _shifted, _worn, _not_erased)
_LOOKING_ONLY = (_unstable, _not_written)

VERIFY_RULES = (verify_differs,)


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
