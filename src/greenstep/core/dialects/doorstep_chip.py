"""The chip behind a Doorstep loader: its flash as the loader tells it, and the seal of its application
(docs/doorstep.md, "Hello" and "Seal")."""

from __future__ import annotations

from dataclasses import replace

from ..chips import EraseTime, Part
from ..errors import WriteFault
from .doorstep_frames import Facts, Status
from .errors import ChipRefusal

SEAL_BYTES = 8


def seal_of(length: int, sum_: int) -> bytes:
    """The seal of an application of so many bytes with that CRC-32."""
    return length.to_bytes(4, "little") + sum_.to_bytes(4, "little")


def not_sealed(refusal: ChipRefusal, wanted: int) -> WriteFault:
    """The loader starts nothing without a seal."""
    if refusal.answer[0] & Status.KEPT:
        return WriteFault.of(
            "seal-not-kept",
            "the application is written, and its seal did not stay in the flash: the loader will not start it",
            (f"the loader answers {refusal.answer[0]:02X} to seal: the flash kept something else",),
            ("upload again", "a seal that never stays: its unit of the flash is worn out"),
        )
    return WriteFault.of(
        "seal-refused",
        "the application is written, and the loader does not seal it: it finds another sum in its flash",
        (f"the loader answers {refusal.answer[0]:02X} to seal, with crc32 {wanted:08X} as it should be",),
        ("upload again; greenstep verify shows what differs",),
    )


def part_as_told(part: Part, facts: Facts) -> Part:
    """The part with the flash that the loader tells."""
    flash = part.flash
    start = facts.origin
    per_byte_s = flash.program_s / flash.write_unit
    times = dict(flash.erase_times)
    times.setdefault(facts.erase_unit, EraseTime(0.02, 0.12))
    told = replace(
        flash, start=start, layout=((facts.top // facts.erase_unit, facts.erase_unit),), erased=0xFF,
        write_unit=facts.write_unit, program_s=per_byte_s * facts.write_unit, erase_times=times,
        block=facts.answer_bytes,
        reserved_top=facts.top - facts.end, reserved_bottom=facts.begin,
    )  # fmt: skip
    return replace(part.with_memory(told), memories=(told,), size_known=True)
