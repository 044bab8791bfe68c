"""The rungs that change the chip and prove it: erase, write, verify."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import field

from ..dialects.base import Unexpected, WriteBlock
from ..errors import VerifyFault
from ..events import Event, Noted, StepAdvanced, StepEnded
from ..findings import Difference, Progress, diagnose
from ..frozen import changing
from ..plan import MemoryPlan, Plan, check_blocks
from ..quantities import count, show_size
from .evidence import observe
from .keeping import save_beside
from .overrun import look_behind, refuse_overrun
from .proof import sums_equal
from .repairing import can_write_again, worth_all_again, write_all_again, write_differing
from .scene import Scene
from .strays import refuse_strays
from .write_protection import refuse_protected

_PAGES_WRITTEN_AGAIN = 2
_SMALL_SPAN, _SPANS_READ = 1024, 4  # bytes, spans: what is read back where a checksum said that something differs
_BLOCKS_AFTER_FIRST_DIFFERENCE = 64  # enough to see a pattern


def erase_step(scene: Scene) -> Iterator[Event]:
    began = scene.wire.now()
    yield from save_beside(scene, "erase")
    look_behind(scene)
    _, plan = scene.ground
    done, total = 0, plan.units
    size = 0
    if scene.kept and scene.job.purpose == "erase":
        yield from _erase_by_writing(scene, plan)
        return
    if not total and not any(memory.whole_erase for memory in plan.memories):
        yield StepEnded("erase", "green", "nothing to erase", 0.0, {"units": 0, "bytes": 0, "seconds": 0.0})
        return
    scene.changed = "erase"
    for memory_plan in plan.memories:
        memory = memory_plan.memory
        if memory_plan.whole_erase:
            scene.talk.erase_all(memory)
            size += memory.size - memory.reserved_top - memory.reserved_bottom
            continue
        if not memory_plan.units:
            continue
        for erased in scene.talk.erase(memory, memory_plan.units):
            scene.erased_units = done + erased
            yield StepAdvanced("erase", done + erased, total, "units", scene.wire.now() - began)
        done += len(memory_plan.units)
        size += sum(unit.size for unit in memory_plan.units)
        if scene.job.purpose == "erase":  # what must stand there all the same
            for _ in scene.talk.write(memory_plan.memory, memory_plan.blocks):
                pass
    took = scene.wire.now() - began
    what = "all that is free" if plan.memories[0].memory.reserved_top else "the whole flash"
    if not plan.memories[0].whole_erase:
        what = count(total, "unit")
    figures: dict[str, int | float | str] = {"units": total, "bytes": size, "seconds": round(took, 4)}
    yield StepEnded("erase", "green", f"{what}, {show_size(size)}, acknowledged", took, figures)


def _erase_by_writing(scene: Scene, plan: Plan) -> Iterator[Event]:
    """Where more is erased than is asked for: blanks, and beside them what was there."""
    began, done = scene.wire.now(), 0
    scene.changed = "erase"
    for memory_plan in plan.memories:
        for block in scene.talk.write(memory_plan.memory, memory_plan.blocks):
            done += len(block.data)
            yield StepAdvanced("erase", done, plan.write_bytes, "bytes", scene.wire.now() - began)
    took = scene.wire.now() - began
    size = sum(len(piece.data) for memory in plan.memories for piece in memory.image.pieces)
    figures: dict[str, int | float | str] = {"units": 0, "bytes": size, "seconds": round(took, 4)}
    yield StepEnded("erase", "green", f"{show_size(size)} written, blank but for what was kept", took, figures)


class _Meter:
    """Time and characters of one step."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        self.began_s = scene.wire.now()
        self.characters = self._moved

    @property
    def _moved(self) -> int:
        return self.scene.wire.sent_total + self.scene.wire.heard_total

    @property
    def seconds(self) -> float:
        return self.scene.wire.now() - self.began_s

    def figures(self, size: int, blocks: int) -> dict[str, int | float | str]:
        """Bytes, blocks, seconds, bytes a second, and the share of the time in which the line moved bits."""
        seconds = max(self.seconds, 1e-9)
        line_s = self.scene.wire.settings.seconds(self._moved - self.characters)
        return {
            "bytes": size,
            "blocks": blocks,
            "seconds": round(seconds, 4),
            "bytes_per_second": round(size / seconds),
            "line_percent": min(100, round(100 * line_s / seconds)),
        }


def write_step(scene: Scene) -> Iterator[Event]:
    if "erase" not in scene.job.steps:
        yield from save_beside(scene, "write")
    look_behind(scene)
    _, plan = scene.ground
    meter = _Meter(scene)
    total = plan.write_bytes
    done = blocks = 0
    if not total:
        yield StepEnded("write", "green", "nothing to write", 0.0, meter.figures(0, 0))
        return
    traits = scene.job.dialect.traits
    if traits.erases == "inside write" and traits.reads and not traits.reads_slowly:
        scene.before = _sample(scene)
    scene.changed = "write"
    scene.progress = Progress(0, total, plan.memories[0].memory.start)
    retries = scene.talk.retries
    for memory_plan in plan.memories:
        for block in scene.talk.write(memory_plan.memory, memory_plan.blocks):
            done += len(block.data)
            blocks += 1
            scene.progress = Progress(done, total, block.address)
            yield StepAdvanced("write", done, total, "bytes", meter.seconds)
    repeated = scene.talk.retries - retries
    if repeated:
        scene.line_hurt = True
        yield Noted("write", f"{count(repeated, 'exchange')} repeated")
    unit = "page" if scene.job.dialect.writes_whole_blocks(plan.memories[0].memory) else "block"
    what = scene.talk.blocks_sent() or _blocks(plan.memories, unit)
    yield StepEnded("write", "green", what, meter.seconds, meter.figures(total, blocks))


def _blocks(memories: tuple[MemoryPlan, ...], unit: str) -> str:
    parts = []
    for plan in memories:
        sizes = {len(block.data) for block in plan.blocks}
        largest = max(sizes, default=0)
        of = f" of {largest}" if len(sizes) == 1 else f" of up to {largest}" if sizes else ""
        where = "" if plan.memory.name == "flash" else f" to {plan.memory.name}"
        parts.append(f"{count(len(plan.blocks), unit)}{of}{where}")
    return ", ".join(parts)


def _sample(scene: Scene) -> bytes:
    """What the first bytes to be checked hold before anything is written, to tell writing without effect."""
    _, plan = scene.ground
    memory_plan = plan.memories[0]
    first = next(iter(check_blocks(memory_plan.checks, scene.talk.read_block(memory_plan.memory))), None)
    return scene.talk.read(memory_plan.memory, *first) if first else b""


def verify_step(scene: Scene) -> Iterator[Event]:
    """Every byte of every image, by the chip's own checksum where it offers one, else read back."""
    _, plan = scene.ground
    if scene.job.purpose in ("upload", "erase"):
        scene.changed = "verify"
    if not scene.job.dialect.traits.reads:
        said = "each block acknowledged with its checksum by the bootloader, which shows nothing back"
        yield StepEnded("verify", "green", said)
        scene.changed = "start"
        return
    if not scene.job.wishes.verify:
        scene.unproven.append("verify")
        if scene.aside is not None:
            yield Noted("verify", f"what was to be kept is also in {scene.aside.name}: it is not proven to be back")
        yield StepEnded("verify", "unproven", "not asked for: written, and not proven")
        return
    yield from _proven(scene, plan)


def _proven(scene: Scene, plan: Plan) -> Iterator[Event]:
    meter = _Meter(scene)
    tally = _Tally(sum(memory.check_bytes for memory in plan.memories))
    compared = sum(size for memory in plan.memories for _, size in memory.compared)
    if not tally.total + compared:
        scene.unproven.append("verify")
        said = "; ".join(_left_out(scene, memory) for memory in plan.memories)
        yield StepEnded("verify", "unproven", said)
        return
    for memory_plan in plan.memories:
        yield from _prove(scene, memory_plan, memory_plan.checks, tally, meter)
    if compared and scene.whole_plan is not None and (scene.line_hurt or tally.hurt):
        # what was damaged may have been an address: then a block went where it does not belong
        yield Noted("verify", "bytes were damaged on the line: what was there before is looked at again")
        tally.total, compared, scene.trusted = tally.total + compared, 0, None
        # with room to keep beside it, what differs is told and not written again
        repairs = plan if scene.job.wishes.keep or scene.kept else scene.whole_plan
        for memory_plan, whole in zip(plan.memories, repairs.memories, strict=True):
            yield from _prove(scene, whole, memory_plan.compared, tally, meter)
    refuse_overrun(scene)
    if tally.reread:
        yield Noted("verify", f"{count(tally.reread, 'block')} read twice, the first time with a damaged byte")
    if tally.rewritten:
        yield Noted("verify", f"{count(tally.rewritten, 'page')} written again: damaged on the way to the chip")
    if scene.changed:
        scene.changed = "start"
    if scene.aside is not None:
        scene.aside.drop()
        scene.aside = None
    for memory_plan in plan.memories:
        if memory_plan.sample_of and scene.trusted is None:
            yield Noted("verify", _left_out(scene, memory_plan))
    sampled = sum(memory.sample_of for memory in plan.memories)
    said = _what_is_proven(scene, tally, compared, sampled)
    figures = meter.figures(tally.total, tally.blocks)
    scene.hidden = "; ".join(_left_out(scene, plan) for plan in plan.memories if plan.left_out and not plan.sample_of)
    if scene.hidden:
        scene.unproven.append("verify")
        yield StepEnded("verify", "unproven", f"{said}; {scene.hidden}", meter.seconds, figures)
        return
    yield StepEnded("verify", "green", said, meter.seconds, figures)


def _left_out(scene: Scene, plan: MemoryPlan) -> str:
    """What cannot be shown and why; what was seen instead, behind the colon, only where something was written."""
    return plan.left_out if scene.job.purpose == "upload" else plan.left_out.partition(":")[0]


def _what_is_proven(scene: Scene, tally: _Tally, compared: int, sampled: int) -> str:
    how = "the chip's own checksum" if tally.summed else "read back"
    equal = "blank" if scene.job.purpose == "erase" and not scene.kept else "equal"
    what = f"a sample, {tally.total:,} of {sampled:,} bytes" if sampled else count(tally.total, "byte")
    if scene.trusted is not None:
        written = f"{count(tally.total, 'byte')} written, {how} and equal; " if tally.total else ""
        seen = f"{scene.sampled_bytes:,} of {'the other ' if tally.total else ''}{scene.trusted_bytes:,} seen"
        return f"sampled: {written}{seen}; the rest by journal {scene.trusted.number}"
    if not tally.total:
        return f"compared before, {count(compared, 'byte')} equal"
    return f"{how}, {what} {equal}" + (f"; compared before, {compared:,}" if compared else "")


@changing
class _Tally:
    """What verifying has come to: bytes to prove and proven, blocks read, and whether sums alone were enough."""

    total: int
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
    scene: Scene, memory_plan: MemoryPlan, checks: tuple[tuple[int, int], ...], tally: _Tally, meter: _Meter
) -> Iterator[Event]:
    """Every byte of the spans (address, size). Raises VerifyFault."""
    if not checks:
        return
    if scene.talk.can_checksum() and sums_equal(scene, memory_plan, checks):
        tally.done += sum(size for _, size in checks)
        yield StepAdvanced("verify", tally.done, tally.total, "bytes", meter.seconds)
        return
    tally.summed = False
    narrows = scene.job.dialect.traits.reads_slowly and scene.talk.can_checksum()
    spans = _differing(scene, memory_plan, checks) if narrows else checks
    before = tally.done
    missed: list[WriteBlock] = []
    for again in (False, True):
        comparison, tally.done = _Comparison(missed=missed), before
        for address, size in check_blocks(spans, scene.talk.read_block(memory_plan.memory)):
            comparison.take(scene, memory_plan, address, size)
            tally.done += size
            tally.blocks += 1
            yield StepAdvanced("verify", tally.done, tally.total, "bytes", meter.seconds)
            if comparison.enough:
                break
        if again or comparison.first_wrong is None or not worth_all_again(scene):
            break
        yield Noted("verify", "damaged on the way to the chip: erased and written a second time")
        write_all_again(scene)
    if comparison.first_wrong is None and narrows and not sums_equal(scene, memory_plan, checks):
        raise Unexpected("a checksum that fits what the chip shows", bytes(comparison.found[:8]))
    if comparison.first_wrong is None:
        refuse_strays(scene, memory_plan, missed)
    tally.reread += comparison.reread
    tally.rewritten += comparison.rewritten
    if comparison.first_wrong is not None and _worth_repairing(scene, tally):
        tally.repaired = True
        yield from write_differing(scene, memory_plan)
        yield from _prove(scene, memory_plan, checks, tally, meter)
        return
    if comparison.first_wrong is not None:
        scene.differs = True
        if scene.job.purpose != "verify":
            refuse_protected(scene, memory_plan)
        raise VerifyFault(*diagnose(observe(scene, "verify", difference=comparison.result(scene, memory_plan))))


def _worth_repairing(scene: Scene, tally: _Tally) -> bool:
    """Whether what differs may have been damaged on its way: the line had hurt something in this upload. Once."""
    hurt = scene.line_hurt or tally.hurt or scene.talk.disturbed
    return scene.job.purpose == "upload" and bool(hurt) and not tally.repaired and can_write_again(scene)


def _differing(scene: Scene, plan: MemoryPlan, checks: tuple[tuple[int, int], ...]) -> list[tuple[int, int]]:
    """The spans whose checksums differ, cut small: halves of what differs, until little is left to read."""
    left = list(checks)
    small: list[tuple[int, int]] = []
    while left and len(small) < _SPANS_READ:
        address, size = left.pop(0)
        data = plan.image.cut(address, size, plan.memory.erased)
        if scene.talk.checksum_equals(plan.memory, address, data):
            continue
        if size <= _SMALL_SPAN:
            small.append((address, size))
            continue
        half = (size // 2 + _SMALL_SPAN - 1) // _SMALL_SPAN * _SMALL_SPAN
        left[:0] = [(address, half), (address + half, size - half)]
    return small or list(checks)


def _touched(plan: MemoryPlan, low: int, high: int) -> list[WriteBlock]:
    """The blocks that reach into low..high."""
    return [block for block in plan.blocks if block.address < high and low < block.address + len(block.data)]


def _cut(block: WriteBlock, low: int, high: int) -> WriteBlock:
    """What of a block lies in an erase unit."""
    first = max(low, block.address)
    return WriteBlock(first, block.data[first - block.address : high - block.address])


@changing
class _Comparison:
    """Reading back, block by block."""

    expected: bytearray = field(default_factory=bytearray)
    found: bytearray = field(default_factory=bytearray)
    blocks: list[tuple[int, int]] = field(default_factory=list)
    first_wrong: int | None = None
    after_first: int = 0
    reread: int = 0
    rewritten: int = 0
    missed: list[WriteBlock] = field(default_factory=list)
    """Blocks of which more than a byte was missing at their place."""
    reads_differ: bool = False

    @property
    def enough(self) -> bool:
        return self.after_first > _BLOCKS_AFTER_FIRST_DIFFERENCE

    def take(self, scene: Scene, plan: MemoryPlan, address: int, size: int) -> None:
        expected = plan.image.cut(address, size, plan.memory.erased)
        found = scene.talk.read(plan.memory, address, size)
        if self.first_wrong is not None:
            self.after_first += 1
        elif found != expected:
            again = scene.talk.read(plan.memory, address, size)
            if again == expected:  # nothing guards these bytes on the line: the second reading is as good
                self.reread += 1
                found = again
            else:
                self.reads_differ = again != found
                found = again
                if sum(a != b for a, b in zip(found, expected, strict=True)) > 1:
                    self.missed += _touched(plan, address, address + size)
                if not self.reads_differ and self._write_again(scene, plan, address, size):
                    found = scene.talk.read(plan.memory, address, size)
                elif scene.talk.can_checksum() and not size % 4:  # else what was read is not what is there
                    self.reads_differ |= not scene.talk.checksum_equals(plan.memory, address, found)
            if found != expected:
                self.first_wrong = address + next(
                    i for i, (a, b) in enumerate(zip(expected, found, strict=True)) if a != b
                )
        self.blocks.append((len(self.expected), size))
        self.expected += expected
        self.found += found

    def _write_again(self, scene: Scene, plan: MemoryPlan, address: int, size: int) -> bool:
        """Where nothing guards a block on its way to the chip it is worth a second write, after another erase where
        that is a step of its own; not many, for what fails often is no accident."""
        way = scene.job.dialect.traits.erases
        if scene.job.purpose != "upload" or scene.talk.guards_writes or way == "all at once":
            return False
        if self.rewritten == _PAGES_WRITTEN_AGAIN:
            return False
        self.rewritten += 1
        low, high = address, address + size
        if way == "by unit" and plan.memory.name == "flash":
            wrong = self._first_difference(scene, plan, address, size)
            units = plan.memory.units_touched(wrong, 1)
            low, high = units[0].address, units[-1].end
            for _ in scene.talk.erase(plan.memory, units):
                pass
        touched = _touched(plan, low, high)
        for _ in scene.talk.write(
            plan.memory, [_cut(b, low, high) for b in touched] if way == "by unit" else touched
        ):
            pass
        return low >= address or self._equal(scene, plan, low, address)

    @staticmethod
    def _first_difference(scene: Scene, plan: MemoryPlan, address: int, size: int) -> int:
        expected = plan.image.cut(address, size, plan.memory.erased)
        found = scene.talk.read(plan.memory, address, size)
        return address + next((i for i, (a, b) in enumerate(zip(expected, found, strict=True)) if a != b), 0)

    @staticmethod
    def _equal(scene: Scene, plan: MemoryPlan, low: int, high: int) -> bool:
        """Whether what was compared before, and written again now, still is as it should be."""
        spans = [(max(low, a), min(high, a + s) - max(low, a)) for a, s in plan.checks if a < high and low < a + s]
        return all(
            scene.talk.read(plan.memory, a, s) == plan.image.cut(a, s, plan.memory.erased)
            for a, s in check_blocks(spans, scene.talk.read_block(plan.memory))
        )

    def result(self, scene: Scene, plan: MemoryPlan) -> Difference:
        assert self.first_wrong is not None
        return Difference(
            self.first_wrong,
            bytes(self.expected),
            bytes(self.found),
            plan.memory.erased,
            () if self.enough else tuple(self.blocks),
            scene.before if plan is scene.ground[1].memories[0] else b"",
            self.reads_differ,
            scene.talk.guards_writes,
            scene.job.purpose == "upload",
        )
