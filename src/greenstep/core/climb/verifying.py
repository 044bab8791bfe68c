"""The step that proves what the chip holds: verify."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from ..dialects.errors import Unexpected
from ..dialects.results import WriteBlock
from ..errors import Finding, VerifyFault
from ..events import Event, Noted, StepAdvanced, StepEnded
from ..frozen import changing
from ..plan import MemoryPlan, Plan
from ..quantities import count
from ..spans import Span, merged, pieces_of, total
from .chip_state import ChipState
from .evidence import explain
from .fastest import Watch
from .held import noted
from .meter import Meter
from .overrun import refuse_overrun
from .proof import expected, sums_equal
from .reading_back import Comparison
from .repairing import can_write_again, worth_all_again, write_all_again, write_differing
from .strays import refuse_strays
from .transfer import Transfer
from .write_protection import refuse_protected

TOO_WEAK = "the line damages characters, and a sum of 8 bits misses one damage in 256: mend the line, upload again"
_SMALL_SPAN, _SPANS_READ = 1024, 4  # bytes, spans: what is read back after a checksum showed a difference


def verify_step(transfer: Transfer) -> Iterator[Event]:
    """Every byte of every image, by the chip's own checksum where it offers one, else read back; and the loader hears
    that it is complete."""
    for event in _verified(transfer):
        image = transfer.written.get("flash")
        if isinstance(event, StepEnded) and transfer.job.purpose == "upload" and image is not None:
            said = transfer.dialect.conclude(transfer.part, image)
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
    elif not transfer.job.wishes.verify:
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
        repairs = plan if transfer.job.wishes.keep or transfer.kept else transfer.whole
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
    if transfer.dialect.can_checksum() and sums_equal(transfer, memory_plan, checks):
        tally.done += total(checks)
        yield StepAdvanced("verify", tally.done, tally.total, "bytes", meter.seconds)
        return
    if transfer.job.dialect.spec.shows_sums_only:
        if transfer.dialect.doubt:
            return
        _refuse_sum(transfer)
    tally.summed = False
    narrows = transfer.job.dialect.spec.reads_slowly and transfer.dialect.can_checksum()
    spans = _differing(transfer, memory_plan, checks) if narrows else checks
    before = tally.done
    watch = Watch(transfer.session)
    missed: list[WriteBlock] = []
    for again in (False, True):
        comparison, tally.done = Comparison(missed=missed), before
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
        refuse_strays(transfer, memory_plan, missed)
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
        transfer.dialect.sums_seen(),
        ("upload it again", "is this the file that you mean?"),
    )


def _worth_repairing(transfer: Transfer, tally: _Tally) -> bool:
    """Whether a difference may come from damage on the way: the line was disturbed in this upload. Once only."""
    hurt = transfer.session.line_hurt or tally.hurt or transfer.dialect.disturbed
    return transfer.job.purpose == "upload" and bool(hurt) and not tally.repaired and can_write_again(transfer)


def _differing(transfer: Transfer, plan: MemoryPlan, checks: Sequence[Span]) -> list[Span]:
    """The spans whose checksums differ, halved again and again until little is left to read."""
    left = list(checks)
    small: list[Span] = []
    while left and len(small) < _SPANS_READ:
        span = left.pop(0)
        if transfer.dialect.checksum_equals(plan.memory, span.start, expected(plan, span)):
            continue
        if span.size <= _SMALL_SPAN:
            small.append(span)
            continue
        half = span.start + (span.size // 2 + _SMALL_SPAN - 1) // _SMALL_SPAN * _SMALL_SPAN
        left[:0] = [Span(span.start, half), Span(half, span.end)]
    return small or list(checks)
