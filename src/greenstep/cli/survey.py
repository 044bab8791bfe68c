"""`lines learn`, and `greet` where nothing but a port is known."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import click

from greenstep.bench.address import is_bench
from greenstep.core.chips import Catalogue
from greenstep.core.dialects.registry import find_dialect, own_dialects
from greenstep.core.errors import NoAnswerFault
from greenstep.core.hookup import named_hookup
from greenstep.core.link import LineSettings, LinesMissing
from greenstep.core.recording import RecordingLink
from greenstep.core.survey.learn import (
    TURN_S,
    Candidate,
    HeardBefore,
    Learnt,
    Tried,
    ask_by_hand,
    by_maker,
    candidates_for,
    learn_hookup,
)
from greenstep.core.survey.meaning import Meaning

from .json_view import JsonView
from .port_choice import link_faults, open_said, port_name
from .signs import shows_signs
from .target import find_chip, settle

if TYPE_CHECKING:
    from greenstep.store.board import BoardSettings

_PATIENCE_S = 45.0


class _Rows:
    """Rows of a survey, as text or JSON."""

    def __init__(self, as_json: bool) -> None:
        self._as_json = as_json
        signs = shows_signs(sys.stdout)
        self._signs = (
            {"answered": "●", "resets": "◐", "silent": "○"}
            if signs
            else {"answered": "+", "resets": "~", "silent": "."}
        )

    def heard(self, event: HeardBefore) -> None:
        if self._as_json:
            values = {"settings": str(event.settings), "kind": event.meaning.kind, "heard": event.meaning.words}
            JsonView().line("heard-before", values)
        elif event.answer:
            click.echo(f"   before     {event.dialect} answers already: {event.answer}")
        else:
            click.echo(f"   before     {event.settings}: {event.meaning.words}")

    def tried(self, event: Tried) -> None:
        if self._as_json:
            values = {key: value for key, value in event.__dict__.items() if key != "meaning"}
            JsonView().line("tried", {**values, "kind": event.meaning.kind, "heard": event.meaning.words})
        else:
            heard = event.meaning.words
            words = f"reset works; {heard}" if event.outcome == "resets" else heard
            click.echo(
                f" {self._signs[event.outcome]} {event.hookup:<32} {event.dialect:<10} {event.baud:<7} {words}"
            )
        sys.stdout.flush()


def scope(said: BoardSettings) -> list[Candidate]:
    """The hookups and dialects to try: those of the chip if one is said, else all."""
    catalogue = Catalogue.load()
    if said.chip:
        choice = find_chip(said)
        dialect = find_dialect(said.dialect or choice.dialect)
        others = () if said.baud else dialect.spec.asking.other_bauds
        return candidates_for(dialect, choice.first.boot_level, said.baud or choice.first.baud, others)
    found: list[Candidate] = []
    for dialect in [find_dialect(said.dialect)] if said.dialect else own_dialects():
        parts = catalogue.of_dialect(dialect.name)
        if parts and dialect.spec.asking.sent:  # who calls by itself is heard, and not asked
            baud = said.baud or parts[0].baud
            own = candidates_for(dialect, parts[0].boot_level, baud)
            if isinstance(said.hookup, str) and said.hookup not in ("by-hand", "usb-touch"):
                own = [Candidate(named_hookup(said.hookup, parts[0].boot_level), dialect, baud)]
            usual = parts[0].hookup
            found += sorted(own, key=lambda candidate: (candidate.hookup.name != usual, candidate.baud != baud))
    # each dialect's likeliest first, then each one's second
    rank = {
        id(candidate): sum(c.dialect is candidate.dialect for c in found[:n]) for n, candidate in enumerate(found)
    }
    return sorted(found, key=lambda candidate: rank[id(candidate)])


def survey(
    board: str, said: BoardSettings, options: Mapping[str, Any], rows: _Rows, by_hand: bool
) -> tuple[Learnt, list[Meaning]]:
    """What is on the port. With `by_hand`, a person is asked where no line helps. The second value is what was heard.

    Raises PortFault, UsageFault.
    """
    candidates = scope(said)
    if not is_bench(name := port_name(said)) and "://" not in name:
        from greenstep.ports.discovery import usb_behind

        candidates = by_maker(candidates, usb_behind(name).rpartition(" ")[2])
    console = LineSettings(said.console_baud or said.baud or 115200)
    opened = open_said(said, console, (False, False), {**options, "board": board})
    link = RecordingLink(opened.link)
    if not options["as_json"]:
        click.echo(f"{port_name(said)}   {opened.evidence}\n")
    heard: list[Meaning] = []
    learnt = Learnt(None)
    try:
        with link_faults(said):
            try:
                for event in learn_hookup(link, candidates, console):
                    if isinstance(event, Learnt):
                        learnt = event
                    elif isinstance(event, HeardBefore):
                        rows.heard(event)
                        heard.append(event.meaning)
                    else:
                        rows.tried(event)
                        heard += [event.meaning] if event.outcome != "answered" else []
            except LinesMissing:
                if not by_hand:
                    raise
                if not options["as_json"]:
                    click.echo("   note     this port has no DTR and RTS: going on by hand")
            if learnt.candidate is None and by_hand:
                learnt = _by_hand(link, candidates, options) or learnt
    finally:
        link.close()
    return learnt, [meaning for meaning in dict.fromkeys(heard) if meaning.kind != "nothing"]


def _by_hand(link: RecordingLink, candidates: list[Candidate], options: Mapping[str, Any]) -> Learnt | None:
    """A person resets, the tool keeps asking."""
    from dataclasses import replace

    from greenstep.core.hookup import named_hookup

    patience_s = options.get("patience") or _PATIENCE_S
    if not options["as_json"]:
        click.echo(
            "   now      put the chip into its bootloader by hand: boot pin first, then reset (docs/hookups.md)"
        )
        click.echo(f"            and again every {TURN_S:g} s, until it answers; asking for {patience_s:g} s …")
        sys.stdout.flush()
    for found in ask_by_hand(link, candidates, patience_s):
        if found is not None:
            return Learnt(replace(found, hookup=named_hookup("by-hand", "")), "by hand")
    return None


def learn_lines(board: tuple[str, ...], options: Mapping[str, Any]) -> int:
    """`greenstep lines learn`. Returns the exit status; raises NoAnswerFault where nothing was learnt."""
    name, said = settle(board, options, port_is_enough=True)
    as_json = bool(options["as_json"])
    learnt, heard = survey(name, said, options, _Rows(as_json), by_hand=False)
    if learnt.candidate is None:
        raise _nothing_learnt(learnt, heard)
    candidate = learnt.candidate
    table = _written(candidate)
    if as_json:
        JsonView().line(
            "learnt",
            {"hookup": candidate.hookup.name, "table": table, "baud": candidate.baud, "leaves": learnt.leaves},
        )
        return 0
    rate = f"\n   baud = {candidate.baud}" if candidate.baud in candidate.dialect.spec.asking.other_bauds else ""
    click.echo(f"\n learnt: {candidate.hookup.name}\n\n   hookup = {table}{rate}\n")
    if learnt.leaves == "silent":
        click.echo("   nothing was heard after leaving: whether it leaves is not proven")
    elif learnt.leaves == "stays":
        click.echo("   its way out did not leave the bootloader: look at the boot pin")
    return 0


def _written(candidate: Candidate) -> str:
    """The hookup as it stands in greenstep.toml."""
    hookup = candidate.hookup
    if not hookup.name.endswith("boot inverted") or hookup.boot is None:
        return f'"{hookup.name}"'
    like = hookup.name.partition(",")[0]
    selected = "asserted" if hookup.boot.asserted else "released"
    return f'{{ like = "{like}", boot = {{ line = "{hookup.boot.line}", selected = "{selected}" }} }}'


def _nothing_learnt(learnt: Learnt, heard: list[Meaning]) -> NoAnswerFault:
    evidence = tuple(meaning.words for meaning in heard[:3])
    by_kind = {meaning.kind: meaning for meaning in reversed(heard)}
    if "rom text" in by_kind or "bootloader" in by_kind:
        told = by_kind.get("rom text") or by_kind["bootloader"]
        return NoAnswerFault.of(
            "rom-text" if told.kind == "rom text" else "other-dialect",
            "what is there says who it is, and is none of the bootloaders asked",
            (told.words,),
            ("say which chip it is, with --chip, if this version knows it", "is this the board you meant?"),
        )
    if "garbage" in by_kind and by_kind["garbage"].baud:
        baud = by_kind["garbage"].baud
        return NoAnswerFault.of(
            "wrong-rate",
            f"what is there talks at another rate, about {baud} baud",
            evidence,
            (f"ask at that rate: --baud {baud}", "a missing ground wire garbles too: check it"),
            "likely",
        )
    if learnt.resets:
        return NoAnswerFault.of(
            "resets-only",
            f"reset works with {learnt.resets[0]}, and no bootloader answered",
            evidence,
            (
                "set the boot pin by hand (jumper or button) and learn again",
                "the boot pin may be on no line: use dtr-reset or rts-reset, and the jumper",
            ),
            "likely",
        )
    return NoAnswerFault.of(
        "nothing-learnt",
        "no hookup that is common made a bootloader answer",
        evidence or ("nothing was heard, before or after any reset",),
        (
            "by hand: greenstep greet --hookup by-hand with --chip",
            "check the wires: adapter TX to the chip's RX, RX to its TX, ground to ground",
            "this tool cannot see volts: check the supply with a meter",
        ),
        "possible",
    )


def greet_unknown(said: BoardSettings, options: Mapping[str, Any]) -> dict[str, Any]:
    """What `greet` needs to go on, where only a port is known: chip family, hookup, rate. Raises NoAnswerFault."""
    learnt, heard = survey("", said, options, _Rows(bool(options["as_json"])), by_hand=True)
    if learnt.candidate is None:
        raise _nothing_learnt(learnt, heard)
    candidate = learnt.candidate
    family = Catalogue.load().family_of(candidate.dialect.name)
    hookup = _written(candidate).strip('"')
    if not options["as_json"]:
        rate = f" --baud {candidate.baud}" if candidate.baud in candidate.dialect.spec.asking.other_bauds else ""
        click.echo(f"\n   so it is --chip {family} --hookup {_quoted(hookup)}{rate}\n")
    return {"chip": family, "hookup": hookup, "baud": candidate.baud}


def _quoted(hookup: str) -> str:
    return f"'{hookup}'" if hookup.startswith("{") else hookup
