"""Why no bootloader answered: echo, application text, a wrong frame or rate, another dialect, silence."""

from __future__ import annotations

from ..clock.rate_inference import reads_as_talk
from ..errors import Finding
from ..link import ResetBy
from ..quantities import show_bytes, show_heard
from .observations import Observations
from .signatures import Signature, sounds_like
from .text_detection import ROM_RATES, BootText, is_text, read_boot_text

_VOLTS = "this tool cannot see volts: check the supply and ground with a meter"
_CROSSED = "adapter TX to the chip's RX, RX to its TX, ground to ground"


def echo(seen: Observations) -> Finding | None:
    """Every byte sent comes back, and nothing else does."""
    heard = seen.heard.answers
    if len(heard) < 2 or seen.phase != "sync":
        return None
    if len(seen.sent) < len(heard) or not seen.sent.startswith(heard[: len(seen.sent)]):
        return None
    return Finding(
        "echo",
        "every byte sent comes straight back: TX and RX are joined, or the chip is not driving its pin",
        (f"sent {show_bytes(seen.sent)}", f"heard {show_bytes(heard)}"),
        (
            "look for a solder bridge or a jumper between TX and RX at the adapter",
            "pull the wires off the chip: if the echo stays, the adapter is looped back",
            "on a one-wire connection, give the chip a TX of its own",
        ),
    )


def frame_mismatch(seen: Observations) -> Finding | None:
    """The port is set to another frame than the bootloader uses, whether or not something answered."""
    actual, wanted = seen.settings.frame, seen.frame_wanted
    if actual == wanted or seen.phase not in ("sync", "chip"):
        return None
    what = "data bits" if actual.data_bits != wanted.data_bits else "parity"
    evidence = [f"the port is set to {actual}; the {seen.dialect_title} speaks {wanted}"]
    if seen.synced:
        evidence.append("it answered the first byte, which looks alike in both, and stumbled at the next")
    if seen.heard.answers:
        evidence.append(f"heard {show_heard(seen.heard.answers)}")
    return Finding(
        "wrong-frame",
        f"wrong {what}: {actual} where this bootloader wants {wanted}",
        tuple(evidence),
        (f"leave out --frame, or set it to {wanted}",),
    )


def parity_flagged(seen: Observations) -> Finding | None:
    """Our frame is right, and the driver counted parity or framing errors in nearly everything received."""
    if seen.phase not in ("sync", "chip") or seen.errors is None or seen.settings.frame != seen.frame_wanted:
        return None
    heard = len(seen.heard.everything)
    if seen.errors.parity < 3 or seen.errors.parity * 2 < heard or seen.errors.framing > seen.errors.parity:
        return None
    return Finding(
        "wrong-frame",
        "wrong parity: the other side sends in another frame than the port receives",
        (f"{seen.errors.parity} parity errors in {heard} characters at {seen.settings}",),
        ("is this bootloader the one that was declared? check --chip and --dialect",),
        "likely",
    )


def rom_text(seen: Observations) -> Finding | None:
    """The chip's ROM itself prints how it was booted."""
    if seen.phase not in ("sync", "start"):
        return None
    heard = seen.heard
    # our own ROM at a rate that none prints at has a wrong clock: that is another finding
    at_home = not seen.rom_speaks or (seen.reheard is not None and seen.reheard[0].baud in ROM_RATES)
    reheard = seen.reheard[1] if seen.reheard and at_home else b""
    found = next(
        (text for data in (heard.after, heard.answers, reheard, heard.before) if (text := read_boot_text(data))), None
    )
    if found is None or (seen.phase == "start" and found.runs):
        return None
    if seen.rom_speaks:
        return _own_rom_text(seen, found)
    if found.loader:
        tries = ("its ROM loader is ready: say which chip it is, with --chip", "is this the board you meant?")
    else:
        tries = (
            f"is this the board you meant? the {seen.dialect_title} was expected",
            "if it is, hold its boot pin where it selects the loader while reset is released",
        )
    return Finding("rom-text", f"the board's ROM says: {found.meaning}", (f'heard "{found.quoted}"',), tries)


def _own_rom_text(seen: Observations, found: BootText) -> Finding:
    """The declared chip's own ROM: it runs, and what it prints tells what is missing."""
    evidence = (f'heard "{found.quoted}"',)
    if seen.phase == "start":
        tries: tuple[str, ...] = ("put the boot pin back to run, and reset",)
        if not found.loader:
            tries = (
                "is every image at its own address? the first one begins where the ROM looks for it",
                "upload again",
            )
        return Finding("rom-text", f"after the start the ROM says: {found.meaning}", evidence, tries)
    if found.loader:
        return Finding(
            "one-way",
            "its text arrives, but what we send does not: the ROM waits for an upload, and did not answer",
            evidence,
            ("check the wire from the adapter's TX to the chip's RX", "is anything else driving that pin?"),
            "likely",
        )
    tries = ("hold the boot pin where it selects the loader while reset is released", *seen.hands_enter)
    return Finding("boot-pin", f"the boot pin was not set at reset: {found.meaning}", evidence, tries)


def other_dialect(seen: Observations) -> Finding | None:
    """An answer that belongs to another bootloader, or an answer to a question in its own dialect."""
    if seen.phase != "sync":
        return None
    tries = ("check --chip: is this the board you meant?",)
    if seen.answered_other is not None:
        title, answer = seen.answered_other
        return Finding(
            "other-dialect",
            f"another bootloader answers: {title}",
            (f"asked as {title}, it answered {answer}", f"asked as {seen.dialect_title}, it did not"),
            tries,
        )
    mine = (*seen.sync_answers, *seen.other_answers)
    others = [
        Signature(other.title, tuple(answer for answer in other.answers if answer not in mine), other.sounds)
        for other in seen.others
    ]
    due = show_bytes(seen.sync_answers[0]) if seen.sync_answers else "an answer of its own"
    for data in (seen.heard.answers, seen.heard.after, seen.heard.before):
        sound = sounds_like(data, others)
        if sound is not None:
            return Finding(
                "other-dialect",
                f"this sounds like another bootloader: {sound.title}",
                (f"heard {sound.said} instead of {due}",),
                tries,
                "likely",
            )
    return None


def runs_already(seen: Observations) -> bool:
    """Whether what was heard is a program's text, so that a loader could only have been there earlier, and timed
    out."""
    pieces = (seen.heard.after, seen.after_settings.frame), (seen.heard.answers, seen.settings.frame)
    return any(is_text(data, frame) for data, frame in pieces)


def may_speak_otherwise(seen: Observations) -> bool:
    """Whether asking in other dialects is worthwhile: nothing heard points to another cause."""
    return not (echo(seen) or frame_mismatch(seen) or rom_text(seen) or other_dialect(seen))


_LOADER_LISTENS_S = 0.4
"""Resident bootloaders that time out listen at least this long after reset."""


def reset_too_early(seen: Observations) -> Finding | None:
    """The application started before the bootloader was asked, or before the boot pin was set."""
    if seen.phase != "sync":
        return None
    frame = seen.settings.frame
    if seen.reset_by is ResetBy.LINES:
        late = seen.gives_up and seen.unasked_s >= _LOADER_LISTENS_S and is_text(seen.early, frame)
        if not late:
            return None
        return Finding(
            "reset-too-early",
            "the bootloader started the application before it was asked: reset came too early",
            (f"{seen.unasked_s:.1f} s after reset, before the first question, came {show_heard(seen.early)}",),
            (
                "remove the waits at the end of --enter: the bootloader is asked as soon as the sequence is over",
                "or by hand: --hookup by-hand, and press reset while the tool is asking",
            ),
        )
    heard = (seen.heard.answers, frame), (seen.heard.after, seen.after_settings.frame)
    text = next((data for data, received_in in heard if is_text(data, received_in)), None)
    if seen.heard.before or not seen.began_anew or seen.quiet_s < _LOADER_LISTENS_S or text is None:
        return None
    evidence = (f"{seen.quiet_s:.1f} s of silence, then {show_heard(text)}",)
    if seen.boot_pin:
        return Finding(
            "reset-too-early",
            "reset came too early: the application started, the boot pin was not set yet",
            evidence,
            (*seen.hands_enter, "the order matters: the boot pin first, then reset"),
            "likely",
        )
    return Finding(
        "reset-too-early",
        "the application started while the tool was asking: the bootloader timed out before it was asked",
        evidence,
        (
            "press reset again while the tool is asking: --patience 30 gives you longer",
            "is this the rate its bootloader listens at? --baud 57600 and 19200 are common too",
            *seen.hands_enter,
        ),
        "likely",
    )


def application_text(seen: Observations) -> Finding | None:
    """Readable text where the bootloader should have answered."""
    heard = [(seen.heard.after, seen.after_settings.frame), (seen.heard.answers, seen.settings.frame)]
    if seen.reset_by is not ResetBy.LINES:
        heard.append((seen.heard.before, seen.settings.frame))
    text = next((data for data, frame in heard if is_text(data, frame)), None)
    said = show_heard(text) if text is not None else _text_in_another_frame(seen)
    if seen.phase != "sync" or not said:
        return None
    tries: tuple[str, ...]
    if seen.boot_pin and seen.reset_by is ResetBy.LINES:
        tries = (
            "is the boot jumper where it selects the bootloader, and the boot pin on the line the hookup names?",
            "does --hookup fit this board? greenstep hookup find finds it",
            f"or by hand, with --hookup by-hand: {'; '.join(seen.hands_enter)}",
        )
        cause = "the application answered, not the bootloader: the boot pin was not set at reset"
    elif seen.boot_pin:
        tries = (*seen.hands_enter, "the order matters: the boot pin first, then reset")
        cause = "the application answered, not the bootloader: the boot pin was not set at reset"
    elif seen.reset_by is ResetBy.LINES:
        tries = (
            "check the reset wire and its capacitor: the text may come from a board that was not reset",
            "if reset works, the bootloader timed out before it was asked: try another --baud, "
            "the one its bootloader listens at",
        )
        cause = "the application answered, not the bootloader"
    else:
        tries = ("press reset while the tool is asking: --patience gives you longer", *seen.hands_enter)
        cause = "the application answered, not the bootloader: reset was not pressed while the tool asked"
    called = (seen.called_by,) if seen.called_by else ()
    return Finding("application", cause, (f"heard {said}", *seen.warnings), (*called, *tries))


def _text_in_another_frame(seen: Observations) -> str:
    """What was heard, if it is a program's 8N1 text received as characters with parity; else an empty text."""
    data, settings = seen.heard.answers, seen.settings
    if settings.frame.parity == "none" or len(data) < _ENOUGH_GARBLED or not reads_as_talk(data, settings.frame):
        return ""
    return f"{show_bytes(data)} at {settings}: text sent as 8N1"


_ENOUGH_GARBLED = 12


def heard_before_only(seen: Observations) -> Finding | None:
    """The board talked until it was reset, and not since: it is held in reset, or in a bootloader that does not hear
    us."""
    if seen.phase != "sync" or not seen.heard.before or seen.heard.answers or seen.heard.after:
        return None
    return Finding(
        "silent-since-reset",
        "the board talked before the reset and has been silent since: our bytes do not reach it",
        (f"heard before {show_heard(seen.heard.before)}", f"{len(seen.sent)} bytes sent, none answered"),
        (
            "check the wire from the adapter's TX to the chip's RX",
            "is the bootloader on this UART? some chips listen on another one",
            "does the hookup hold the chip in reset? compare it with the board",
        ),
        "likely",
    )


def stray(seen: Observations) -> Finding | None:
    """One or two bytes that are no answer."""
    heard = seen.heard.answers + seen.heard.after
    if seen.phase != "sync" or not heard:
        return None
    return Finding(
        "garbage",
        f"only {show_bytes(heard)} came, which is not an answer",
        (f"sent {show_bytes(seen.sent)} at {seen.settings}",),
        ("try again", "check ground and the length of the wires", "try a lower --baud"),
        "possible",
    )


def silence(seen: Observations) -> Finding | None:
    """Nothing at all was heard. The likeliest cause depends on what was to reset the chip."""
    if seen.phase != "sync" or seen.heard.everything:
        return None
    evidence = [f"{len(seen.sent)} bytes sent at {seen.settings}, nothing heard"]
    wires = [f"check the wires: {_CROSSED} (greenstep wiring)", _VOLTS]
    if seen.called_by:
        wires.insert(0, seen.called_by)
    if seen.reset_by is ResetBy.HAND_WITHOUT_LINES:
        evidence.append("this port has no DTR and RTS, so nothing reset the chip")
        tries = [*seen.hands_enter, "use --hookup by-hand and --patience 30", *wires]
        cause = "silence: this port cannot reset the chip, so it must be done by hand"
        return Finding("silence-no-lines", cause, tuple(evidence), tuple(tries), "likely")
    if seen.reset_by is ResetBy.HAND:
        cause = "silence: the chip is not in its bootloader, not powered, or not wired to this port"
        tries = [
            *(f"{number}. {move}" for number, move in enumerate(seen.hands_enter, 1)),
            "the wrong order of the buttons is the most common cause: do it again, slowly",
            *wires,
        ]
        return Finding("silence-by-hand", cause, tuple(evidence), tuple(tries), "likely")
    evidence.append("the lines were moved; that resets the chip only if the hookup is the board's")
    pin = ["is the boot pin wired to the line that the hookup names?"] if seen.boot_pin else []
    tries = [
        *wires,
        *pin,
        "is this the right port? greenstep find-port finds it by its plug",
        "does --hookup fit this board? greenstep hookup find tries the common ones",
        "or press reset by hand while it asks, with --hookup by-hand",
    ]
    cause = "silence: no reset reached the chip, or it is not powered, or not wired to this port"
    return Finding("silence-lines", cause, tuple(evidence), tuple(tries), "likely")
