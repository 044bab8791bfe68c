"""The rungs that change the chip and prove it: erase, write, verify."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from ..errors import VerifyFault
from ..events import Event, Noted, StepAdvanced, StepEnded
from ..findings import Difference, Progress, diagnose
from ..plan import MemoryPlan, check_blocks
from ..quantities import count, show_size
from .evidence import observe
from .job import Scene

_PAGES_WRITTEN_AGAIN = 2
_BLOCKS_AFTER_FIRST_DIFFERENCE = 64  # enough to see a pattern


def erase_step(scene: Scene) -> Iterator[Event]:
    _, plan = scene.ground
    began = scene.wire.now()
    done, total = 0, plan.units
    size = 0
    scene.changed = "erase"
    for memory_plan in plan.memories:
        memory = memory_plan.memory
        if memory_plan.whole_erase:
            scene.talk.erase_all(memory)
            size += memory.size
            continue
        if not memory_plan.units:
            continue
        for erased in scene.talk.erase(memory, memory_plan.units):
            scene.erased_units = done + erased
            yield StepAdvanced("erase", done + erased, total, "units", scene.wire.now() - began)
        done += len(memory_plan.units)
        size += sum(unit.size for unit in memory_plan.units)
    took = scene.wire.now() - began
    what = "the whole flash" if plan.memories[0].whole_erase else count(total, "unit")
    figures: dict[str, int | float | str] = {"units": total, "bytes": size, "seconds": round(took, 4)}
    yield StepEnded("erase", "green", f"{what}, {show_size(size)}, acknowledged", took, figures)


@dataclass
class _Meter:
    """Time and characters of one step."""

    scene: Scene
    began_s: float = field(init=False)
    characters: int = field(init=False)

    def __post_init__(self) -> None:
        self.began_s = self.scene.wire.now()
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
    _, plan = scene.ground
    meter = _Meter(scene)
    total = plan.write_bytes
    done = blocks = 0
    if scene.job.dialect.traits.erases == "inside write":
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
        yield Noted("write", f"{count(repeated, 'exchange')} repeated")
    unit = "page" if scene.job.dialect.writes_whole_blocks(plan.memories[0].memory) else "block"
    what = _blocks(plan.memories, unit)
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
    first = next(iter(check_blocks(memory_plan.checks, scene.talk.read_block(memory_plan.memory))))
    return scene.talk.read(memory_plan.memory, *first)


def verify_step(scene: Scene) -> Iterator[Event]:
    """Every byte of every image, by the chip's own checksum where it offers one, else read back."""
    _, plan = scene.ground
    if scene.job.purpose == "upload":
        scene.changed = "verify"
    if not scene.job.wishes.verify:
        scene.unproven.append("verify")
        yield StepEnded("verify", "unproven", "not asked for: written, and not proven")
        return
    meter = _Meter(scene)
    total = sum(memory.check_bytes for memory in plan.memories)
    done = blocks = reread = rewritten = 0
    summed = True
    for memory_plan in plan.memories:
        if scene.talk.can_checksum() and _checksums_equal(scene, memory_plan):
            done += memory_plan.check_bytes
            yield StepAdvanced("verify", done, total, "bytes", meter.seconds)
            continue
        summed = False
        comparison = _Comparison()
        for address, size in check_blocks(memory_plan.checks, scene.talk.read_block(memory_plan.memory)):
            comparison.take(scene, memory_plan, address, size)
            done += size
            blocks += 1
            yield StepAdvanced("verify", done, total, "bytes", meter.seconds)
            if comparison.enough:
                break
        reread += comparison.reread
        rewritten += comparison.rewritten
        if comparison.first_wrong is not None:
            scene.differs = True
            raise VerifyFault(*diagnose(observe(scene, "verify", difference=comparison.result(scene, memory_plan))))
    if reread:
        yield Noted("verify", f"{count(reread, 'block')} read twice, the first time with a damaged byte")
    if rewritten:
        yield Noted("verify", f"{count(rewritten, 'page')} written again: damaged on the way to the chip")
    if scene.changed:
        scene.changed = "start"
    how = "the chip's own checksum" if summed else "read back"
    yield StepEnded(
        "verify", "green", f"{how}, {count(total, 'byte')} equal", meter.seconds, meter.figures(total, blocks)
    )


def _checksums_equal(scene: Scene, plan: MemoryPlan) -> bool:
    """By whole write units, as they were written; what is unequal is read back, and that decides."""
    unit = plan.memory.write_unit
    for address, size in plan.checks:
        low = plan.memory.start + (address - plan.memory.start) // unit * unit
        high = plan.memory.start - (plan.memory.start - address - size) // unit * unit
        data = plan.image.cut(low, high - low, plan.memory.erased)
        if not scene.talk.checksum_equals(plan.memory, low, data):
            return False
    return True


@dataclass
class _Comparison:
    """Reading back, block by block."""

    expected: bytearray = field(default_factory=bytearray)
    found: bytearray = field(default_factory=bytearray)
    blocks: list[tuple[int, int]] = field(default_factory=list)
    first_wrong: int | None = None
    after_first: int = 0
    reread: int = 0
    rewritten: int = 0
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
                if not self.reads_differ and self._write_again(scene, plan, address, size):
                    found = scene.talk.read(plan.memory, address, size)
            if found != expected:
                self.first_wrong = address + next(
                    i for i, (a, b) in enumerate(zip(expected, found, strict=True)) if a != b
                )
        self.blocks.append((len(self.expected), size))
        self.expected += expected
        self.found += found

    def _write_again(self, scene: Scene, plan: MemoryPlan, address: int, size: int) -> bool:
        """Where nothing guards a page on its way to the chip, and writing erases it first, it is worth a second
        write; not many, for what fails often is no accident."""
        traits = scene.job.dialect.traits
        if scene.job.purpose != "upload" or traits.guards_writes or traits.erases != "inside write":
            return False
        if self.rewritten == _PAGES_WRITTEN_AGAIN:
            return False
        self.rewritten += 1
        for block in plan.blocks:
            if block.address < address + size and address < block.address + len(block.data):
                for _ in scene.talk.write(plan.memory, [block]):
                    pass
        return True

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
            scene.job.dialect.traits.guards_writes,
            scene.job.purpose == "upload",
        )
