"""`avr-068`: the bootloaders of large AVR boards, and of some with other cores, that speak a subset of Atmel AVR068.

Every message has a number, a length and an XOR over everything before, and so has every reply: what is damaged is
asked again. The loader advances its address after each page, so it is only sent if the next page is another one.

Two things differ from loader to loader, and none says which it does. Some erase, with each page written, the page at
a counter of their own, which starts at 0 with the reset: so all pages are written in order, and none twice. And an
EEPROM address is in bytes for some, in words for others, or in bytes for reading and in words for writing: so the
EEPROM is read and written from 0 on, letting the loader count.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import reduce
from operator import xor
from typing import Any, ClassVar

from ..chips.part import Memory, Part
from ..errors import VerifyFault
from ..image import Image, Piece
from ..link import Deadline, Link
from ..quantities import show_address, show_bytes, show_size
from ..spans import Span
from .abilities import ErasesMore, LoaderInFlash
from .avr_looking import jump_to_loader, loader_room, look_at_avr
from .dialect import Dialect
from .errors import ChipRefusal, NotReset, RefusalKind, Silence, Unexpected
from .framing import Framing, Opened
from .line import drain, read_until, refuse_text
from .probe import EVERY_S
from .results import Examination, Identity, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, ProtocolCommand, Spec, Starting, sum_costs

# AVR068, section "Message format"
START, TOKEN = 0x1B, 0x0E
HEAD, _AROUND = 5, 6
"""Bytes before the body, and around it with the checksum."""

MAJOR_VERSION, MINOR_VERSION = 0x91, 0x92


class Command(ProtocolCommand):
    """AVR068, sections "General commands" and "ISP programming commands"."""

    SIGN_ON = 0x01, "sign on"
    GET_PARAMETER = 0x03, "get parameter"
    LOAD_ADDRESS = 0x06, "load address", "words:4"
    ENTER_PROGRAMMING = 0x10, "enter programming"
    LEAVE_PROGRAMMING = 0x11, "leave programming"
    PROGRAM_FLASH = 0x13, "program flash", "size:2 data"
    READ_FLASH = 0x14, "read flash", "size:2 data"
    PROGRAM_EEPROM = 0x15, "program EEPROM", "size:2 data"
    READ_EEPROM = 0x16, "read EEPROM", "size:2 data"
    READ_SIGNATURE = 0x1B, "read signature"


# AVR068, section "Status constants"
OK, TIMED_OUT, FAILED, CHECKSUM_ERROR, UNKNOWN = 0x00, 0x80, 0xC0, 0xC1, 0xC9
CHECKSUM_ANSWER = 0xB0  # ANSWER_CKSUM_ERROR: the command byte of the reply to a damaged message

# What a programmer would need to know of the part; bootloaders accept and ignore it. The serial instructions are
# those of the parts' data sheets, "Serial Programming Instruction set".
_ENTER = bytes([Command.ENTER_PROGRAMMING, 200, 100, 25, 32, 0, 0x53, 3, 0xAC, 0x53, 0, 0])
_PROGRAM_MODE = bytes([0xC1, 10, 0x40, 0x4C, 0x20, 0xFF, 0xFF])  # page mode, load, write and read instruction, poll

_FAR_WORDS = 0x10000
FAR = 0x80000000  # AVR068, CMD_LOAD_ADDRESS: bit 31 says that the part has more than 64 K words

_LONGEST_SIGN_ON = 3 + 8
_ASKINGS_BACK = 6
_REPLY_S, _LONGEST_REPLY_S = 0.5, 3.0
_REPLY_BY_SYNC = 40
_QUIET_S = 0.03
_TRIES = 3
_OTHER_BLOCK = 48
"""Bytes of the EEPROM per read when it is read in a second way."""


def _opened(sent: bytes) -> Opened:
    body = sent[HEAD:-1]
    return (body[0], body[1:]) if sent[:1] == bytes([START]) and body else None


def _answered(command: Command, sent: bytes, heard: bytes) -> str:
    """What a command without data answers, and what is not ok."""
    if heard[HEAD : HEAD + 2] != bytes([command, OK]):
        return f"answered {show_bytes(heard, 8)}"
    return "" if command.layout else show_bytes(heard[HEAD + 2 : -1], 12)


class Avr068(Dialect, ErasesMore, LoaderInFlash):
    """The conversation with one chip."""

    name: ClassVar[str] = "avr-068"
    title: ClassVar[str] = "AVR bootloader, AVR068"
    document: ClassVar[str] = "Atmel AVR068"
    decoder: ClassVar[Framing] = Framing(Command, _opened, "big", 5, _answered)
    answer_s: ClassVar[float] = 0.4
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=bytes([START, 1, 0, 1, TOKEN, Command.SIGN_ON, 0x14]),
            sounds=(
                rb"(?:\x1b.\x00\x0b\x0e\x01\x00\x08.{9})+",
                rb"(?:\x1b.\x00\x02\x0e[\x01-\x1f\xb0][\x80-\xcf].)+",
            ),
            attempts=(Attempt(0.08, 3), Attempt(0.3, 3), Attempt(0.6, 3), Attempt(2.0, 4)),
            wait_s=0.35,
            order=45,
            usb_vendor_id="03EB",
            other_bauds=(115200, 57600),
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        guards_writes=True,
        gives_up=True,
        start_answers=False,
        erases_in_order=True,
        costs=Costs(read=CostRow(_AROUND + 4, _AROUND + 3)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._number = 0
        self._next: tuple[str, int] | None = None
        self._far = False
        self._reply_s = _REPLY_S
        self._called = ""
        self._fresh = False

    # --- messages

    def _message(self, body: bytes) -> bytes:
        self._number = self._number % 255 + 1
        message = bytes([START, self._number, len(body) >> 8, len(body) & 0xFF, TOKEN]) + body
        return message + bytes([reduce(xor, message)])

    def _reply(self, number: int, size: int, line_s: float, waiting_for: str) -> bytes:
        """The body of the reply to the message `number`, at most `size` bytes. Late replies to earlier messages are
        skipped. If it does not come soon, beyond the `line_s` that line and chip need, the loader is asked to sign on
        so that it does not time out: if that answer comes first, the other is lost. Raises DialectError."""
        link = self.link
        heard, signing, wait_s = b"", 0, line_s + EVERY_S
        left_s = max(self.patience_s, self._reply_s) - EVERY_S
        began_s = link.now()
        while True:
            more = link.read(HEAD - len(heard) if len(heard) < HEAD else 1, wait_s)
            if not more:
                if heard or left_s <= 0 or number == signing:
                    raise Silence(waiting_for, link.now() - began_s, heard)
                wait_s = min(EVERY_S, left_s)
                left_s -= wait_s
                link.write(self._message(bytes([Command.SIGN_ON])))
                signing = signing or self._number
                continue
            heard += more
            if heard[0] != START:
                raise Unexpected(waiting_for, heard + drain(link, _QUIET_S))
            if len(heard) < HEAD:
                continue
            length = heard[2] << 8 | heard[3]
            if heard[4] != TOKEN or length > max(size, _LONGEST_SIGN_ON):
                raise Unexpected(waiting_for, heard + drain(link, _QUIET_S))
            rest = link.read(length + 1, link.settings.seconds(length + 1) + self._reply_s)
            whole = heard + rest
            if len(rest) < length + 1:
                raise Silence(waiting_for, self._reply_s, whole)
            if reduce(xor, whole):
                raise Unexpected(f"{waiting_for} with a right checksum", whole)
            if heard[1] == number:
                return rest[:-1]
            if signing and heard[1] == signing:
                raise Silence(waiting_for, link.now() - began_s)
            heard = b""

    def _exchange(self, body: bytes, size: int, busy_s: float = 0.0, address: int | None = None) -> bytes:
        """Send a command; returns `size` bytes of answer after its status. Raises DialectError."""
        command = Command.of(body[0]).words
        self.link.write(self._message(body))
        number = self._number
        waiting_for = f"reply to '{command}'"
        line_s = self.link.settings.seconds(len(body) + 2 * _AROUND) + busy_s
        reply = self._reply(number, size + 2, line_s, waiting_for)
        if reply[0] == CHECKSUM_ANSWER or reply[1:2] == bytes([CHECKSUM_ERROR]):
            raise Unexpected(waiting_for, reply)
        if reply[0] != body[0] or len(reply) < 2:
            raise Unexpected(waiting_for, reply)
        if reply[1] != OK:
            raise ChipRefusal(
                command, RefusalKind.BAD_DATA if len(body) > 20 else RefusalKind.UNSUPPORTED, reply[:2], address
            )
        if len(reply) != size + 2:
            raise Unexpected(waiting_for, reply)
        return reply[2:]

    def _repeat(self, body: bytes, size: int, busy_s: float = 0.0, address: int | None = None) -> bytes:
        """An exchange that may be retried: commands that change nothing, or do the same each time."""
        return self.exchange(lambda: self._exchange(body, size, busy_s, address), self._recover)

    def _recover(self, heard: bytes) -> None:
        """Complete a message that the loader may hold half of, and check that it answers. Raises Silence.

        A loader that lost a byte waits for as many more as the lost length said: a run of bytes that begin no message
        brings it back to looking for a start.
        """
        refuse_text("reply", heard + drain(self.link, 2 * _QUIET_S))
        for attempt in range(6):
            if attempt % 2:
                self.link.write(bytes(_AROUND + 300))
                drain(self.link, self.link.settings.seconds(300) + 2 * _QUIET_S)
            if self.ask(0.2) is not None:
                return
        raise Silence("reply to 'sign on'", 1.2)

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Sign on; late answers to earlier questions are skipped."""
        self.link.discard()
        self._next = None
        deadline = Deadline.after(self.link, wait_s)
        asked_s = self.link.now()
        self.link.write(self._message(bytes([Command.SIGN_ON])))
        heard = b""
        while not deadline.over:
            heard += self.link.read(1, deadline.left_s)
            at = self._answered_at(heard)
            if at < 0 or len(heard) < at + HEAD:
                continue
            length = heard[at + 2] << 8 | heard[at + 3]
            heard += self.link.read(at + length + _AROUND - len(heard), deadline.left_s)
            message = heard[at : at + length + _AROUND]
            whole = len(message) == length + _AROUND and not reduce(xor, message)
            if whole and message[HEAD - 1 : HEAD + 2] == bytes([TOKEN, Command.SIGN_ON, OK]):  # and not our own echo
                took_s = self.link.now() - asked_s
                self._reply_s = min(_LONGEST_REPLY_S, max(_REPLY_S, _REPLY_BY_SYNC * took_s))
                self._called = message[HEAD + 3 : -1].decode("ascii", "replace")
                drain(self.link, _QUIET_S, 0.2)
                return f'1B … 01 00 "{self._called}"'
        read_until(self.link, deadline)
        return None

    def _answered_at(self, heard: bytes) -> int:
        """Where the reply to the last question begins, or to one of a few before it, which came late and is just as
        good."""
        numbers = [(self._number - back - 1) % 255 + 1 for back in range(_ASKINGS_BACK)]
        return max(heard.rfind(bytes([START, number])) for number in numbers)

    def identify(self) -> Identity:
        """Version, programming mode, and the signature, one byte per call."""
        details: tuple[tuple[str, str], ...] = ()
        try:
            major, minor = (
                self._repeat(bytes([Command.GET_PARAMETER, p]), 1)[0] for p in (MAJOR_VERSION, MINOR_VERSION)
            )
            details = (("loader", f"{major}.{minor}"),)
        except ChipRefusal:  # the smallest have no parameters
            pass
        self._repeat(_ENTER, 0)
        signature = bytes(
            self._repeat(bytes([Command.READ_SIGNATURE, 4, 0x30, 0x00, which, 0x00]), 2)[0] for which in range(3)
        )
        return Identity(int.from_bytes(signature, "big"), f"signature {show_bytes(signature)}", details)

    def examine(self, part: Part) -> Examination:
        """The dialect reports no sizes: the part's are used."""
        self._far = part.flash.size > 2 * _FAR_WORDS
        return Examination(part, (("flash", show_size(part.flash.size)),))

    def asked_before(self, times: int, since_s: float) -> None:
        """Replies are known by their numbers: late ones are skipped as they come."""

    def look_before(self, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> tuple[str, ...]:
        return look_at_avr(self, part, images)

    def loader_room(self, part: Part) -> int | None:
        return loader_room(self, part)

    def must_stay(self, part: Part) -> Piece | None:
        return jump_to_loader(self, part)

    # --- memory

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        """A flash page; for EEPROM, what fits every loader's buffer."""
        return memory.write_unit if memory.is_flash else 128

    @classmethod
    def read_block(cls, memory: Memory) -> int:
        return max(128, cls.write_block(memory))

    @classmethod
    def writes_whole_blocks(cls, memory: Memory) -> bool:
        return memory.is_flash

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        busy_s = memory.program_s * (1 if memory.is_flash else size)
        return Cost(_AROUND + 10 + size, _AROUND + 2, 1, busy_s)

    @classmethod
    def cost_of_writes(cls, part: Part, memory: Memory, blocks: Sequence[WriteBlock]) -> Cost:
        """All pages from the first to the last that is written; an EEPROM from 0 on."""
        if not blocks:
            return Cost()
        first = memory.usable_start if memory.is_flash else memory.start
        end, size = blocks[-1].address + len(blocks[-1].data), cls.write_block(memory)
        return sum_costs(cls.cost_of_write(memory, min(size, end - at)) for at in range(first, end, size))

    def _go_to(self, memory: Memory, address: int) -> None:
        """Load the address, in words, unless the loader has advanced to it. In the EEPROM only 0 means the same to
        every loader."""
        if self._next == (memory.name, address):
            return
        number = (address - memory.start) >> 1 | (FAR if memory.is_flash and self._far else 0)
        self._repeat(bytes([Command.LOAD_ADDRESS]) + number.to_bytes(4, "big"), 0)
        self._next = (memory.name, address)

    def _stepped(self, memory: Memory, address: int) -> None:
        """The loader has advanced; not every one does so past 64 K words."""
        crossed = not (address - memory.start) % (2 * _FAR_WORDS)
        self._next = None if crossed else (memory.name, address)

    def was_reset(self) -> None:
        self._next = None
        self._fresh = True

    @classmethod
    def erased_by_writing(cls, part: Part, memory: Memory, spans: Sequence[Span]) -> Sequence[Span]:
        """Everything up to the end of what is written."""
        return [Span(memory.usable_start, spans[-1].end)]

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        if not memory.is_flash:
            yield from self._write_eeprom(memory, blocks)
            return
        fresh, self._fresh = self._fresh, False
        for number, block in enumerate(blocks):
            before = b"" if number or fresh else self.read(memory, block.address, len(block.data))
            self.exchange(
                lambda block=block: self._write(memory, block),  # type: ignore[misc]
                self._recover,
                resolve=lambda block=block: self._is_there(memory, block),  # type: ignore[misc]
            )
            self._stepped(memory, block.address + len(block.data))
            if before:
                self._see_that_it_was_erased(memory, block, before)
            yield block

    def _write(self, memory: Memory, block: WriteBlock) -> bytes:
        self._go_to(memory, block.address)
        command = Command.PROGRAM_FLASH if memory.is_flash else Command.PROGRAM_EEPROM
        size = len(block.data)
        body = bytes([command, size >> 8, size & 0xFF]) + _PROGRAM_MODE + block.data
        return self._exchange(body, 0, 4 * self.cost_of_write(memory, size).busy_s, block.address)

    def _is_there(self, memory: Memory, block: WriteBlock) -> bytes | None:
        """Whether the page was written though its reply was lost: a second write would erase the page after it."""
        self._next = None
        return b"" if self.read(memory, block.address, len(block.data)) == block.data else None

    def _see_that_it_was_erased(self, memory: Memory, block: WriteBlock, before: bytes) -> None:
        """Raises NotReset if the loader still counts on from an earlier upload."""
        found = self.read(memory, block.address, len(block.data))
        mixed = bytes(new & old for new, old in zip(block.data, before, strict=True))
        if found != block.data and found == mixed:
            raise NotReset("first page", found[:8])

    def _write_eeprom(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """From 0 on, rewriting unchanged what no block covers; after a fault again from 0, which is harmless."""
        if not blocks:
            return
        size = self.write_block(memory)
        end = blocks[-1].address + len(blocks[-1].data)
        whole = sum(len(block.data) for block in blocks) == end
        content = bytearray(b"" if whole else self._eeprom_from_0(memory, blocks[-1].address, size))
        if not self.confirm_reading(memory, 0, bytes(content)):
            raise Unexpected("EEPROM that reads the same in two ways", bytes(content[:8]))
        for block in blocks:
            content[block.address : block.address + len(block.data)] = block.data
        waiting = list(blocks)
        for attempt in range(_TRIES):
            try:
                self._next = None
                for at in range(0, end, size):
                    self._write(memory, WriteBlock(at, bytes(content[at : at + size])))
                    self._next = (memory.name, at + size)
                    while waiting and waiting[0].address + len(waiting[0].data) <= at + size:
                        yield waiting.pop(0)
                break
            except (Silence, Unexpected) as error:
                if attempt == _TRIES - 1:
                    raise
                self.retries += 1
                self._recover(error.heard)
        self._next = None
        found = bytes(content) if whole else self._eeprom_from_0(memory, end, size)
        if found != content:  # verify looks at the pieces only; a fresh start would take this for the old content
            at = next(at for at, (a, b) in enumerate(zip(found, content, strict=True)) if a != b)
            raise VerifyFault.of(
                "written-beside",
                f"the EEPROM does not accept the bytes beside the image again: {show_address(at)} differs",
                evidence=(f"written {content[at]:02X}, found {found[at]:02X}",),
                attempts=("upload again; the EEPROM may be worn there",),
                certainty="likely",
            )

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        """Flash in whole words: loaders count down by two, and would not end at an odd number."""
        if not memory.is_flash:
            return self._read_eeprom(memory, address, size)
        even = address - (address & 1)
        wanted = size + address - even
        wanted += wanted & 1
        body = bytes([Command.READ_FLASH, wanted >> 8, wanted & 0xFF, 0x20])

        def from_its_address() -> bytes:
            self._go_to(memory, even)
            return self._exchange(body, wanted + 1, 0.0, even)

        data = self.exchange(from_its_address, self._forget)
        self._next = (memory.name, even + wanted)
        if data[-1] != OK:
            raise ChipRefusal(Command.READ_FLASH.words, RefusalKind.BAD_DATA, data[-1:], address)
        return data[address - even : -1][:size]

    def _forget(self, heard: bytes) -> None:
        self._next = None
        self._recover(heard)

    def _read_eeprom(self, memory: Memory, address: int, size: int) -> bytes:
        """From the address the loader has advanced to, else from 0 on."""
        if self._next == (memory.name, address):
            try:
                return self._eeprom_next(memory, address, size)
            except (Silence, Unexpected) as error:
                self.retries += 1
                self._forget(error.heard)
        block = self.read_block(memory)
        return self.exchange(lambda: self._eeprom_from_0(memory, address + size, block)[address:], self._forget)

    def _eeprom_from_0(self, memory: Memory, end: int, block: int) -> bytes:
        """The bytes before `end`. Raises Silence, Unexpected if any is lost: then the loader's address is unknown."""
        self._next = None
        self._go_to(memory, 0)
        data = b""
        while len(data) < end:
            data += self._eeprom_next(memory, len(data), min(block, end - len(data)))
        return data

    def confirm_reading(self, memory: Memory, address: int, data: bytes) -> bool:
        """An EEPROM by explicit addresses, which are either bytes or words."""
        if memory.is_flash:
            return super().confirm_reading(memory, address, data)
        return any(self._eeprom_shows(memory, address, data, counted) for counted in (1, 2))

    def _eeprom_shows(self, memory: Memory, address: int, data: bytes, counted: int) -> bool:
        """Whether the loader shows `data` if each address counts so many bytes."""
        at = -(address % counted)
        while at < len(data):
            size = min(_OTHER_BLOCK, len(data) - at)
            number = ((address + at) // counted).to_bytes(4, "big")

            def from_its_address(number: bytes = number, at: int = at, size: int = size) -> bytes:
                self._repeat(bytes([Command.LOAD_ADDRESS]) + number, 0)
                return self._eeprom_next(memory, address + at, size)

            found = self.exchange(from_its_address, self._forget)
            self._next = None
            if found[max(0, -at) :] != data[max(0, at) : at + size]:
                return False
            at += size
        return True

    def _eeprom_next(self, memory: Memory, at: int, size: int) -> bytes:
        """From `at`, which the loader has advanced to."""
        self._next = None
        data = self._exchange(bytes([Command.READ_EEPROM, size >> 8, size & 0xFF, 0xA0]), size + 1)
        if data[-1] != OK:
            raise ChipRefusal(Command.READ_EEPROM.words, RefusalKind.BAD_DATA, data[-1:], at)
        self._next = (memory.name, at + size)
        return data[:-1]

    # --- starting

    def start(self, address: int) -> str:
        """Leaving programming mode starts the application, usually at once."""
        self._exchange(bytes([Command.LEAVE_PROGRAMMING, 1, 1]), 0)
        return "leave acknowledged"

    def finish(self) -> None:
        self.start(0)
