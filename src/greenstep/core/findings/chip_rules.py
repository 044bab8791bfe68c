"""The chip answered and refused: another chip, locked, a refused address or command; or it fell silent."""

from __future__ import annotations

import re

from ..dialects.errors import RefusalKind
from ..errors import Finding
from ..quantities import count, show_address, show_heard
from .observations import Observations
from .text_detection import is_text


def other_chip(seen: Observations) -> Finding | None:
    if seen.chip is None:
        return None
    chip = seen.chip
    if chip.answered:
        cause = f"another chip than declared: {chip.answered} answered, {chip.declared} was expected"
        tries = (
            "is this the board you meant? greenstep ports shows what is plugged",
            "if it is, correct --chip; if it is a clone, accept it with --also-accept",
        )
    else:
        cause = f"an unknown chip answered where {chip.declared} was expected"
        tries = ("check --chip", "if you know that it is compatible, accept it with --also-accept")
    return Finding("other-chip", cause, (f"it said {chip.said}",), tries)


def locked(seen: Observations) -> Finding | None:
    """A locked chip refuses from the first command on; a chip that refuses later is not locked."""
    refusal = seen.refusal
    shown = seen.locked
    if refusal is not None and refusal.kind is RefusalKind.LOCKED and seen.untouched:
        shown = shown or f"{refusal.said} after '{refusal.command}'"
    if not shown:
        return None
    if not seen.unlocks:
        return Finding(
            "locked",
            "the chip is locked: it wants its password, or another one",
            (shown,),
            (
                "greenstep chips DIALECT shows the setting by which it is given",
                "upload without it, if that erases all",
            ),
        )
    return Finding(
        "locked",
        "the chip is locked: readout protection is on",
        (f"the chip said {shown}: a locked chip refuses the command itself",),
        ("greenstep unlock unlocks it and erases the whole flash: be sure that nothing there is needed",),
    )


def restarted(seen: Observations) -> Finding | None:
    """Text among the replies in the middle of the work: the chip reset itself."""
    if seen.phase not in ("erase", "write", "verify"):
        return None
    if (
        seen.refusal is not None and seen.refusal.kind is RefusalKind.BAD_DATA
    ):  # it refused before it reported anything else
        return None
    heard = ((seen.heard.after, seen.after_settings.frame), (seen.heard.answers, seen.settings.frame))
    text = next((data for data, frame in heard if is_text(data, frame)), None)
    if text is not None and seen.speaks_text and not re.search(rb"[a-z]{3}", text):
        return None
    if text is None:
        return None
    at = f" after {seen.progress.done:,} of {seen.progress.total:,} bytes" if seen.progress else ""
    evidence = (f"instead of a reply came {show_heard(text)}",)
    if seen.gives_up:
        return Finding(
            "restarted",
            f"the application started in the middle{at}: the chip was reset, or its bootloader gave up",
            evidence,
            (
                "upload again: after a byte is lost on the line a bootloader waits, and times out",
                "the supply may be too weak for writing flash: a better cable, or a supply of its own",
                "check ground, and try a lower --baud",
            ),
            "likely",
        )
    return Finding(
        "restarted",
        f"the chip reset itself in the middle{at}",
        evidence,
        (
            "the supply may be too weak for writing flash: a better cable, or a supply of its own",
            "is a line left asserted that resets it? check --hookup",
        ),
        "likely",
    )


def bad_address(seen: Observations) -> Finding | None:
    refusal = seen.refusal
    if refusal is None or refusal.kind is not RefusalKind.BAD_ADDRESS:
        return None
    where = show_address(refusal.address) if refusal.address is not None else "an address"
    return Finding(
        "bad-address",
        f"the chip refuses the address {where}",
        (f"{refusal.said} after the address of '{refusal.command}'",),
        ("is the image for a part with more flash, or for another memory?", "is --chip right?"),
        "likely",
    )


_OF_ITSELF = 8
"""How often a refused block is tried again at most: more repetitions have another cause."""


def refused_data(seen: Observations) -> Finding | None:
    refusal = seen.refusal
    if refusal is None:
        return None
    if refusal.kind is RefusalKind.BAD_DATA and seen.phase in ("erase", "write"):
        where = f" at {show_address(refusal.address)}" if refusal.address is not None else ""
        doing = "erase" if seen.phase == "erase" else "write"
        if seen.repeated > _OF_ITSELF:
            return Finding(
                "damaged-line",
                f"bytes are damaged on the line, and the chip refuses to {doing}{where}",
                (
                    f"{refusal.said} after the data of '{refusal.command}'",
                    f"{count(seen.repeated, 'question')} had to be repeated",
                ),
                (
                    "shorter wires, a lower --baud, and check ground",
                    "if nothing has to be repeated then, the sector may be write-protected",
                ),
                "likely",
            )
        return Finding(
            "refused-data",
            f"the chip refuses to {doing}{where}, twice",
            (f"{refusal.said} after the data of '{refusal.command}'",),
            (
                "the sector may be write-protected",
                "check ground and supply: damaged bytes are refused too",
                "the flash may be worn",
            ),
            "possible",
        )
    return Finding(
        "refused-command",
        f"the bootloader refuses '{refusal.command}'",
        (f"it said {refusal.said}",),
        ("try again: a byte may have been damaged on the line", "is this the dialect of this board?"),
        "possible",
    )


def fell_silent(seen: Observations) -> Finding | None:
    if seen.phase == "sync" or not seen.silence:
        return None
    evidence = [seen.silence]
    if seen.progress is not None:
        evidence.append(
            f"{seen.progress.done:,} of {seen.progress.total:,} bytes were written, "
            f"the last at {show_address(seen.progress.address)}"
        )
    return Finding(
        "fell-silent",
        "the chip stopped answering" + (" in the middle" if seen.progress else ""),
        tuple(evidence),
        (
            "upload again: nothing is lost by it",
            "check plugs, supply and ground; a byte lost on the line does this too",
            "if it happens again at another place, try a lower --baud",
        ),
        "likely",
    )


def lost_step(seen: Observations) -> Finding | None:
    """The last resort once something has answered."""
    if seen.phase == "sync" or seen.difference is not None or seen.refusal is not None:
        return None
    return Finding(
        "damaged-line",
        "the chip answered with something that is not a reply: bytes are lost or damaged on the line",
        (f"heard {show_heard(seen.heard.answers)}",) if seen.heard.answers else (),
        ("try again", "shorter wires, a lower --baud, and check ground", "is another program using the port?"),
        "possible",
    )


CHIP_RULES = (other_chip, locked, restarted, bad_address, refused_data, fell_silent, lost_step)
