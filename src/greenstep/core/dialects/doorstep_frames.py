"""Frames and facts of Doorstep (docs/doorstep.md, "Frames" and "Hello").

The chip behind a Doorstep loader: its flash as the loader tells it, and the seal of its application
(docs/doorstep.md, "Hello" and "Seal")."""

from __future__ import annotations

import struct
import zlib
from dataclasses import replace
from enum import IntEnum, IntFlag

from ..chips.part import EraseTime, Part
from ..errors import WriteFault
from ..frozen import frozen
from ..spans import Span
from .errors import ChipRefusal

VERSION = 1
ANSWER = 0x80
HEAD_BYTES = 6
CRC_BYTES = 4
_LONGEST_RUN = 254
_FACTS = struct.Struct("<BBBBIBBHHHHHHHHIIHH")
_FRACTION = 1 << 32


class Kind(IntEnum):
    """The questions ("Questions")."""

    HELLO, DIGEST, ERASE, WRITE, READ, RATE, START, SEAL = range(1, 9)

    @property
    def words(self) -> str:
        return self.name.lower()


class Status(IntFlag):
    """What an answer says first ("Answers"): 0 if it is done."""

    REFUSED = 1
    KEPT = 2

    @property
    def words(self) -> str:
        return "the flash kept something else" if self & Status.KEPT else "refused"


class Ability(IntFlag):
    ERASES_ITSELF = 1
    READS = 2
    HEARS_WRITING = 4
    HEARS_ERASING = 8
    ERASES_WHEN_ASKED = 16


FAMILIES = {1: "AVR", 2: "PIC18", 3: "nRF5x", 4: "SAM D21", 255: "portable"}


def stuffed(message: bytes) -> bytes:
    """The message without zeros, and the zero that ends it (Cheshire and Baker, "Consistent Overhead Byte Stuffing",
    1999)."""
    out = bytearray()
    at = 0
    while True:
        run = message.find(0, at, at + _LONGEST_RUN)
        if run < 0:
            run = min(at + _LONGEST_RUN, len(message))
        out += bytes([run - at + 1]) + message[at:run]
        if run == len(message):
            return bytes(out) + b"\x00"
        at = run + (message[run] == 0 and run - at < _LONGEST_RUN)


def unstuffed(frame: bytes) -> bytes:
    """The message of a frame, which is given without its zero. Raises ValueError."""
    out = bytearray()
    at = 0
    while at < len(frame):
        code = frame[at]
        run = frame[at + 1 : at + code]
        if not code or len(run) < code - 1:
            raise ValueError("the frame ends too early")
        out += run
        at += code
        if code <= _LONGEST_RUN and at < len(frame):
            out.append(0)
    return bytes(out)


def sealed(message: bytes) -> bytes:
    """A frame: the message and its CRC-32."""
    return stuffed(message + zlib.crc32(message).to_bytes(CRC_BYTES, "little"))


def opened(frame: bytes) -> bytes | None:
    """The message in a frame without its zero; None if it is damaged."""
    try:
        message = unstuffed(frame)
    except ValueError:
        return None
    body, crc = message[:-CRC_BYTES], message[-CRC_BYTES:]
    if len(body) < 2 or zlib.crc32(body).to_bytes(CRC_BYTES, "little") != crc:
        return None
    return body


def question(kind: Kind, number: int, first: int = 0, second: int = 0) -> bytes:
    """Any question but a write."""
    return sealed(struct.pack("<BBII", kind, number, first, second))


def write_question(number: int, address: int, data: bytes) -> bytes:
    return sealed(struct.pack("<BBI", Kind.WRITE, number, address) + data)


@frozen
class Facts:
    """What a loader says of itself and its chip. Addresses and sizes are in bytes, frequencies in Hz."""

    version: int
    family: int
    abilities: Ability
    frames: int
    """How many writes may be on their way at once."""
    part: int
    origin: int
    """Where the chip has its flash; all other addresses count from there."""
    begin: int
    end: int
    """Of the application's region; the seal stands there."""
    top: int
    erase_unit: int
    write_unit: int
    data_bytes: int
    """The most data of a write."""
    answer_bytes: int
    """And of an answer."""
    clock: int
    baud: int
    rate_base: int
    rate_most: int
    wait_s: float
    unique_id: bytes
    whole: bool
    """Whether there is an application that may be started."""

    @property
    def region(self) -> Span:
        """The application's, in the chip's addresses."""
        return Span(self.origin + self.begin, self.origin + self.end)

    @property
    def family_name(self) -> str:
        return FAMILIES.get(self.family, f"family {self.family}")

    @property
    def digests(self) -> int:
        """The most digests in one answer."""
        return self.answer_bytes // 4

    def rate_setting(self, baud: int) -> int | None:
        """What the loader is told to go to a rate ("Rate"); None if it makes none within 2.5 %."""
        if not self.rate_base or baud <= 0:
            return None
        if not self.rate_most:
            return None if baud > self.rate_base // 16 else round(baud * _FRACTION / self.rate_base)
        divisor = max(1, round(self.rate_base / baud))
        if divisor > self.rate_most or abs(self.rate_base / divisor / baud - 1) > 0.025:
            return None
        return divisor


def facts_of(body: bytes) -> Facts:
    """The facts in the body of a hello's answer, behind its status. Raises ValueError."""
    if len(body) < 1 + _FACTS.size:
        raise ValueError("too short")
    state, told = body[0], _FACTS.unpack_from(body, 1)
    (version, family, abilities, frames, part, origin, id_bytes, begin, end, top, erase_unit, write_unit, data_bytes,
     answer_bytes, clock_khz, baud, rate_base, rate_most, wait_ms) = told  # fmt: skip
    unique_id = body[1 + _FACTS.size :][:id_bytes]
    sound = (
        version and begin < end <= top and frames and 0 < write_unit <= erase_unit and not erase_unit % write_unit
        and data_bytes >= write_unit and answer_bytes >= 4 and len(unique_id) == id_bytes
    )  # fmt: skip
    if not sound:
        raise ValueError("facts that contradict each other")
    return Facts(
        version, family, Ability(abilities & 31), frames, part, origin << 24, begin * erase_unit, end * erase_unit,
        top * erase_unit, erase_unit, write_unit, data_bytes, answer_bytes, clock_khz * 1000, baud, rate_base,
        rate_most, wait_ms / 1000, unique_id, state == 1,
    )  # fmt: skip


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
