"""The step before erasing: what of the image is in the chip already is left alone. And which version the chip holds,
before an upload or when it is only looked at.

What is there already is known by the chip's own checksum where it has one; else by reading back, if that takes less
time than writing; else by the journal, the chip's own number and a sample.
"""

from __future__ import annotations

import random
from collections.abc import Generator, Iterator, Sequence
from dataclasses import replace
from typing import Literal

from ..dialects.abilities import summing
from ..dialects.errors import ChipRefusal, DialectError
from ..events import Event, Noted, StepAdvanced, StepEnded
from ..frozen import changing
from ..image import Image, Piece
from ..image.granules import Remembered, granules_of
from ..image.versions import Version, found_in, heard_in, number_in, version_text
from ..plan.layout import USUAL_TURNAROUND_S, Room, narrowed, rooms_of
from ..plan.model import MemoryPlan
from ..plan.write_options import CompareWith
from ..quantities import count, show_address
from ..spans import Span, merged, pieces_of, total
from .repair import expected, reads_equal, sums_equal
from .session import Session, Transfer, Trusted

How = Literal["checksum", "read", "journal", ""]

# Why there are three ways, and none of them is a guess: what is in the chip already need not be sent, if it is
# certain to be there. The chip's own checksum is a few bytes on the line and covers every byte: it is used where
# it is more than a tag. Reading back costs as much as writing, so it is worth it while most of it turns out equal;
# after units that differ in a row, spans are left out by growing leaps. The journal is only a memory: it is
# believed where a sample agrees, and what verify then finds still decides. Nothing here changes the chip, so a
# unit that is found equal holds what was seen.
_PARTS = 8  # summed at once
_WORTH_PROBING = 16  # spans
_MOST_TOGETHER, _FIRST_LOOK = (256, 128)  # bytes: of spans read together, and of a large span before the rest
_DIFFER_IN_A_ROW, _FIRST_LEAP, _LEAP_GROWS = 2, 3, 4
_FEW = 4
"""Bytes of a reading that one or two damages on the line may be."""
_SAMPLE_SHARE, _LEAST_SAMPLES, _MOST_SAMPLES, _MOST_SLOW_SAMPLES = 0.03, 8, 64, 32


@changing
class _Outcome:
    """The result for one memory. `differing` is None if it was not compared, for the reason in `why`."""

    how: How = ""
    rooms: int = 0
    differing: list[Room] | None = None
    looked_at: int = 0
    bytes_seen: int = 0
    why: str = ""
    remembered: Remembered | None = None
    hidden: int = 0
    """How many spans must be written because the chip cannot show them."""


class _Progress:
    def __init__(self, transfer: Transfer, total: int) -> None:
        self.transfer = transfer
        self.total = total
        self.began_s = transfer.link.now()
        self.done = 0

    @property
    def seconds(self) -> float:
        return self.transfer.link.now() - self.began_s

    def event(self, size: int) -> StepAdvanced:
        self.done = min(self.total, self.done + size)
        return StepAdvanced("compare", self.done, self.total, "bytes", self.seconds)


Comparing = Generator[Event, None, _Outcome]


def compare_step(transfer: Transfer) -> Iterator[Event]:
    """Narrow the transfer's plan to what differs. Changes nothing on the chip."""
    plan = transfer.plan
    began = transfer.link.now()
    outcomes: list[tuple[MemoryPlan, _Outcome]] = []
    for memory_plan in plan.memories:
        try:
            outcome = yield from _compare(transfer, memory_plan)
        except ChipRefusal as refusal:  # then everything is written
            outcome = _Outcome(why=f"not compared: the chip refuses to be read ({refusal.said})")
        outcomes.append((memory_plan, outcome))
    differing = {plan.memory.name: out.differing for plan, out in outcomes if out.differing is not None}
    took = transfer.link.now() - began
    said = "; ".join(_in_words(transfer, memory_plan, outcome) for memory_plan, outcome in outcomes)
    if not differing:
        yield StepEnded("compare", "not reached", said, took, {"how": "none"})
        return
    transfer.whole = plan
    if any(differing.values()) and transfer.job.purpose == "upload" and not transfer.job.empties:
        transfer.session.held = noted(transfer.session, transfer.job.images.get("flash"))
    transfer.plan = narrowed(plan, transfer.job.dialect, transfer.job.options, differing)
    transfer.trusted = _trusted(outcomes)
    figures: dict[str, int | float | str] = {
        "how": ",".join(outcome.how or "none" for _, outcome in outcomes),
        "units": sum(outcome.rooms for _, outcome in outcomes),
        "differing": sum(len(outcome.differing or ()) for _, outcome in outcomes),
        "same_bytes": _same_bytes(outcomes),
        "seconds": round(took, 4),
    }
    yield StepEnded("compare", "green", said, took, figures)


def _trusted(outcomes: Sequence[tuple[MemoryPlan, _Outcome]]) -> Trusted | None:
    believed = [found for found in outcomes if found[1].how == "journal"]
    remembered = next((outcome.remembered for _, outcome in believed if outcome.remembered), None)
    if remembered is None:
        return None
    return Trusted(remembered, _same_bytes(believed), sum(outcome.bytes_seen for _, outcome in believed))


def _same_bytes(outcomes: Sequence[tuple[MemoryPlan, _Outcome]]) -> int:
    """How many bytes of the image are known to be there already."""
    return sum(
        plan.image.size_bytes - sum(room.size_bytes for room in outcome.differing)
        for plan, outcome in outcomes
        if outcome.differing is not None
    )


def _compare(transfer: Transfer, plan: MemoryPlan) -> Comparing:
    spec = transfer.job.dialect.spec
    rooms = rooms_of(plan, transfer.job.dialect.write_block(plan.memory))
    if plan.memory.is_flash and summing(transfer.dialect) is not None:
        return (yield from _by_checksum(transfer, plan, rooms))
    slow = spec.reads_slowly or not _reading_pays(transfer, plan, rooms)
    from_journal = transfer.job.options.compare is CompareWith.JOURNAL
    if transfer.job.options.settings.get("verify") == "whole" and slow:
        return _Outcome(why="not compared: all of it is written, and read back")
    journal = transfer.job.options.compare is not CompareWith.NO_JOURNAL
    if plan.memory.is_flash and journal and (from_journal or slow):
        outcome = yield from _by_journal(transfer, plan, rooms)
        if outcome.differing is not None:
            return outcome
        if from_journal:
            yield Noted("compare", outcome.why)
    if not spec.reads_slowly and not any(room.provable for room in rooms):
        return _Outcome(why="not compared: the chip cannot show where this lies")
    if slow:
        return _Outcome(why="not compared: reading is slower than writing here")
    if plan.whole_erase:  # one differing byte then costs a full write, and the reading on top
        return _Outcome(why="not compared: this bootloader erases all at once")
    if spec.erases_in_order and plan.memory.is_flash:
        return (yield from _up_to_a_difference(transfer, plan, rooms))
    return (yield from _by_reading(transfer, plan, rooms))


def _reading_pays(transfer: Transfer, plan: MemoryPlan, rooms: Sequence[Room]) -> bool:
    """Whether reading everything takes less time than erasing and writing everything."""
    part = transfer.part
    dialect = transfer.job.dialect
    spans = merged(span for room in rooms if room.provable for span in room.spans)
    if not spans:
        return False
    reading = dialect.cost_of_verify(part, plan.memory, spans)
    writing = dialect.cost_of_writes(part, plan.memory, plan.blocks)
    if plan.units:
        writing += dialect.cost_of_erase(plan.memory, plan.units)
    settings = transfer.link.settings
    return reading.seconds(settings, USUAL_TURNAROUND_S) < writing.seconds(settings, USUAL_TURNAROUND_S)


# --- by checksum


def _by_checksum(transfer: Transfer, plan: MemoryPlan, rooms: Sequence[Room]) -> Comparing:
    """Sum parts of what is to be written, then parts of those that differ, down to single spans."""
    hidden = [room for room in rooms if not room.provable]
    shown = [room for room in rooms if room.provable]
    outcome = _Outcome("checksum", len(rooms), hidden=len(hidden))
    progress = _Progress(transfer, sum(room.size_bytes for room in shown))
    if len(shown) >= _WORTH_PROBING:
        probes = (shown[0], shown[len(shown) // 2], shown[-1])
        if not any(_sums_equal(transfer, plan, [probe]) for probe in probes):
            outcome.looked_at, outcome.differing = len(probes), list(rooms)
            return outcome
    outcome.looked_at = len(shown)
    differing: list[Room] = []
    if shown:
        differing = yield from _narrowing(transfer, plan, shown, progress)
    if differing and transfer.dialect.doubt:
        return _Outcome(why=f"not known: {transfer.dialect.doubt}")
    outcome.differing = sorted([*differing, *hidden], key=lambda room: room.place.start)
    return outcome


def _narrowing(
    transfer: Transfer, plan: MemoryPlan, rooms: Sequence[Room], progress: _Progress
) -> Generator[Event, None, list[Room]]:
    """The spans that differ. Once more than half of the parts differ, they are not narrowed any further."""
    step = -(-len(rooms) // _PARTS)
    parts = [rooms[at : at + step] for at in range(0, len(rooms), step)]
    wrong = []
    for part in parts:
        if not _sums_equal(transfer, plan, part):
            wrong.append(part)
        yield progress.event(sum(room.size_bytes for room in part))
    if step == 1 or (len(wrong) * 2 > len(parts) and len(parts) > 2):
        return [room for part in wrong for room in part]
    found: list[Room] = []
    for part in wrong:
        found += yield from _narrowing(transfer, plan, part, progress)
    return found


def _sums_equal(transfer: Transfer, plan: MemoryPlan, rooms: Sequence[Room]) -> bool:
    return sums_equal(transfer, plan, merged(span for room in rooms for span in room.spans))


# --- by reading


def _by_reading(transfer: Transfer, plan: MemoryPlan, rooms: Sequence[Room]) -> Comparing:
    """Read for as long as it pays: after several differing spans in a row, the next are assumed to differ unread,
    more of them each time."""
    outcome = _Outcome("read", len(rooms))
    groups = _groups(rooms, min(_MOST_TOGETHER, transfer.dialect.read_block(plan.memory)))
    progress = _Progress(transfer, sum(room.size_bytes for room in rooms))
    differing: dict[int, Room] = {room.place.start: room for room in rooms if not room.provable}
    outcome.hidden = len(differing)
    at, in_a_row, leap = 0, 0, _FIRST_LEAP
    leapt = range(0)
    while at < len(groups):
        wrong = _differing_of(transfer, plan, groups[at], outcome)
        yield progress.event(sum(room.size_bytes for room in groups[at]))
        differing.update((room.place.start, room) for room in wrong)
        at += 1
        if len(wrong) < len(groups[at - 1]):
            for back in reversed(leapt):  # the difference may have ended within what was skipped
                wrong = _differing_of(transfer, plan, groups[back], outcome)
                for room in groups[back]:
                    differing.pop(room.place.start, None)
                differing.update((room.place.start, room) for room in wrong)
                yield progress.event(0)
                if wrong:
                    break
            in_a_row, leap, leapt = 0, _FIRST_LEAP, range(0)
            continue
        in_a_row += 1
        leapt = range(0)
        if in_a_row >= _DIFFER_IN_A_ROW:
            leapt = range(at, min(at + leap, len(groups)))
            for index in leapt:
                differing.update((room.place.start, room) for room in groups[index])
                yield progress.event(sum(room.size_bytes for room in groups[index]))
            at, leap = leapt.stop, leap * _LEAP_GROWS
    outcome.differing = [differing[start] for start in sorted(differing)]
    return outcome


_SPREAD = 8


def _up_to_a_difference(transfer: Transfer, plan: MemoryPlan, rooms: Sequence[Room]) -> Comparing:
    """For memories where one differing byte means writing everything: read places spread all over first, and stop at
    the first difference."""
    outcome = _Outcome("read", len(rooms), list(rooms))
    groups = _groups(rooms, transfer.dialect.read_block(plan.memory))
    outcome.hidden = sum(not room.provable for room in rooms)
    progress = _Progress(transfer, sum(room.size_bytes for room in rooms))
    first = range(0, len(groups), max(1, len(groups) // _SPREAD))
    for index in (*first, *(index for index in range(len(groups)) if index not in first)):
        group = groups[index]
        if _differing_of(transfer, plan, group, outcome):
            return outcome
        yield progress.event(sum(room.size_bytes for room in group))
    outcome.differing = list(rooms) if outcome.hidden else []
    return outcome


def _groups(rooms: Sequence[Room], block: int) -> list[list[Room]]:
    """Spans that the chip can show, grouped where they fit one reading."""
    groups: list[list[Room]] = []
    for room in rooms:
        if not room.provable:
            continue
        if (
            groups
            and _one_span(last := groups[-1], room)
            and sum(r.size_bytes for r in last) + room.size_bytes <= block
        ):
            last.append(room)
        else:
            groups.append([room])
    return groups


def _one_span(group: Sequence[Room], room: Room) -> bool:
    return (
        len(room.spans) == 1
        and all(len(r.spans) == 1 for r in group)
        and group[-1].spans[0].end == room.spans[0].start
    )


def _differing_of(transfer: Transfer, plan: MemoryPlan, group: Sequence[Room], outcome: _Outcome) -> list[Room]:
    """The spans of a group that differ, each read up to its first difference."""
    outcome.looked_at += len(group)
    spans = merged(span for room in group for span in room.spans)
    differing: dict[int, Room] = {}
    for place in _first_little(spans, transfer.dialect.read_block(plan.memory)):
        found = Piece(place.start, transfer.dialect.read(plan.memory, place.start, place.size))
        outcome.bytes_seen += place.size
        wanted = expected(plan, place)
        if found.data == wanted or _read_wrongly(transfer, plan, found, wanted):
            continue
        if len(group) == 1:
            return list(group)
        for room in (room for room in group if room.place.meets(place)):
            if found.part(room.place).data != expected(plan, room.place.shared(place)):
                differing[room.place.start] = room
    return list(differing.values())


def _read_wrongly(transfer: Transfer, plan: MemoryPlan, found: Piece, wanted: bytes) -> bool:
    """Whether a few bytes that differ are equal when they are read again: then the reading was damaged. Where nothing
    guards an address on its way to the chip, what is written though it is there already could go elsewhere, and would
    not be missed at its place."""
    differing = sum(one != other for one, other in zip(found.data, wanted, strict=True))
    if transfer.dialect.guards_writes or differing > _FEW:
        return False
    equal = transfer.dialect.read(plan.memory, found.address, len(wanted)) == wanted
    transfer.session.line_hurt = transfer.session.line_hurt or equal
    return equal


def _first_little(spans: Sequence[Span], block: int) -> Iterator[Span]:
    """Readings of the spans: of a large one only a beginning, which will usually show a difference."""
    first, *others = spans
    if first.size > 2 * _FIRST_LOOK:
        yield Span.of(first.start, _FIRST_LOOK)
        first = Span(first.start + _FIRST_LOOK, first.end)
    yield from pieces_of([first, *others], block)


# --- by the journal


def _by_journal(transfer: Transfer, plan: MemoryPlan, rooms: Sequence[Room]) -> Comparing:
    """What differs from what the journal says was written, if the chip's own number and a sample agree."""
    now = transfer.granules
    if not transfer.session.unique_id:
        return _Outcome(why="the journal is not trusted: this chip has no number of its own")
    remembered = transfer.session.remembered()
    if remembered is None or now is None:
        return _Outcome(why="the journal is not trusted: its last upload to this chip is not known, or was not green")
    whole_read = transfer.job.dialect.spec.reads_slowly
    differing: list[Room] = []
    same: list[Room] = []
    for room in rooms:
        agrees = all(now.same(remembered.granules, span.start, span.size) for span in room.spans)
        (same if agrees and (room.provable or whole_read) else differing).append(room)
    samples = _samples(transfer, plan, same, remembered.number)
    progress = _Progress(transfer, total(samples))
    for sample in samples:
        if not reads_equal(transfer, plan, [sample]):
            return _Outcome(
                why=f"journal {remembered.number} is not trusted: the chip holds something else at "
                f"{show_address(sample.start)}"
            )
        yield progress.event(sample.size)
    return _Outcome("journal", len(rooms), differing, len(rooms), progress.total, remembered=remembered)


def _samples(transfer: Transfer, plan: MemoryPlan, rooms: Sequence[Room], seed: int) -> list[Span]:
    """Places to read before the journal is trusted; different ones each time."""
    block = transfer.dialect.read_block(plan.memory)
    blocks = list(pieces_of((span for room in rooms for span in room.spans), block))
    most = _MOST_SLOW_SAMPLES if transfer.job.dialect.spec.reads_slowly else _MOST_SAMPLES
    wanted = min(len(blocks), max(_LEAST_SAMPLES, min(most, round(_SAMPLE_SHARE * len(blocks)))))
    return sorted(random.Random(seed).sample(blocks, wanted), key=lambda span: span.start)


# --- words


def _in_words(transfer: Transfer, plan: MemoryPlan, outcome: _Outcome) -> str:
    where = "" if plan.memory.is_flash else f"{plan.memory.name}: "
    if outcome.differing is None:
        return where + outcome.why
    unit = "page" if transfer.job.dialect.writes_whole_blocks(plan.memory) else "erase unit"
    number = len(outcome.differing)
    how = {
        "checksum": "the chip's own checksum",
        "read": "read back",
        "journal": f"journal {outcome.remembered.number if outcome.remembered else ''} and the chip's number agree, "
        f"a sample of {outcome.bytes_seen:,} bytes too",
    }[outcome.how]
    if not number:
        return f"{where}{how}: nothing differs"
    if transfer.job.dialect.spec.erases_in_order and plan.memory.is_flash:
        return f"{where}{how}: it differs, and all is written"
    seen, shown = outcome.looked_at, outcome.rooms - outcome.hidden
    if number == outcome.rooms:
        return (
            f"{where}{how}: all of it differs"
            if seen >= shown
            else f"{where}{how} in {count(seen, 'place')}: it differs"
        )
    if seen < shown:
        return f"{where}{how}, {seen:,} of {count(outcome.rooms, unit)}: {number:,} to write"
    said = f"{where}{how}: {number:,} of {count(outcome.rooms, unit)} {'differs' if number == 1 else 'differ'}"
    if outcome.hidden:
        said += (
            ", hidden by the boot ROM"
            if outcome.hidden == number
            else f", {outcome.hidden} of them hidden by the boot ROM"
        )
    return said


_AROUND = 512
"""Bytes that are read before and behind the place of the new image's version: the old one is rarely far from it."""
_SAMPLES = 3
"""Stretches that the journal's word is checked with."""


def held_version(session: Session, image: Image | None) -> Version | None:
    """By its text in the memory, in what was heard before the reset, or by the journal; None if nothing tells.
    `image` is the one that is to be written or compared, if there is one. Changes nothing; raises DialectError if the
    conversation breaks off."""
    remembered = session.remembered()
    text = version_text(image) if image is not None else None
    like = text.text if text is not None else remembered.version if remembered else ""
    heard = heard_in(session.notes.before + session.notes.answers, like)
    if heard is not None:
        return _with_row(heard, remembered)
    if text is not None and (read := _read_around(session, text.address, like)) is not None:
        return _with_row(read, remembered)
    if remembered is None:
        return None
    agreed = _agrees(session, remembered)
    if agreed is False:
        return None
    known = Version(
        number_in(remembered.version), remembered.version, remembered.image, remembered.at, remembered.number
    )
    return replace(known, known="journal" if agreed else "unchecked")


def _with_row(found: Version, remembered: Remembered | None) -> Version:
    """With the row of the journal that tells of the same version."""
    if remembered is None or remembered.version != found.text:
        return found
    return replace(found, image=remembered.image, at=remembered.at, journal=remembered.number)


def _may_read(session: Session) -> bool:
    spec = session.job.dialect.spec
    return spec.reads and not spec.reads_slowly and not spec.into_ram and not spec.shows_sums_only


def _read_around(session: Session, address: int, like: str) -> Version | None:
    flash = session.part.flash
    place = Span(max(flash.usable.start, address - _AROUND), min(flash.usable.end, address + len(like) + _AROUND))
    if not _may_read(session) or place.size <= 0 or not flash.usable.covers(place):
        return None
    return found_in(_read(session, place), like)


def _read(session: Session, place: Span) -> Iterator[Piece]:
    """In one piece, as the block size allows."""
    flash = session.part.flash
    data = b"".join(
        session.dialect.read(flash, block.start, block.size)
        for block in pieces_of([place], session.dialect.read_block(flash))
    )
    yield Piece(place.start, data)


def _agrees(session: Session, remembered: Remembered) -> bool | None:
    """Whether some stretches of the flash are as the journal has them; None if the chip cannot be read soon."""
    flash, granules = session.part.flash, remembered.granules
    places = [Span.of(address, granules.step) for address in sorted(granules.digests)]
    shown = [place for place in places if flash.usable.covers(place)]
    if not _may_read(session) or not shown:
        return None
    step = max(1, len(shown) // _SAMPLES)
    for place in shown[::step][:_SAMPLES]:
        held = Image("", tuple(_read(session, place)))
        if granules_of(held, flash.erased).digests.get(place.start) != granules.digests[place.start]:
            return False
    return True


def noted(session: Session, image: Image | None) -> Version | None:
    """The same, where it is only for information: a conversation that breaks off tells nothing."""
    try:
        return held_version(session, image)
    except DialectError:
        return None
