"""The step that proves what the chip holds: by the chip's own sums, or read back block by block. Differences are
explained: erase units that acknowledge everything and stay as they were are protected, and a block whose address was
damaged on its way has gone elsewhere."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import field, replace

from ..chips.part import EraseUnit, Memory
from ..dialects.abilities import Checksums, LiftsWriteProtection, Seals, TellsSums, summing
from ..dialects.errors import ChipRefusal, Unexpected
from ..dialects.results import WriteBlock
from ..dialects.spec import Erasing
from ..errors import Finding, VerifyFault
from ..events import Event, Noted, StepAdvanced, StepEnded
from ..findings.observations import Difference
from ..frozen import changing
from ..plan.model import MemoryPlan, Plan
from ..quantities import count, show_address, show_bytes
from ..spans import Span, merged, pieces_of, shared, total, without
from .chip_state import ChipState
from .compare import noted
from .explain import explain
from .fastest_rate import Watch
from .preserve import refuse_overrun
from .repair import (
    can_write_again,
    erase_and_write,
    expected,
    read_all,
    reads_equal,
    sums_equal,
    worth_all_again,
    write_all_again,
    write_differing,
    writing_again,
)
from .session import Meter, Transfer

# Why verify is more than comparing
# ---------------------------------
# It reads what was sent, all of it, with what the dialect filled blocks up with, at the addresses it was
# meant for. If that is equal, the step is green. If not, a person needs to know which of several things
# happened, as the remedies differ: the reading was damaged (read again), a block was lost or damaged on its
# way (write that unit again), the unit is protected and acknowledges without doing anything, a block's
# address was damaged and it went elsewhere (look for it: what it overwrote must be repaired as well), or the
# unit is written again and differs again: worn cells.
#
# Sums need care. A sum of 8 bits misses one damage in 256, so on a line that has shown damage it proves
# nothing. A loader that answers a sum it has not computed has happened: where a dialect doubts it
# (`Dialect.doubt`), the step stays unproven and says so, instead of green.
TOO_WEAK = "the line damages characters, and a sum of 8 bits misses one damage in 256: mend the line, upload again"
_SMALL_SPAN, _SPANS_READ = 1024, 4  # bytes, spans: what is read back after a checksum showed a difference


def verify_step(transfer: Transfer) -> Iterator[Event]:
    """Every byte of every image, by the chip's own checksum where it offers one, else read back; and the loader hears
    that it is complete."""
    for event in _verified(transfer):
        image, dialect = transfer.written.get("flash"), transfer.dialect
        uploaded = isinstance(event, StepEnded) and transfer.job.purpose == "upload"
        if uploaded and image is not None and isinstance(dialect, Seals):
            said = dialect.seal(transfer.part, image)
            if said:
                yield Noted("verify", said)
        yield event


def _verified(transfer: Transfer) -> Iterator[Event]:
    session = transfer.session
    changed = session.state is not ChipState.UNTOUCHED
    if changed:
        session.move_to(ChipState.WRITTEN)
    if not transfer.job.dialect.spec.reads:
        if transfer.dialect.guards_weakly and (session.line_hurt or transfer.dialect.retries):
            session.unproven.append("verify")
            yield StepEnded("verify", "unproven", TOO_WEAK)
            return
        if transfer.dialect.doubt:
            session.unproven.append("verify")
            yield StepEnded("verify", "unproven", transfer.dialect.doubt)
            return
        yield StepEnded("verify", "green", transfer.dialect.proof)
    elif not transfer.job.options.verify:
        session.unproven.append("verify")
        if session.aside is not None:
            yield Noted("verify", f"what was to be kept is also in {session.aside.name}: it is not proven to be back")
        yield StepEnded("verify", "unproven", "not asked for: written, and not proven")
        return
    else:
        yield from _proven(transfer, transfer.plan)
    if session.state is ChipState.WRITTEN:
        session.move_to(ChipState.VERIFIED)


def _proven(transfer: Transfer, plan: Plan) -> Iterator[Event]:
    meter = Meter(transfer.link)
    filled = sum(total(transfer.fills_of(memory)) for memory in plan.memories)
    tally = _Tally(sum(memory.check_bytes for memory in plan.memories) + filled, filled)
    compared = sum(total(memory.compared) for memory in plan.memories)
    if not tally.total + compared:
        transfer.session.unproven.append("verify")
        said = "; ".join(_left_out(transfer, memory) for memory in plan.memories)
        yield StepEnded("verify", "unproven", said)
        return
    for memory_plan in plan.memories:
        yield from _prove(transfer, memory_plan, transfer.proofs_of(memory_plan), tally, meter)
    if compared and transfer.whole is not None and (transfer.session.line_hurt or tally.hurt):
        # the damaged bytes may have been an address: then a block went elsewhere
        yield Noted("verify", "bytes were damaged on the line: what was compared before is checked again")
        tally.total, compared, transfer.trusted = tally.total + compared, 0, None
        # with bytes to keep beside it, a difference is reported and not written again
        repairs = plan if transfer.job.options.keep or transfer.kept else transfer.whole
        for memory_plan, whole in zip(plan.memories, repairs.memories, strict=True):
            yield from _prove(transfer, whole, memory_plan.compared, tally, meter)
    refuse_overrun(transfer)
    if transfer.dialect.doubt and (tally.done < tally.total or transfer.job.dialect.spec.shows_sums_only):
        transfer.session.unproven.append("verify")
        transfer.session.partly = transfer.dialect.shown
        yield StepEnded("verify", "unproven", transfer.dialect.doubt)
        return
    if tally.reread:
        yield Noted("verify", f"{count(tally.reread, 'block')} read twice, the first time with a damaged byte")
    if tally.rewritten:
        yield Noted("verify", f"{count(tally.rewritten, 'page')} written again: damaged on the way to the chip")
    if transfer.session.aside is not None:
        transfer.session.aside.drop()
        transfer.session.aside = None
    sampled = sum(memory.sample_of for memory in plan.memories)
    said = _what_is_proven(transfer, tally, compared, sampled)
    figures = meter.figures(tally.total, tally.blocks)
    unseen = "; ".join(_left_out(transfer, plan) for plan in plan.memories if plan.left_out)
    if unseen or transfer.trusted is not None:
        transfer.session.partly = "a sample of it" if sampled or transfer.trusted else "what it can show of it"
        transfer.session.unproven.append("verify")
        said = f"{said}; {unseen}" if unseen and transfer.trusted is None else said
        yield StepEnded("verify", "unproven", said, meter.seconds, figures)
        return
    yield StepEnded("verify", "green", said, meter.seconds, figures)


def _left_out(transfer: Transfer, plan: MemoryPlan) -> str:
    """What cannot be shown and why; after the colon, what was seen instead, only if something was written."""
    return plan.left_out if transfer.job.purpose == "upload" else plan.left_out.partition(":")[0]


def _what_is_proven(transfer: Transfer, tally: _Tally, compared: int, sampled: int) -> str:
    how = "the chip's own checksum" if tally.summed else "read back"
    equal = _blank_words(transfer) if transfer.job.empties and not transfer.kept else "equal"
    own = tally.total - tally.filled
    what = f"a sample, {own:,} of {sampled:,} bytes" if sampled else count(own, "byte")
    filled = f", {tally.filled:,} of fill too" if tally.filled else ""
    if transfer.trusted is not None:
        written = f"{count(own, 'byte')} written, {how} and equal{filled}; " if tally.total else ""
        trusted = transfer.trusted
        seen = f"{trusted.sampled_bytes:,} of {'the other ' if own else ''}{trusted.size_bytes:,} seen"
        return f"sampled: {written}{seen}; the rest by journal {trusted.remembered.number}"
    if not tally.total:
        return f"compared before, {count(compared, 'byte')} equal"
    return f"{how}, {what} {equal}{filled}" + (f"; compared before, {compared:,}" if compared else "")


def _blank_words(transfer: Transfer) -> str:
    """What the loader needs stays, and is proven to be there."""
    emptied = ((plan.memory.erased, piece.data) for plan in transfer.plan.memories for piece in plan.image.pieces)
    all_blank = all(not data.strip(bytes([erased])) for erased, data in emptied)
    return "blank" if all_blank else "blank but for the jump to the bootloader"


@changing
class _Tally:
    """The result so far: bytes to prove (`filled` of them fill pages and blocks) and proven, blocks read, and whether
    checksums alone were enough."""

    total: int
    filled: int = 0
    done: int = 0
    blocks: int = 0
    reread: int = 0
    rewritten: int = 0
    summed: bool = True
    repaired: bool = False

    @property
    def hurt(self) -> bool:
        return bool(self.reread or self.rewritten)


def _prove(
    transfer: Transfer, memory_plan: MemoryPlan, checks: Sequence[Span], tally: _Tally, meter: Meter
) -> Iterator[Event]:
    """Prove every byte of the spans. Raises VerifyFault."""
    if not checks:
        return
    if summing(transfer.dialect) is not None and sums_equal(transfer, memory_plan, checks):
        tally.done += total(checks)
        yield StepAdvanced("verify", tally.done, tally.total, "bytes", meter.seconds)
        return
    if transfer.job.dialect.spec.shows_sums_only:
        if transfer.dialect.doubt:
            return
        _refuse_sum(transfer)
    tally.summed = False
    narrows = transfer.job.dialect.spec.reads_slowly and summing(transfer.dialect) is not None
    spans = _differing(transfer, memory_plan, checks) if narrows else checks
    before = tally.done
    watch = Watch(transfer.session)
    missed: list[WriteBlock] = []
    for again in (False, True):
        comparison, tally.done = Verification(missed=missed), before
        for place in pieces_of(spans, transfer.dialect.read_block(memory_plan.memory)):
            comparison.take(transfer, memory_plan, place)
            tally.done += place.size
            tally.blocks += 1
            yield StepAdvanced("verify", tally.done, tally.total, "bytes", meter.seconds)
            watch.see()
            if comparison.enough:
                break
        if again or comparison.first_wrong is None or not worth_all_again(transfer):
            break
        yield Noted("verify", "damaged on the way to the chip: erased and written a second time")
        write_all_again(transfer)
    if comparison.first_wrong is None:
        if narrows and not sums_equal(transfer, memory_plan, checks):
            raise Unexpected("checksum that fits what the chip shows", bytes(comparison.found[:8]))
        check_misplaced_blocks(transfer, memory_plan, missed)
    tally.reread += comparison.reread
    tally.rewritten += comparison.rewritten
    if comparison.first_wrong is None:
        return
    if _worth_repairing(transfer, tally):
        tally.repaired = True
        yield from write_differing(transfer, memory_plan)
        # what was proven before may have read wrongly by now, and been written again too
        every = merged([*checks, *transfer.proofs_of(memory_plan)])
        tally.done = before - (total(every) - total(checks))
        yield from _prove(transfer, memory_plan, every, tally, meter)
        return
    if transfer.session.state is ChipState.WRITTEN:
        transfer.session.move_to(ChipState.DIFFERS)
    if transfer.job.purpose != "verify":
        refuse_protected(transfer, memory_plan)
    difference = comparison.difference(transfer, memory_plan, comparison.first_wrong)
    raise VerifyFault(*_with_version(transfer, explain(transfer.session, "verify", difference=difference)))


def _with_version(transfer: Transfer, findings: tuple[Finding, ...]) -> tuple[Finding, ...]:
    """Where another image is there: which, if that can be told."""
    first, *others = findings
    if first.key != "other-image" or transfer.job.empties:
        return findings
    held = transfer.session.held = noted(transfer.session, transfer.job.images.get("flash"))
    if held is None or not held.name:
        return findings
    cause = f"{first.cause}: {held.name}" + (f", journal {held.journal}" if held.journal else "")
    return replace(first, cause=cause, evidence=(f"it holds {held.words}", *first.evidence)), *others


def _refuse_sum(transfer: Transfer) -> None:
    """Raises VerifyFault: the chip told another sum, and shows nothing else."""
    if transfer.session.state is ChipState.WRITTEN:
        transfer.session.move_to(ChipState.DIFFERS)
    raise VerifyFault.of(
        "other-image",
        "the chip holds another image",
        transfer.dialect.sums_seen() if isinstance(transfer.dialect, TellsSums) else (),
        ("upload it again", "is this the file that you mean?"),
    )


def _worth_repairing(transfer: Transfer, tally: _Tally) -> bool:
    """Whether a difference may come from damage on the way: the line was disturbed in this upload. Once only."""
    hurt = transfer.session.line_hurt or tally.hurt or transfer.dialect.disturbed
    return transfer.job.purpose == "upload" and bool(hurt) and not tally.repaired and can_write_again(transfer)


def _differing(transfer: Transfer, plan: MemoryPlan, checks: Sequence[Span]) -> list[Span]:
    """The spans whose checksums differ, halved again and again until little is left to read."""
    sums, left = transfer.dialect, list(checks)
    assert isinstance(sums, Checksums), "else all is read"
    small: list[Span] = []
    while left and len(small) < _SPANS_READ:
        span = left.pop(0)
        if sums.checksum_equals(plan.memory, span.start, expected(plan, span)):
            continue
        if span.size <= _SMALL_SPAN:
            small.append(span)
            continue
        half = span.start + (span.size // 2 + _SMALL_SPAN - 1) // _SMALL_SPAN * _SMALL_SPAN
        left[:0] = [Span(span.start, half), Span(half, span.end)]
    return small or list(checks)


_PAGES_WRITTEN_AGAIN = 2
_BLOCKS_AFTER_FIRST = 64
"""Blocks to read after the first difference: enough to see a pattern."""


@changing
class Verification:
    """Reading back, block by block. `missed` are blocks of which more than one byte was missing at its place."""

    expected: bytearray = field(default_factory=bytearray)
    found: bytearray = field(default_factory=bytearray)
    blocks: list[tuple[int, int]] = field(default_factory=list)
    first_wrong: int | None = None
    after_first: int = 0
    reread: int = 0
    rewritten: int = 0
    missed: list[WriteBlock] = field(default_factory=list)
    reads_differ: bool = False

    @property
    def enough(self) -> bool:
        return self.after_first > _BLOCKS_AFTER_FIRST

    def take(self, transfer: Transfer, plan: MemoryPlan, place: Span) -> None:
        """Read a block and compare it."""
        wanted, found = expected(plan, place), _read(transfer, plan, place)
        if self.first_wrong is not None:
            self.after_first += 1
        elif found != wanted:
            found = self._look_again(transfer, plan, place, found)
            if found != wanted:
                self.first_wrong = place.start + _first_difference(wanted, found)
        self.blocks.append((len(self.expected), place.size))
        self.expected += wanted
        self.found += found

    def _look_again(self, transfer: Transfer, plan: MemoryPlan, place: Span, found: bytes) -> bytes:
        """Read again a block that was wrong once; write it again if that may help."""
        wanted, again = expected(plan, place), _read(transfer, plan, place)
        if again == wanted:  # nothing guards these bytes on the line: the second reading is as good as the first
            self.reread += 1
            return again
        self.reads_differ = again != found
        if sum(a != b for a, b in zip(again, wanted, strict=True)) > 1:
            self.missed += [block for block in plan.blocks if block.span.meets(place)]
        if not self.reads_differ and self._write_again(transfer, plan, place):
            return _read(transfer, plan, place)
        sums = summing(transfer.dialect)
        if sums is not None and place == place.aligned(sums.checksum_unit(plan.memory)):
            # else what was read is not what is there
            self.reads_differ |= not sums.checksum_equals(plan.memory, place.start, again)
        return again

    def _write_again(self, transfer: Transfer, plan: MemoryPlan, place: Span) -> bool:
        """If nothing guards a block on its way to the chip, a second write is worth it, after another erase where
        that is a step of its own. Only a few times: what fails often is no accident."""
        way = transfer.job.dialect.spec.erasing
        if transfer.job.purpose != "upload" or transfer.dialect.guards_writes or way is Erasing.ALL_AT_ONCE:
            return False
        if self.rewritten == _PAGES_WRITTEN_AGAIN:
            return False
        self.rewritten += 1
        room = place
        units: list[EraseUnit] = []
        if way is Erasing.BY_UNIT and plan.memory.is_flash:
            wrong = place.start + _first_difference(expected(plan, place), _read(transfer, plan, place))
            units = plan.memory.units_touched(wrong, 1)
            room = units[0].span
        touched = [block for block in plan.blocks if block.span.meets(room)]
        blocks = [block.part(room) for block in touched] if way is Erasing.BY_UNIT else touched
        with writing_again(transfer.session):
            erase_and_write(transfer.dialect, plan.memory, units, blocks)
        # what was compared before, and is written again now, must still be right
        return reads_equal(transfer, plan, shared(plan.checks, [Span(room.start, place.start)]))

    def difference(self, transfer: Transfer, plan: MemoryPlan, first_wrong: int) -> Difference:
        """What was read, for the findings."""
        return Difference(
            first_wrong,
            bytes(self.expected),
            bytes(self.found),
            plan.memory.erased,
            () if self.enough else tuple(self.blocks),
            transfer.before if plan is transfer.plan.memories[0] else b"",
            self.reads_differ,
            transfer.dialect.guards_writes,
            transfer.job.purpose == "upload",
            transfer.job.empties,
        )


def _read(transfer: Transfer, plan: MemoryPlan, place: Span) -> bytes:
    return transfer.dialect.read(plan.memory, place.start, place.size)


def _first_difference(wanted: bytes, found: bytes) -> int:
    """Where the first byte differs; 0 if none does."""
    return next((at for at, (a, b) in enumerate(zip(wanted, found, strict=True)) if a != b), 0)


def check_misplaced_blocks(transfer: Transfer, plan: MemoryPlan, missed: Sequence[WriteBlock]) -> None:
    """`missed` are blocks of which more than one byte was missing at its place. Raises VerifyFault if one of them is
    found elsewhere, or may be there."""
    if not missed or transfer.dialect.guards_writes or transfer.job.purpose != "upload":
        return
    memory, blank = plan.memory, bytes([plan.memory.erased])
    first = missed[0]
    unseen = next((block for block in missed if not block.data.strip(blank)), None)
    if not memory.is_flash or unseen is not None:  # what the same bytes would look like elsewhere
        lost = unseen or first
        raise _stray(lost, memory, "", f"the {memory.name} beside the image may have changed")
    for other, address, data in _beside(transfer, plan):
        at = next((at for block in missed if (at := data.find(block.data)) >= 0), -1)
        if at >= 0:
            where = f"{show_address(address + at)} of the {other.name}"
            raise _stray(first, memory, where, f"what was at {where} is gone")


def _beside(transfer: Transfer, plan: MemoryPlan) -> Iterator[tuple[Memory, int, bytes]]:
    """(memory, address, bytes) of everything outside the image's erase units, as far as it can be read."""
    flash, dialect = plan.memory, transfer.dialect
    own = flash.units_of(piece.span for piece in plan.image.pieces)
    for gap in without([flash.usable], (unit.span for unit in own)):
        yield flash, gap.start, read_all(dialect, flash, [gap])
    for memory in transfer.part.memories:
        if not memory.is_flash and not dialect.why_not_writable(memory):
            try:
                yield memory, memory.start, read_all(dialect, memory, [memory.span])
            except ChipRefusal:  # a loader that cannot write the EEPROM put nothing there
                continue


def _stray(block: WriteBlock, memory: Memory, where: str, lost: str) -> VerifyFault:
    return VerifyFault.of(
        "written-beside",
        f"an address was damaged on the line: {lost}",
        (
            f"the block for {block.span} of the {memory.name} was not there, though it was acknowledged",
            f"it stands at {where}" if where else "where it went cannot be told",
        ),
        (
            "upload again; put back what was beside it, if you have it",
            "shorter wires, a lower --baud, and check ground",
        ),
        "certain" if where else "likely",
    )


_SHOWN, _LOOKED_AT = 4, 4096


def refuse_protected(transfer: Transfer, plan: MemoryPlan) -> None:
    """After a verify found differences: check for write-protected units. Raises VerifyFault that names them."""
    if not isinstance(transfer.dialect, LiftsWriteProtection) or not plan.memory.is_flash:
        return
    found = [unit for unit in _written(plan) if _stays(transfer, plan, unit)]
    if not found:
        return
    spans = ", ".join(str(unit.span) for unit in found[:_SHOWN])
    more = f" and {len(found) - _SHOWN} more" if len(found) > _SHOWN else ""
    head = transfer.dialect.read(plan.memory, found[0].address, 8)
    is_, its = ("is", "its") if len(found) == 1 else ("are", "their")
    raise VerifyFault.of(
        "write-protected",
        f"{count(len(found), 'unit')} {is_} write-protected: {spans}{more}",
        (
            f"erase and write are acknowledged, and {its} content stays",
            f"erased once more, {Span.of(found[0].address, 8)} still holds {show_bytes(head)}",
        ),
        (
            "greenstep unlock --writes lifts the write protection; it resets the chip and erases nothing",
            "or build the program for other units",
        ),
        "certain",
    )


def _written(plan: MemoryPlan) -> tuple[EraseUnit, ...]:
    return plan.units or plan.memory.units_of(piece.span for piece in plan.image.pieces)


def _stays(transfer: Transfer, plan: MemoryPlan, unit: EraseUnit) -> bool:
    """Whether a unit that differs from the image still does after another erase."""
    memory = plan.memory
    before = _content(transfer, plan, unit)
    wanted = plan.image.cut(unit.address, len(before), memory.erased)
    if not before.strip(bytes([memory.erased])) or _was_written(before, wanted, memory.erased):
        return False
    for _ in transfer.dialect.erase(memory, [unit]):
        pass
    return _content(transfer, plan, unit) == before


def _was_written(found: bytes, wanted: bytes, erased: int) -> bool:
    """Whether every bit that programming moves away from blank has moved: then writing had an effect."""
    return all(not (a ^ erased) & ~(b ^ erased) & 0xFF for a, b in zip(wanted, found, strict=True))


def _content(transfer: Transfer, plan: MemoryPlan, unit: EraseUnit) -> bytes:
    """What a unit holds; of a large one, its beginning."""
    return read_all(transfer.dialect, plan.memory, [Span.of(unit.address, min(unit.size, _LOOKED_AT))])
