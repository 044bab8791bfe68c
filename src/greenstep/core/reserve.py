"""Room in the flash for a resident bootloader: where it begins, what jumps to it and from it, what the compiler is
told.

AVR: the bootloader lies in the boot section, the only place from which SPM writes (data sheets, "Boot Loader
Support"; "Boot Size Configuration"). PIC18: GOTO at the reset vector 0000, interrupts at 0008 and 0018 (data sheets,
"Memory Organization"). Cortex-M: stack pointer and reset handler are the first two words, VTOR wants its table on a
power of two (ARMv7-M Architecture Reference Manual, B1.5.3 and B3.2.5).
"""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from .avr_boot import boot_sections
from .chips import Memory, Part
from .errors import usage
from .frozen import frozen
from .image.pic18 import goto
from .quantities import show_size

Side = Literal["top", "bottom"]

_TABLE_ALIGNMENT = 0x200
"""Holds the tables of all parts here: up to 128 vectors."""
_PIC_INTERRUPTS = (0x08, 0x18)


@frozen
class Jump:
    """Bytes to stand at `address`, and what they are: GOTO FC00."""

    address: int
    code: bytes
    words: str


@frozen
class Reservation:
    """The bootloader's room, `start` to before `end`, and the application's, `app_start` to before `app_end`.

    `jumps` are what must stand in the flash for both to be reached; `slot` is where the application's own reset jump
    or vectors are kept (top only), which is part of neither room. `linker` are values for the compiler, `notes` what
    a person must know besides.
    """

    part: Part
    side: Side
    wanted: int
    start: int
    end: int
    app_start: int
    app_end: int
    why: str
    jumps: tuple[Jump, ...] = ()
    slot: int | None = None
    linker: tuple[tuple[str, str], ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def size(self) -> int:
        return self.end - self.start

    @property
    def app_bytes(self) -> int:
        return self.app_end - self.app_start


def reserve(part: Part, size: int, side: Side | None = None) -> Reservation:
    """The room for a bootloader of `size` bytes; at the usual side of the family where none is said. Raises
    UsageFault where the part has no such room."""
    planners = {"avr": _avr, "pic18": _pic18, "cortex-m": _cortex_m}
    planner = planners.get(part.core)
    if planner is None:
        why = {
            "esp": "its first bootloader is in ROM, and the partition table says where programs lie",
            "any": "where its memory lies is not known",
            "arm7": "its vectors are instructions that stay at 0",
        }
        raise usage("no-reserve", f"no room is planned on the {part.title}: {why.get(part.core, 'unknown core')}")
    if size <= 0 or size >= part.flash.size:
        raise usage(
            "reserve-size", f"{size:,} bytes of the {show_size(part.flash.size)} of the {part.title}", "--size SIZE"
        )
    return planner(part, size, side)


# --- AVR


def _avr(part: Part, size: int, side: Side | None) -> Reservation:
    if side == "bottom":
        raise usage(
            "reserve-side",
            f"a bootloader at the bottom of the {part.title} could not write",
            "--at top: SPM writes only from the boot section, which is there",
        )
    flash = part.flash
    *sections, largest = reversed(boot_sections(flash.size))
    sections.append(largest)
    room = next((section for section in sections if section >= size), None)
    if room is None:
        raise usage("reserve-size", f"{size:,} bytes: the largest boot section of the {part.title} is {largest:,}")
    start = flash.end - room
    long = flash.size > 8192
    slot = start - (4 if long else 2)
    return Reservation(
        part,
        "top",
        size,
        start,
        flash.end,
        flash.start,
        slot,
        f"boot sections here are {', '.join(f'{section:,}' for section in sections)} bytes (fuses BOOTSZ)",
        (Jump(flash.start, avr_jump(flash.start, start, flash.size), f"{'JMP' if long else 'RJMP'} {start:04X}"),),
        slot,
        (
            ("bootloader", f"-Wl,--section-start=.text=0x{start:X}"),
            ("application", f".text from 0x0, at most 0x{slot:X} bytes"),
        ),
        ("with the fuse BOOTRST programmed reset begins in the bootloader, and no jump is needed",),
    )


def avr_jump(address: int, target: int, flash_bytes: int) -> bytes:
    """JMP, or on parts of 8 KiB and less RJMP, which reaches all round (AVR Instruction Set Manual)."""
    words = target // 2
    if flash_bytes > 8192:
        first = 0x940C | (words >> 17 & 0x1F) << 4 | words >> 16 & 1
        return first.to_bytes(2, "little") + (words & 0xFFFF).to_bytes(2, "little")
    return (0xC000 | (words - address // 2 - 1) & 0x0FFF).to_bytes(2, "little")


# --- PIC18


def _pic18(part: Part, size: int, side: Side | None) -> Reservation:
    if side == "bottom":
        plan = _at_bottom(part, size, 1)
        end = plan.end
        return replace(
            plan,
            jumps=tuple(Jump(at, goto(end + at), f"GOTO {end + at:04X}, interrupts") for at in _PIC_INTERRUPTS),
            linker=(
                ("bootloader", f"program memory 0x0-0x{end - 1:X}"),
                ("application", f"code offset 0x{end:X}: reset at 0x{end:X}, interrupts at 0x{end + 8:X}, "
                                f"0x{end + 0x18:X}"),
            ),
        )  # fmt: skip
    plan = _at_top(part, size, 4)
    return replace(
        plan,
        jumps=(Jump(plan.app_start, goto(plan.start), f"GOTO {plan.start:04X}"),),
        linker=(
            ("bootloader", f"program memory 0x{plan.start:X}-0x{plan.end - 1:X}"),
            ("application", f"program memory 0x0-0x{plan.app_end - 1:X}"),
        ),
    )


# --- Cortex-M


def _cortex_m(part: Part, size: int, side: Side | None) -> Reservation:
    plan = _at_top(part, size, 8) if side == "top" else _at_bottom(part, size, _TABLE_ALIGNMENT)
    linker = (
        ("bootloader", f"FLASH (rx) : ORIGIN = 0x{plan.start:X}, LENGTH = 0x{plan.size:X}"),
        ("application", f"FLASH (rx) : ORIGIN = 0x{plan.app_start:X}, LENGTH = 0x{plan.app_bytes:X}"),
    )
    if side == "top":
        return replace(
            plan,
            linker=linker,
            notes=(
                "the first two words of the flash become the bootloader's stack pointer and reset handler",
                f"its interrupts need its own table: VTOR = {plan.start:08X}; a Cortex-M0 has no VTOR",
            ),
        )
    table = plan.app_start
    return replace(
        plan,
        linker=(*linker, ("vectors", f"table at 0x{table:X}, an offset of 0x{plan.size:X}: VTOR = 0x{table:X}")),
        notes=(
            f"to start the application: load SP from {table:08X}, jump to the word at {table + 4:08X}",
            "a Cortex-M0 has no VTOR: copy the table to RAM and let RAM appear at 0",
        ),
    )


# --- rooms by erase units


def _at_top(part: Part, size: int, slot_bytes: int) -> Reservation:
    """The last erase units, and just below them a slot for the application's own reset. Raises UsageFault."""
    flash = part.flash
    start = flash.units_touched(flash.end - size, size)[0].address
    slot = start - slot_bytes
    _left(flash, flash.start, slot, size)
    why = _unit_words(flash, start, flash.end)
    return Reservation(part, "top", size, start, flash.end, flash.start, slot, why, slot=slot)


def _at_bottom(part: Part, size: int, alignment: int) -> Reservation:
    """The first erase units, as many as end on a multiple of `alignment`. Raises UsageFault."""
    flash = part.flash
    end = flash.units_touched(flash.start, size)[-1].end
    while end < flash.end and (end - flash.start) % alignment:
        end = flash.units_touched(end, 1)[0].end
    _left(flash, end, flash.end, size)
    why = _unit_words(flash, flash.start, end)
    return Reservation(part, "bottom", size, flash.start, end, end, flash.end, why)


def _left(memory: Memory, start: int, end: int, size: int) -> None:
    """Raises UsageFault where nothing is left for an application."""
    if start >= end:
        whole = f"with its erase units {size:,} bytes take the whole flash ({show_size(memory.size)})"
        raise usage("reserve-size", whole, "a smaller bootloader, or a part with more flash")


def _unit_words(memory: Memory, start: int, end: int) -> str:
    units = memory.units_touched(start, end - start)
    sizes = sorted({unit.size for unit in units})
    words = " and ".join(show_size(size) for size in sizes)
    return f"{len(units)} erase unit{'s' if len(units) > 1 else ''} of {words}"
