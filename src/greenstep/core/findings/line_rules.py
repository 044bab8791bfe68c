"""Why no bootloader answered: echo, application text, a wrong frame or rate, another dialect, silence."""

from __future__ import annotations

from ..errors import Finding
from ..line_rate import ENOUGH_BYTES, Sample, likely_factors, reads_as_talk
from ..link import Frame
from ..quantities import readable_share, show_bytes, show_heard
from .observations import Observations

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
    """The port is set to another frame than the bootloader speaks, and something did answer or nothing did."""
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
    """Our frame is right, and the driver counted parity or framing errors in nearly all that came."""
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


def other_dialect(seen: Observations) -> Finding | None:
    """An answer that is exactly what another dialect's bootloader says."""
    heard = seen.heard.answers
    if seen.phase != "sync" or not heard or len(heard) > 64:
        return None
    for title, answers in seen.others:
        for answer in answers:
            repeats = len(heard) // len(answer)
            if len(answer) >= 1 and answer not in seen.sync_answers and heard == answer * repeats and repeats:
                return Finding(
                    "other-dialect",
                    f"this sounds like another bootloader: {title}",
                    (f"heard {show_bytes(heard)} where {show_bytes(seen.sync_answers[0])} was due",),
                    ("check --chip: is this the board you meant?",),
                    "likely",
                )
    return None


def garbage(seen: Observations) -> Finding | None:
    """What was heard is neither text nor an answer: the rates differ."""
    if seen.phase not in ("sync", "start"):
        return None
    talk = Sample(seen.heard.after, seen.after_settings.frame)
    replies = Sample(b"", seen.settings.frame)
    if seen.phase == "sync":
        known = (*seen.sync_answers, *seen.other_answers)
        replies = Sample(seen.heard.answers, seen.settings.frame, seen.frame_wanted, known)
    shown, settings = (
        (talk.data, seen.after_settings) if len(talk.data) >= len(replies.data) else (replies.data, seen.settings)
    )
    if len(shown) < 3 or is_text(shown, settings.frame):
        return None
    guesses = likely_factors(talk, replies)
    evidence = [f"heard {show_bytes(shown)} at {settings}"]
    if guesses and guesses[0] != 1.0:
        return _wrong_rate(seen, guesses[0], evidence)
    return Finding(
        "garbage",
        "what came is neither an answer nor text: the rates differ, or the line is noisy",
        tuple(evidence),
        (
            "try the board's other usual rates: --baud 57600, 38400, 19200, 9600",
            "check that ground is connected, and that the adapter gives TTL levels, not RS-232",
        ),
        "possible",
    )


def _wrong_rate(seen: Observations, factor: float, evidence: list[str]) -> Finding:
    at_start = seen.phase == "start"
    option = "--console-baud" if at_start else "--baud"
    rate = _standard(round(seen.settings.baud * factor))
    evidence.append(f"it reads best as {factor:.3g} times that rate, about {rate} baud")
    tries = [f"try {option} {rate}"]
    if factor in (0.926, 1.08):
        tries = [f"the chip's clock is off by about 8 %: an untuned internal oscillator; try a lower {option}"]
    elif factor in (1 / 8, 1 / 4, 1 / 2, 2.0, 4.0, 8.0) and not at_start:
        tries.append("a crystal, prescaler or PLL set wrong in the program shifts the rate by just such a factor")
    return Finding(
        "wrong-rate",
        f"the rates differ: the chip talks at about {factor:.3g} times your rate",
        tuple(evidence),
        (*tries, "a missing ground wire garbles too: check it"),
        "likely",
    )


def is_text(data: bytes, frame: Frame) -> bool:
    """Whether bytes are text as they stand; slow garbage, too, is made of printable characters."""
    if len(data) < 4 or readable_share(data) < 0.85:
        return False
    return len(data) < ENOUGH_BYTES or reads_as_talk(data, frame)


def _standard(rate: int) -> int:
    usual = (1200, 2400, 4800, 9600, 14400, 19200, 28800, 38400, 57600, 76800, 115200, 230400, 250000, 460800)
    near = min(usual, key=lambda candidate: abs(candidate - rate))
    return near if abs(near - rate) <= 0.03 * near else rate


def application_text(seen: Observations) -> Finding | None:
    """Readable text where the bootloader should have answered."""
    heard = [(seen.heard.after, seen.after_settings.frame), (seen.heard.answers, seen.settings.frame)]
    if seen.lines != "moved":
        heard.append((seen.heard.before, seen.settings.frame))
    text = next((data for data, frame in heard if is_text(data, frame)), None)
    if seen.phase != "sync" or text is None:
        return None
    tries: tuple[str, ...]
    if seen.boot_pin and seen.lines == "moved":
        tries = (
            "is the boot jumper where it selects the bootloader, and the boot pin on the line the hookup names?",
            "does --hookup fit this board?",
            f"or by hand, with --hookup by-hand: {'; '.join(seen.hands_enter)}",
        )
        cause = "the application answered, not the bootloader: the boot pin was not set at reset"
    elif seen.boot_pin:
        tries = (*seen.hands_enter, "the order matters: the boot pin first, then reset")
        cause = "the application answered, not the bootloader: the boot pin was not set at reset"
    elif seen.lines == "moved":
        tries = (
            "check the reset wire and its capacitor: the text may come from a board that was not reset",
            "if reset works, the bootloader gave up before it was asked: try another --baud, "
            "the one its bootloader listens at",
        )
        cause = "the application answered, not the bootloader"
    else:
        tries = ("press reset while the tool is asking: --patience gives you longer", *seen.hands_enter)
        cause = "the application answered, not the bootloader: reset was not pressed while the tool asked"
    return Finding("application", cause, (f"heard {show_heard(text)}",), tries)


def heard_before_only(seen: Observations) -> Finding | None:
    """The board talked until it was reset, and not since: it is held in reset, or in a bootloader that is deaf."""
    if seen.phase != "sync" or not seen.heard.before or seen.heard.answers or seen.heard.after:
        return None
    return Finding(
        "silent-since-reset",
        "the board talked before the reset and is silent since: our bytes do not reach it",
        (f"heard before {show_heard(seen.heard.before)}", f"{len(seen.sent)} bytes sent, none answered"),
        (
            "check the wire from the adapter's TX to the chip's RX",
            "is the bootloader on this UART? some chips listen on another one",
            "does the hookup hold the chip in reset? compare it with the board",
        ),
        "likely",
    )


def stray(seen: Observations) -> Finding | None:
    """A byte or two that are no answer."""
    heard = seen.heard.answers + seen.heard.after
    if seen.phase != "sync" or not heard:
        return None
    return Finding(
        "garbage",
        f"only {show_bytes(heard)} came, which is no answer",
        (f"sent {show_bytes(seen.sent)} at {seen.settings}",),
        ("try again", "check ground and the length of the wires", "try a lower --baud"),
        "possible",
    )


def silence(seen: Observations) -> Finding | None:
    """Nothing at all was heard. The likeliest cause depends on who was to reset the chip."""
    if seen.phase != "sync" or seen.heard.everything:
        return None
    evidence = [f"{len(seen.sent)} bytes sent at {seen.settings}, nothing heard"]
    wires = [f"check the wires: {_CROSSED}", _VOLTS]
    if seen.lines == "missing":
        evidence.append("this port has no DTR and RTS, so nothing reset the chip")
        tries = [*seen.hands_enter, "use --hookup by-hand and --patience 30", *wires]
        cause = "silence: this port cannot reset the chip, so it must be done by hand"
        return Finding("silence-no-lines", cause, tuple(evidence), tuple(tries), "likely")
    if seen.lines == "by hand":
        cause = "silence: the chip is not in its bootloader, not powered, or not wired to this port"
        tries = [
            *(f"{number}. {move}" for number, move in enumerate(seen.hands_enter, 1)),
            "a wrong order of the buttons is the usual cause: do it again, slowly",
            *wires,
        ]
        return Finding("silence-by-hand", cause, tuple(evidence), tuple(tries), "likely")
    evidence.append("the lines were moved, and reset the chip only if the hookup is that of the board")
    pin = ["is the boot pin wired to the line that the hookup names?"] if seen.boot_pin else []
    tries = [
        "is this the right port? greenstep ports lists them",
        "does --hookup fit this board? press reset by hand while it asks, with --hookup by-hand",
        *pin,
        *wires,
    ]
    cause = "silence: no reset reached the chip, or it is not powered, or not wired to this port"
    return Finding("silence-lines", cause, tuple(evidence), tuple(tries), "likely")


LINE_RULES = (
    echo,
    frame_mismatch,
    parity_flagged,
    other_dialect,
    application_text,
    garbage,
    heard_before_only,
    stray,
    silence,
)
