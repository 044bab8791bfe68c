"""`propeller-1`: the loader in the ROM of the P8X32A (Parallax, "Propeller boot protocol").

What it is sent is pulses: each character holds one to three, a low of one bit's time for 1 and of two for 0. A
sequence of pseudo-random bits makes each sure of the other; then a program is sent in one go, and the chip checks the
sum of its bytes, fills its EEPROM if that is wanted, and runs it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from enum import IntEnum
from typing import Any, ClassVar

from ..chips.part import Memory, Part
from ..errors import RefusedFault
from ..image import Image
from ..link import Deadline, Link
from ..quantities import count
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import drain, read_until, send_on
from .ram import LOST, filled_from
from .results import Examination, Identity, OneFitted, WriteBlock
from .spec import Asking, Attempt, Cost, Costs, Erasing, Reading, Setting, Spec, Starting


class Command(IntEnum):
    """Boot protocol, "Commands"."""

    SHUT_DOWN = 0
    LOAD_RAM = 1
    FILL_EEPROM = 3


TEMPLATE = 0xF9
"""Pulses of one and of two bits: from the first the rate is measured, in the others the chip answers."""
_BITS, _VERSION_BITS, _SEED = 250, 8, ord("P")
_VERSIONS = {1: "P8X32A"}
_YES, _NO = b"\xfe", b"\xff"
_SUM_BYTE, _SUM = 5, 0x14
_POLL_S, _SUM_LONGEST_S, _PROGRAM_LONGEST_S, _VERIFY_LONGEST_S = 0.01, 0.09, 5.0, 2.0
"""The sum: 32 KiB, each byte in two turns of the memory (16 clocks), at 12 MHz."""
_BLOCK, _QUIET_S, _AHEAD_S, _LATE_S = 1024, 0.03, 0.1, 0.05
_CHARACTERS = 11
"""For a long: ten of three bits and one of two."""
_STAGES = {
    Command.LOAD_RAM: (("the sum of the program", _SUM_LONGEST_S),),
    Command.FILL_EEPROM: (
        ("the sum of the program", _SUM_LONGEST_S),
        ("the EEPROM's programming", _PROGRAM_LONGEST_S),
        ("the EEPROM's content", _VERIFY_LONGEST_S),
    ),
}


def pseudo_random_bits(number: int) -> list[int]:
    """The first bits of a shift register of eight, fed by its bits 7, 5, 4 and 1."""
    state, bits = _SEED, []
    for _ in range(number):
        bits.append(state & 1)
        state = (state << 1 | (state >> 7 ^ state >> 5 ^ state >> 4 ^ state >> 1) & 1) & 0xFF
    return bits


_SEQUENCE = pseudo_random_bits(2 * _BITS)
HANDSHAKE = (
    bytes([TEMPLATE]) + bytes(0xFE | bit for bit in _SEQUENCE[:_BITS]) + bytes([TEMPLATE]) * (_BITS + _VERSION_BITS)
)


def _in_threes(bits: list[int]) -> bytes:
    """Bits, three to a character; what is left over, one to each."""
    whole = len(bits) // 3 * 3
    threes = bytes(0x92 | bits[at] | bits[at + 1] << 3 | bits[at + 2] << 6 for at in range(0, whole, 3))
    return threes + bytes(0xFE | bit for bit in bits[whole:])


_BRIEF = bytes([TEMPLATE]) + _in_threes(_SEQUENCE[:_BITS]) + bytes([TEMPLATE])
_BETWEEN_S = 0.13
"""From the end of one brief handshake to the next: it listens 150 ms after a reset."""


def pulses(word: int) -> bytes:
    """A long of 32 bits, lowest first, in eleven characters."""
    bits = [word >> at & 1 for at in range(32)]
    threes = bytes(0x92 | bits[at] | bits[at + 1] << 3 | bits[at + 2] << 6 for at in range(0, 30, 3))
    return threes + bytes([0xF2 | bits[30] | bits[31] << 3])


class Propeller1(Dialect):
    """The conversation with one chip."""

    name: ClassVar[str] = "propeller-1"
    title: ClassVar[str] = "Propeller 1 loader"
    document: ClassVar[str] = "Parallax boot protocol"
    decoder: ClassVar[str] = "propeller_1"
    proof: ClassVar[str] = "the chip's word that the bytes sum to what they must, and as many pulses as it wanted"
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=HANDSHAKE,
            attempts=(Attempt(0.07, 1), Attempt(0.09, 1), Attempt(0.1, 1), Attempt(0.12, 1), Attempt(0.08, 1)),
            wait_s=0.1,
            order=27,
            measures_rate=True,
            once=True,
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        reading=Reading.NONE,
        guards_writes=True,
        gives_up=True,
        tells_chip=False,
        start_answers=False,
        into_ram=True,
        settings=(
            Setting(
                "into", "text", "ram", "where the program goes: RAM only, or RAM and the EEPROM", ("ram", "eeprom")
            ),
        ),
        costs=Costs(block=_BLOCK),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._version = 0

    @property
    def guards_weakly(self) -> bool:
        return True

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """The chip must go on with the sequence where we stop, and then tells its version."""
        if self.brief:
            return self._asked_at_any_moment()
        wait_s = self.probe_timeout(wait_s) or self.patience_s  # some answer late
        self.link.discard()
        self.link.write(HANDSHAKE)
        deadline = Deadline.after(self.link, self.link.settings.seconds(len(HANDSHAKE)) + self.patience_s)
        began_s = self.link.now()
        heard = self.link.read(1, self.link.settings.seconds(len(HANDSHAKE)) + wait_s)
        took_s, first_s = self.link.now() - began_s, self.link.settings.seconds(_BITS + 2)
        in_time = first_s * 0.98 <= took_s <= first_s + _LATE_S
        heard += self.link.read(_BITS + _VERSION_BITS - 1, deadline.left_s) if heard else b""
        if len(heard) < _BITS + _VERSION_BITS or any(value & 0xFE != 0xFE for value in heard):
            self.retries += bool(heard)  # damaged: then a sum of eight bits proves nothing either
            drain(self.link, _QUIET_S, wait_s)
            return None
        if not self._is_the_sequence(heard):
            self.retries += 1
            return None
        if self.asked > 1 and not in_time:  # it may be the answer to an earlier handshake: then this one's is to come
            read_until(self.link, Deadline.after(self.link, self.patience_s))
        return self._told_version(heard)

    def _asked_at_any_moment(self) -> str | None:
        """The handshake while nobody knows when the chip is reset. One that begins to listen in the middle of our
        bits gives up. So they are sent three to a character, which takes a third of the time, and the templates for
        its own bits only after it has answered in the first one."""
        self.link.discard()
        self.link.write(_BRIEF)
        heard = self.link.read(1, self.link.settings.seconds(len(_BRIEF)) + _BETWEEN_S)
        if len(heard) != 1 or heard[0] & 0xFE != 0xFE:
            return None
        rest = _BITS + _VERSION_BITS - 1
        self.link.write(bytes([TEMPLATE]) * rest)
        heard += self.link.read(rest, self.link.settings.seconds(rest) + self.patience_s)
        return self._told_version(heard) if self._is_the_sequence(heard) else None

    def _is_the_sequence(self, heard: bytes) -> bool:
        return len(heard) >= _BITS and [value & 1 for value in heard[:_BITS]] == _SEQUENCE[_BITS:]

    def _told_version(self, heard: bytes) -> str:
        self._version = sum((value & 1) << at for at, value in enumerate(heard[_BITS:]))
        return f"{_BITS} bits of the sequence, version {self._version}"

    def identify(self) -> Identity:
        called = _VERSIONS.get(self._version, "not known")
        return Identity(None, f"loader version {self._version}", (("version", f"{self._version}, {called}"),))

    def examine(self, part: Part) -> Examination:
        return Examination(part)

    # --- loading

    @property
    def _command(self) -> Command:
        return Command.FILL_EEPROM if self.setting("into") == "eeprom" else Command.LOAD_RAM

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """All in one go; then the chip tells whether the sum is right, and what became of the EEPROM."""
        data = b"".join(block.data for block in blocks)
        longs = [int.from_bytes(data[at : at + 4], "little") for at in range(0, len(data), 4)]
        self.link.discard()
        sent_by = send_on(self.link, self.link.now(), pulses(self._command) + pulses(len(longs)))
        each = _BLOCK // 4
        last = b""
        for number, block in enumerate(blocks):
            sent = b"".join(map(pulses, longs[number * each : (number + 1) * each]))
            if number == len(blocks) - 1:
                sent, last = sent[:-1], sent[-1:]
            sent_by = send_on(self.link, sent_by, sent)
            if not last:
                self.link.sleep(max(0.0, sent_by - _AHEAD_S - self.link.now()))
                yield block
        self._complete(sent_by, last)
        for what, longest_s in _STAGES[self._command][1:]:
            self._told(what, longest_s)
        yield blocks[-1]

    def _complete(self, sent_by: float, last: bytes) -> None:
        """The last character, and what the chip says of the sum.

        The sum has eight bits. So a pulse too many or too few is looked for besides: a chip that had enough before
        the last character answers in it; one that lacks a pulse takes the first template for it and does not answer.
        """
        what, _ = _STAGES[self._command][0]
        for sent in (last, b""):
            self.link.sleep(max(0.0, sent_by - self.link.now()) + _SUM_LONGEST_S)
            sent_by = send_on(self.link, self.link.now(), sent)
            if heard := drain(self.link, 0.0):
                raise Unexpected(f"word about {what}", heard)
        self.link.write(bytes([TEMPLATE]))
        heard = self.link.read(1, self.patience_s)
        if heard == _NO:  # the image's own sum was looked at before: it was damaged on its way
            raise Unexpected(f"FE for {what}", heard)
        self._judge(what, heard, self.patience_s)

    def _told(self, what: str, longest_s: float) -> None:
        """Give the chip something to answer in until it does. Raises ChipRefusal, Silence, Unexpected."""
        wait_s = longest_s + self.patience_s
        deadline = Deadline.after(self.link, wait_s)
        heard = b""
        while not heard and not deadline.over:
            self.link.write(bytes([TEMPLATE]))
            heard = self.link.read(1, _POLL_S)
        self._judge(what, heard, wait_s)

    def _judge(self, what: str, heard: bytes, waited_s: float) -> None:
        if not heard:
            raise Silence(f"word about {what}", waited_s)
        if heard == _NO:
            raise ChipRefusal("load", RefusalKind.BAD_DATA, heard, None, f"{what} is not right: FF")
        if heard != _YES:
            raise Unexpected(f"word about {what}", heard + drain(self.link, _QUIET_S))

    def start(self, address: int) -> str:
        """The chip already started itself once the checksum matched."""
        return "it runs as soon as the sum is right"

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """From 0, with its check byte. Raises RefusedFault."""
        if image.end > part.flash.end:  # which the plan refuses
            return image, ()
        image, notes = filled_from(image, part.flash, 4)
        data = image.cut(0, image.end, 0)
        whole = len(data) == part.flash.size  # then the stack's first longs are in it
        wanted = 0 if whole and sum(data) & 0xFF == 0 else _SUM
        if "vectors" not in even_if and sum(data) & 0xFF != wanted:
            raise RefusedFault.of(
                "vectors",
                f"the bytes of {image.name} sum to {sum(data) & 0xFF:02X}, those of a program to {_SUM:02X}",
                (f"its check byte, at 5, is {data[_SUM_BYTE]:02X}",) if len(data) > _SUM_BYTE else (),
                ("is it a .binary or .eeprom of this chip's compiler?", "is the file complete?"),
            )
        kept = settings.get("into") == "eeprom"
        where = "goes into RAM and the EEPROM, all 32 KiB of which are written" if kept else LOST
        return image, (*notes, where)

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(size // 4 * _CHARACTERS)

    @classmethod
    def cost_of_writes(cls, part: Part, memory: Memory, blocks: Sequence[WriteBlock]) -> Cost:
        size = sum(len(block.data) for block in blocks)
        return Cost((size // 4 + 2) * _CHARACTERS + 1, 1, 1, 2 * _SUM_LONGEST_S)

    def blocks_sent(self) -> str:
        """In one go."""
        return f"one load, {count(len(_STAGES[self._command]), 'answer')}"
