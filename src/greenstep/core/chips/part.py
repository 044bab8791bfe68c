"""One part: its identity, its memories with their erase units and times, and how a person enters its loader."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Mapping
from dataclasses import field, replace
from itertools import accumulate
from typing import Any

from ..frozen import frozen
from ..spans import Span


@frozen
class EraseUnit:
    """A page or sector: its number as the chip counts them, its address, its size in bytes."""

    number: int
    address: int
    size: int

    @property
    def end(self) -> int:
        return self.address + self.size

    @property
    def span(self) -> Span:
        return Span(self.address, self.end)


@frozen
class EraseTime:
    """How long erasing takes, in seconds: typical, and the longest that the chip maker allows."""

    typical_s: float
    longest_s: float


DATA_FLASH = "data"
"""The name of a flash for data, apart from the programs'."""


@frozen
class Memory:
    """A memory that can be written.

    `layout` is runs of equal erase units, (count, size in bytes), from `start` on. `erased` is the value of an erased
    byte. `write_unit` is what the chip programs at once: writes start and end on a multiple of it. `program_s` is the
    time one write unit takes. `reserved_top` bytes at the end, or `reserved_bottom` at the start, belong to a
    resident bootloader. `block` is the largest write that the part's loader accepts, if that differs from part to
    part; else 0. `counted_from`: erase units from that index on are numbered from that number. `gap` is a range
    (address, size) between two banks that holds no memory.
    """

    name: str
    start: int
    layout: tuple[tuple[int, int], ...]
    erased: int
    write_unit: int
    program_s: float
    erase_times: Mapping[int, EraseTime]
    reserved_top: int = 0
    reserved_bottom: int = 0
    block: int = 0
    counted_from: tuple[int, int] = (0, 0)
    gap: tuple[int, int] = (0, 0)

    @property
    def is_flash(self) -> bool:
        """Whether it is the flash that programs run in; others are an EEPROM, or data flash."""
        return self.name == "flash"

    @property
    def is_erased(self) -> bool:
        """Whether it is erased in units before it is written."""
        return self.name in ("flash", DATA_FLASH)

    @property
    def size(self) -> int:
        return sum(number * size for number, size in self.layout)

    @property
    def end(self) -> int:
        return self.start + self.size

    @property
    def span(self) -> Span:
        return Span(self.start, self.end)

    @property
    def usable(self) -> Span:
        """The range that an application may use."""
        return Span(self.usable_start, self.usable_end)

    @property
    def usable_end(self) -> int:
        """The address after the last byte that an application may use."""
        return self.end - self.reserved_top

    @property
    def usable_start(self) -> int:
        """The lowest address that an application may use."""
        return self.start + self.reserved_bottom

    def erase_time(self, size: int) -> EraseTime:
        """The time for one erase unit of `size` bytes."""
        return self.erase_times[size]

    @property
    def mass_erase_time(self) -> EraseTime:
        """The sum over all units: an upper bound that no part exceeds."""
        totals = [(number, self.erase_time(size)) for number, size in self.layout]
        return EraseTime(
            sum(number * time.typical_s for number, time in totals),
            sum(number * time.longest_s for number, time in totals),
        )

    def units_of(self, spans: Iterable[Span]) -> tuple[EraseUnit, ...]:
        """The erase units that hold any of the spans, each once, in order."""
        units = {unit.address: unit for span in spans for unit in self.units_touched(span.start, span.size)}
        return tuple(units[address] for address in sorted(units))

    def units_touched(self, address: int, size: int) -> list[EraseUnit]:
        """The erase units that hold any of `size` bytes from `address`, in order."""
        units: list[EraseUnit] = []
        number, at = 0, self.start
        for run, unit in self.layout:
            run_end = at + run * unit
            if address < run_end and address + size > at:
                first = max(0, (address - at) // unit)
                last = min(run - 1, (address + size - 1 - at) // unit)
                units += [EraseUnit(self._counted(number + i), at + i * unit, unit) for i in range(first, last + 1)]
            number, at = number + run, run_end
        return units

    def _counted(self, index: int) -> int:
        """The number of an erase unit as the chip counts."""
        first, number = self.counted_from
        return index - first + number if number and index >= first else index

    def resized(self, size: int) -> Memory:
        """The same memory in a part with `size` bytes of it: the layout is cut short.

        Raises ValueError if `size` is more than the layout holds.
        """
        if size > self.size:
            raise ValueError(f"{size} bytes are more than the {self.size} of this part")
        ends = list(accumulate(number * unit for number, unit in self.layout))
        full = bisect_right(ends, size)
        layout = list(self.layout[:full])
        left = size - (ends[full - 1] if full else 0)
        if left:
            unit = self.layout[full][1]
            layout.append((-(-left // unit), unit))
        return replace(self, layout=tuple(layout))


@frozen
class Ram:
    """One RAM area, for judging a stack pointer."""

    start: int
    size: int


@frozen
class ByHandWords:
    """What a person does if no line does it: to enter the bootloader, and to run the application."""

    enter: tuple[str, ...]
    leave: tuple[str, ...]


@frozen
class Wires:
    """What a person has to know about the pins: names of the bootloader's UART pins, reset and boot pin (empty:
    none), the typical supply in V, the shortest reset pulse in s, and advice on pull-ups and pins to leave alone."""

    tx: str
    rx: str
    reset: str
    boot: str
    volts: float
    volts_range: tuple[float, float]
    shortest_reset_s: float
    advice: tuple[str, ...]


@frozen
class Part:
    """A part record. `ident` is the number the chip answers with; `clones` are others it may answer with. `core`
    names the family of processor, by which an image's vectors are checked. `boot_level` is the level of the boot pin
    that selects the bootloader; empty if there is no such pin. `extra` holds what only one dialect needs, by that
    dialect's names. `also` are other dialects that loaders for this part speak. `uart` names the rules by which its
    UART divides a clock. `holds` is what its memory called flash is: RAM where the loader only loads that."""

    name: str
    title: str
    dialect: str
    ident: int
    core: str
    memories: tuple[Memory, ...]
    ram: tuple[Ram, ...]
    hands: ByHandWords
    baud: int
    hookup: str
    wires: Wires
    uart: str
    boot_level: str = ""
    holds: str = "flash"
    size_known: bool = True
    clones: tuple[int, ...] = ()
    also: tuple[str, ...] = ()
    extra: Mapping[str, Any] = field(default_factory=dict)

    @property
    def flash(self) -> Memory:
        return self.memory("flash")

    def memory(self, name: str) -> Memory:
        """The memory with that name. Raises KeyError."""
        for memory in self.memories:
            if memory.name == name:
                return memory
        raise KeyError(name)

    def speaking(self, dialect: str) -> Part:
        """This part with a loader that speaks `dialect`, the space that such a loader takes, and what else is other
        with it: the number that it answers with, and how it writes."""
        family, own = self.extra.get("loaders", {}).get(dialect), self.extra.get(dialect)
        part = replace(self, dialect=dialect)
        if family is None and own is None:
            return part
        room = {**(family or {}), **(own or {})}
        flash = replace(self.flash, reserved_top=room["top"], reserved_bottom=room["bottom"])
        if "layout" in room:
            flash = replace(flash, layout=tuple((number, size) for number, size in room["layout"]))
        if "write_unit" in room:
            typical, longest = room["erase_ms"]
            times = {size: EraseTime(typical / 1000, longest / 1000) for _, size in flash.layout}
            flash = replace(
                flash, write_unit=room["write_unit"], program_s=room["program_us"] / 1e6, erase_times=times
            )  # fmt: skip
        part = replace(part, ident=room.get("ident", self.ident), core=room.get("core", self.core))
        return part.with_memory(flash)

    def with_loader_room(self, size: int | None) -> Part:
        """This part with `size` bytes of its flash for a resident bootloader, at the top or, where its loaders lie
        there, at the start; None changes nothing."""
        if size is None:
            return self
        if self.flash.reserved_bottom and not self.flash.reserved_top:
            return self.with_memory(replace(self.flash, reserved_bottom=size))
        return self.with_memory(replace(self.flash, reserved_top=size))

    def with_memory(self, memory: Memory) -> Part:
        """This part with its memory of the same name replaced."""
        memories = tuple(memory if old.name == memory.name else old for old in self.memories)
        return replace(self, memories=memories)
