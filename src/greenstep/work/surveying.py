"""What is on a port, if nothing but the port is known: hookups and dialects tried in a harmless order."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from greenstep.bench.address import is_bench
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.registry import all_dialects, find_dialect
from greenstep.core.errors import NoAnswerFault
from greenstep.core.frozen import frozen
from greenstep.core.hookup.circuits import entered_by, named_hookup
from greenstep.core.link import LineSettings, LinesMissing
from greenstep.core.survey.heard import Meaning
from greenstep.core.survey.hookups import (
    Candidate,
    HeardBefore,
    HookupFound,
    HookupTried,
    ask_by_hand,
    by_maker,
    candidates_for,
    find_hookup,
)
from greenstep.core.trace.recording import RecordingLink

from .board import Board
from .port_choice import borrowed, link_faults, open_board_port, port_name
from .prompter import Prompter

_PATIENCE_S = 45.0


class SurveyView(Protocol):
    """Whatever shows its progress."""

    def opened(self, port: str, evidence: str) -> None: ...

    def heard(self, event: HeardBefore) -> None: ...

    def tried(self, event: HookupTried) -> None: ...

    def without_lines(self) -> None:
        """The port has no DTR and RTS: it continues by hand."""

    def hands_wanted(self, patience_s: float) -> None:
        """A person resets; the tool keeps asking for that long."""


@frozen
class Surveyed:
    """`found` is what answered, if anything did; `heard` is what else was heard."""

    found: HookupFound
    heard: tuple[Meaning, ...]


def scope(board: Board) -> list[Candidate]:
    """The hookups and dialects to try: those of the chip if one is given, else all."""
    settings = board.settings
    if settings.chip:
        part = board.choice.first
        others = () if settings.rate else board.dialect.spec.asking.other_bauds
        return candidates_for(board.dialect, part.boot_level, board.baud, others)
    found: list[Candidate] = []
    for dialect in [find_dialect(settings.dialect)] if settings.dialect else all_dialects():
        parts = Catalogue.load().of_dialect(dialect.name)
        if parts and dialect.spec.asking.sent:  # a loader that calls by itself is heard, and not asked
            baud = settings.rate or parts[0].baud
            own = candidates_for(dialect, parts[0].boot_level, baud)
            if isinstance(settings.hookup, str) and settings.hookup not in ("by-hand", "usb-hangup"):
                hookup = entered_by(named_hookup(settings.hookup, parts[0].boot_level), dialect.spec.asking.entering)
                own = [Candidate(hookup, dialect, baud)]
            usual = parts[0].hookup
            found += sorted(own, key=lambda candidate: (candidate.hookup.name != usual, candidate.baud != baud))
    # each dialect's likeliest first, then each one's second
    rank = {
        id(candidate): sum(c.dialect is candidate.dialect for c in found[:n]) for n, candidate in enumerate(found)
    }
    return sorted(found, key=lambda candidate: rank[id(candidate)])


def survey(board: Board, view: SurveyView, prompter: Prompter, by_hand: bool, trace: Path | None = None) -> Surveyed:
    """What is on the port. With `by_hand`, a person is asked if no line helps. Raises PortFault, UsageFault."""
    with borrowed(port_name(board.settings.port), "greet"):
        return _survey(board, view, prompter, by_hand, trace)


def _survey(board: Board, view: SurveyView, prompter: Prompter, by_hand: bool, trace: Path | None) -> Surveyed:
    candidates = scope(board)
    if not is_bench(name := port_name(board.settings.port)) and "://" not in name:
        from greenstep.ports.discovery import usb_behind

        candidates = by_maker(candidates, usb_behind(name).rpartition(" ")[2])
    console = LineSettings(board.settings.console_baud or board.settings.rate or 115200)
    opened = open_board_port(board, console, (False, False), prompter, trace)
    link = RecordingLink(opened.link)
    view.opened(name, opened.evidence)
    heard: list[Meaning] = []
    found = HookupFound(None)
    try:
        with link_faults(board):
            try:
                for event in find_hookup(link, candidates, console):
                    if isinstance(event, HookupFound):
                        found = event
                    elif isinstance(event, HeardBefore):
                        view.heard(event)
                        heard.append(event.meaning)
                    else:
                        view.tried(event)
                        heard += [event.meaning] if event.outcome != "answered" else []
            except LinesMissing:
                if not by_hand:
                    raise
                view.without_lines()
            if found.candidate is None and by_hand:
                patience_s = board.settings.patience or _PATIENCE_S
                view.hands_wanted(patience_s)
                found = _by_hand(link, candidates, patience_s) or found
    finally:
        link.close()
    return Surveyed(found, tuple(meaning for meaning in dict.fromkeys(heard) if meaning.kind != "nothing"))


def _by_hand(link: RecordingLink, candidates: list[Candidate], patience_s: float) -> HookupFound | None:
    from dataclasses import replace

    for found in ask_by_hand(link, candidates, patience_s):
        if found is not None:
            return HookupFound(replace(found, hookup=named_hookup("by-hand", "")), "by hand")
    return None


def answered(surveyed: Surveyed) -> Candidate:
    """What answered. Raises NoAnswerFault with what was heard instead."""
    found, heard = surveyed.found, surveyed.heard
    if found.candidate is not None:
        return found.candidate
    evidence = tuple(meaning.words for meaning in heard[:3])
    by_kind = {meaning.kind: meaning for meaning in reversed(heard)}
    if "rom text" in by_kind or "bootloader" in by_kind:
        told = by_kind.get("rom text") or by_kind["bootloader"]
        raise NoAnswerFault.of(
            "rom-text" if told.kind == "rom text" else "other-dialect",
            "something answered, but as none of the bootloaders that were asked",
            (told.words,),
            ("say which chip it is, with --chip, if this version knows it", "is this the board you meant?"),
        )
    if "garbage" in by_kind and by_kind["garbage"].baud:
        baud = by_kind["garbage"].baud
        raise NoAnswerFault.of(
            "wrong-rate",
            f"the board talks at another rate, about {baud} baud",
            evidence,
            (f"ask at that rate: --baud {baud}", "a missing ground wire garbles too: check it"),
            "likely",
        )
    if found.resets:
        raise NoAnswerFault.of(
            "resets-only",
            f"reset works with {found.resets[0]}, and no bootloader answered",
            evidence,
            (
                "set the boot pin by hand (jumper or button) and try again",
                "the boot pin may be on no line: use dtr-reset-only or rts-reset-only, and the jumper",
            ),
            "likely",
        )
    raise NoAnswerFault.of(
        "no-hookup-found",
        "no common hookup made a bootloader answer",
        evidence or ("nothing was heard, before or after any reset",),
        (
            "by hand: greenstep greet --hookup by-hand with --chip",
            "check the wires: adapter TX to the chip's RX, RX to its TX, ground to ground",
            "this tool cannot see volts: check the supply with a meter",
        ),
        "possible",
    )


def hookup_words(candidate: Candidate) -> str:
    """The hookup as written: a name, or a table."""
    hookup = candidate.hookup
    if not hookup.name.endswith("boot inverted") or hookup.boot is None:
        return hookup.name
    like = hookup.name.partition(",")[0]
    selected = "asserted" if hookup.boot.asserted else "released"
    return f'{{ like = "{like}", boot = {{ line = "{hookup.boot.line}", selected = "{selected}" }} }}'
