"""Backup, erase, lock and unlock: what is done to a chip without an image."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Sequence

from ..chips.part import Memory, Part
from ..dialects.abilities import LiftsWriteProtection, Locks, Unlocks
from ..dialects.errors import DialectError
from ..dialects.spec import Erasing
from ..errors import RefusedFault, WriteFault
from ..events import Event, Noted, Step, StepAdvanced, StepEnded
from ..image import Image, Piece, joined
from ..image.edit import cut_out, with_bytes
from ..link import ResetBy
from ..plan.checks import memory_named
from ..plan.layout import make_plan
from ..plan.model import Plan
from ..plan.write_options import WriteOptions
from ..quantities import count, show_size
from ..spans import Span, pieces_of, total
from .chip_state import ChipState
from .explain import enter
from .job import Job
from .repair import read_all
from .session import Figures, Meter, Session


def unknown_size(job: Job, reason: str, *tries: str) -> RefusedFault:
    """What cannot be done with a flash whose size nothing tells; and by what it can be said."""
    told_by = any(setting.name == "flash-size" for setting in job.dialect.spec.settings)
    name_it = "--set flash-size=SIZE" if told_by else "name the part with its size letter: --chip"
    return RefusedFault.of("flash-size-unknown", "the size of the flash is not known", (reason,), (name_it, *tries))


def region_of(job: Job, part: Part, whole: bool) -> tuple[Memory, Span]:
    """What the job is about; all of the memory, including the bootloader only if `whole`. Raises RefusedFault."""
    name, address, size = job.region
    memory = memory_named(part, name)
    room = memory.span if whole else memory.usable
    start = room.start if address is None else address
    if size is None and memory.is_flash and not part.size_known:
        raise unknown_size(job, "so where it ends is not known either", "--size")
    region = Span(start, room.end) if size is None else Span.of(start, size)
    if region.size <= 0 or not memory.span.covers(region):
        raise RefusedFault.of(
            "does-not-fit",
            "this chip has no such region",
            (
                f"asked for {Span.of(start, max(region.size, 1))}",
                f"the {name} is {memory.span} ({show_size(memory.size)})",
            ),
            ("check --from and --size",),
        )
    return memory, region


def blank_plan(job: Job, part: Part, stays: Piece | None = None) -> Plan:
    """The plan that makes the job's region blank, or finds that it is, except what must stay. Raises RefusedFault."""
    memory, region = region_of(job, part, whole=False)
    units = memory.units_of([region])
    span = Span(units[0].address, units[-1].end)
    if span != region and job.purpose == "erase":
        raise RefusedFault.of(
            "not-whole-units",
            "only whole erase units can be erased",
            (f"asked for {region}", f"the units there are {span}"),
            (f"--from {span.start:#x} --size {span.size:#x}",),
        )
    whole = region == memory.span and job.dialect.spec.erasing is Erasing.BY_UNIT and memory.is_flash
    image = Image("blank", (Piece(region.start, bytes([memory.erased]) * region.size),), None, "blank")
    if stays is not None and memory.is_flash and image.touches(stays.address, len(stays.data)):
        image = cut_out(with_bytes(image, stays.address, stays.data), region.start, region.end)
    # whether something is blank is never answered by a sample
    settings = {**job.options.settings, "verify": "whole"} if job.purpose == "verify" else job.options.settings
    options = WriteOptions(
        job.options.keep, erase_all=whole, verify=job.options.verify, settings=settings, blank=True
    )
    return make_plan(part, job.dialect, {memory.name: image}, options)


_PROVEN_AT_ONCE = 4096
_PARTS, _READ_AGAIN = 4, 3


def read_twice(
    session: Session, step: Step, memory: Memory, spans: Sequence[Span]
) -> Generator[Event, None, tuple[Piece, ...]]:
    """The bytes of the spans, read in two different ways: most dialects guard nothing on the way to us, and a single
    way may be wrong twice. Raises RefusedFault if the two keep differing."""
    meter, dialect = Meter(session.link), session.dialect
    rows: list[Piece] = []
    done = again = 0

    def advanced(more: int) -> StepAdvanced:
        nonlocal done
        done += more
        return StepAdvanced(step, done, 2 * total(spans), "bytes", meter.seconds)

    for place in pieces_of(spans, _PROVEN_AT_ONCE):
        data = b""
        for part in place.pieces(dialect.read_block(memory)):
            data += dialect.read(memory, part.start, part.size)
            yield advanced(part.size)
        rows.append(Piece(place.start, data))
    for index, row in enumerate(rows):
        if not dialect.confirm_reading(memory, row.address, row.data):
            again += 1
            rows[index] = _read_again(session, memory, row.span)
        yield advanced(row.span.size)
    if again:
        yield Noted(step, f"{count(again, 'block')} read again")
    return joined(rows)


def _read_again(session: Session, memory: Memory, place: Span) -> Piece:
    """Read in both ways again, in parts: on a bad line a short reading is more likely to be whole. Raises
    RefusedFault."""
    data = b""
    for part in pieces_of([place], max(session.dialect.read_block(memory), place.size // _PARTS)):
        for _ in range(_READ_AGAIN):
            own = read_all(session.dialect, memory, [part])
            if session.dialect.confirm_reading(memory, part.start, own):
                break
        else:
            raise _reads_differ(part)
        data += own
    return Piece(place.start, data)


def _reads_differ(place: Span) -> RefusedFault:
    return RefusedFault.of(
        "reads-differ",
        f"two ways of reading {place} differ, {1 + _READ_AGAIN} times",
        ("what was read is not trusted",),
        (
            "shorter wires, a lower --baud, and check ground",
            "if it happens again: this loader reads in another way than assumed",
        ),
    )


def read_step(session: Session) -> Iterator[Event]:
    """The bytes of the region, read in two different ways that must agree."""
    memory, region = region_of(session.job, session.part, whole=True)
    meter = Meter(session.link)
    shown = session.job.dialect.provable(session.part, memory, (region,), {"verify": "whole"})
    missing = shown.left_out.partition(":")[0]
    if not shown.spans:
        raise RefusedFault.of("hidden", "nothing of this can be read", (missing,), ("read from further up: --from",))
    session.backup = yield from read_twice(session, "read", memory, shown.spans)
    took, image = meter.seconds, Image("backup", session.backup)
    where = ", ".join(str(span) for span in shown.spans)
    said = f"{where}, {image.size_bytes:,} bytes, read in two ways and equal, crc32 {image.crc32():08X}"
    figures: Figures = {"bytes": image.size_bytes, "seconds": round(took, 4), "crc32": f"{image.crc32():08X}"}
    if missing:
        session.unproven.append("read")
        yield StepEnded("read", "unproven", f"{said}; {missing}, and are missing", took, figures)
        return
    yield StepEnded("read", "green", said, took, figures)


def lock_step(session: Session) -> Iterator[Event]:
    """Lock, enter again, and check that the chip refuses."""
    assert isinstance(session.dialect, Locks), "else the command was refused"
    with session.changing(ChipState.PROTECTING):
        said = session.dialect.lock(session.part)
    yield from _seen_anew(session, "lock", said, locked=True)


def unlock_step(session: Session) -> Iterator[Event]:
    """Unlock, enter again, and check that the chip no longer refuses."""
    if session.job.options.writes_only:
        yield from _lift_write_protection(session)
        return
    assert isinstance(session.dialect, Unlocks), "else the command was refused"
    with session.changing(ChipState.PROTECTING):
        said = session.dialect.unlock(session.part)
    yield from _seen_anew(session, "unlock", said, locked=False)


def _lift_write_protection(session: Session) -> Iterator[Event]:
    """The chip resets itself afterwards; only writing shows whether the units can be written again."""
    assert isinstance(session.dialect, LiftsWriteProtection), "else the command was refused"
    with session.changing(ChipState.PROTECTING):
        said = session.dialect.lift_write_protection()
    anew = "it answered again" if _locked_now(session) is not None else "it did not come back"
    session.unproven.append("unlock")
    yield StepEnded("unlock", "unproven", f"{said}; {anew}; that it can be written the next upload shows")


def _seen_anew(session: Session, step: str, said: str, locked: bool) -> Iterator[Event]:
    name: Step = "lock" if step == "lock" else "unlock"
    seen = _locked_now(session)
    if seen is None:
        session.unproven.append(name)
        yield StepEnded(name, "unproven", f"{said}; not seen again: greet shows whether it is locked")
        return
    if bool(seen) != locked:
        raise WriteFault.of(
            f"{step}-without-effect",
            f"the chip acknowledged and is {'still locked' if seen else 'not locked'}",
            (said, seen or "it can be read"),
            ("switch the supply off and on: some parts load their option bytes only then",),
        )
    yield StepEnded(name, "green", f"{said}; entered again, {seen or 'it can be read'}")


def _locked_now(session: Session) -> str | None:
    """The refusal of a locked chip, empty if it does not refuse; None if it cannot be asked."""
    spec = session.job.dialect.spec
    for attempt in spec.asking.attempts:
        if session.reset_by is ResetBy.LINES:
            enter(session)
        session.link.sleep(attempt.settle_s)
        for _ in range(attempt.asks):
            if session.dialect.ask(spec.asking.wait_s) is not None:
                try:
                    session.dialect.identify()
                    return session.dialect.examine(session.part).locked
                except DialectError:
                    return None
    return None
