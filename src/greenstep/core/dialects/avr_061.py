"""`avr-061`: the bootloaders of 8-bit AVR boards that speak a subset of Atmel AVR061.

Every command ends with 20 and every good reply is 14 … 10. Nothing on the line is guarded by a checksum, so only what
is read back counts. Writing a page erases it first: a page may be written again, and is, if the reply shows that the
two sides were out of step.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, ClassVar

from ..chips.part import Memory, Part
from ..image import Image, Piece
from ..link import Deadline, Link
from ..quantities import show_bytes
from .abilities import LoaderInFlash
from .avr_looking import jump_to_loader, loader_room, look_at_avr
from .dialect import Dialect
from .errors import ChipRefusal, DialectError, RefusalKind, Silence, Unexpected
from .line import drain, read_until
from .probe import Probe
from .results import Identity, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, ProtocolCommand, Spec, Starting

END = 0x20
MAJOR_VERSION, MINOR_VERSION = 0x81, 0x82
IN_SYNC, OK = 0x14, 0x10


class Command(ProtocolCommand):
    """AVR061, section "Commands"."""

    GET_SYNC = 0x30, "sync"
    GET_PARAMETER = 0x41, "get parameter"
    ENTER_PROGRAMMING = 0x50, "enter programming"
    LEAVE_PROGRAMMING = 0x51, "leave programming"
    LOAD_ADDRESS = 0x55, "load address"
    PROGRAM_PAGE = 0x64, "program page"
    READ_PAGE = 0x74, "read page"
    READ_SIGNATURE = 0x75, "read signature"


NO_SYNC, FAILED, UNKNOWN = 0x15, 0x11, 0x12

# A loader that misses a byte times out after half a second or more; we stop waiting sooner, so that there is
# still a loader to synchronise with. If its first answer came late (networks, emulated chips), they all will.
_REPLY_S, _LONGEST_REPLY_S = 0.5, 3.0
_REPLY_BY_SYNC = 40
_QUIET_S, _SOON_S = 0.03, 0.1
_LOOKED_AT, _STEP, _MARK = 32, 16, b"\x5a\x96\x3c"
"""For an EEPROM with unknown addressing: half the size looked at, the distance, and what is written to find out."""


def _is_out_of_step(heard: bytes) -> bool:
    """Whether this can no longer become a good reply, so that the rest is not waited for."""
    return heard[0] != IN_SYNC


def _is_refusal(heard: bytes) -> bool:
    """The same if no data follows the first byte; data could look like a refusal."""
    return heard[0] != IN_SYNC or heard[1:2] in (bytes([FAILED]), bytes([UNKNOWN]))


class Avr061(Dialect, LoaderInFlash):
    """The conversation with one chip."""

    name: ClassVar[str] = "avr-061"
    title: ClassVar[str] = "AVR bootloader, AVR061"
    document: ClassVar[str] = "Atmel AVR061"
    decoder: ClassVar[str] = "avr_061"
    answer_s: ClassVar[float] = 0.4
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=bytes([Command.GET_SYNC, END]),
            answers=(bytes([IN_SYNC, OK]),),
            other_answers=(bytes([NO_SYNC]), bytes([IN_SYNC, UNKNOWN]), bytes([IN_SYNC, FAILED])),
            # 80 ms: past the longest start-up delay of the parts. A loader that flashes an LED first holds one asking
            # in its UART, and loses its step over a second one: so each reset gets one, and the last gives it long
            attempts=(Attempt(0.08, 1), Attempt(0.08, 1), Attempt(0.3, 1), Attempt(0.6, 2), Attempt(2.0, 4)),
            wait_s=0.6,
            order=40,
            usb_vendor_id="03EB",
            other_bauds=(115200, 57600, 19200, 38400),
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        guards_writes=False,
        gives_up=True,
        start_answers=False,
        costs=Costs(read=CostRow(9, 4)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._eeprom_by_bytes: bool | None = None
        self._in_one_go = True
        self._reply_s = _REPLY_S
        self._late_s = 0.0
        """How late its answers seem to be at most, judged by the first of them."""
        self._probe = Probe(link)
        """The signature, once known: its answer is like no other."""

    # --- synchronisation

    def ask(self, wait_s: float) -> str | None:
        """Send 30 20 and wait for 14 10; late answers to earlier questions count too."""
        answer = self._ask_once(wait_s)
        return answer if answer is not None and self._is_in_step(wait_s) else None

    def _ask_once(self, wait_s: float) -> str | None:
        self.link.discard()
        deadline = Deadline.after(self.link, wait_s)
        self.link.write(bytes([Command.GET_SYNC, END]))
        asked_s = self.link.now()
        heard = self.link.read(2, wait_s)
        took_s = self.link.now() - asked_s
        if heard:
            heard += drain(self.link, _QUIET_S, 0.5)
        if heard.endswith(bytes([IN_SYNC, OK])):
            self._reply_s = min(_LONGEST_REPLY_S, max(_REPLY_S, _REPLY_BY_SYNC * took_s))
            self._late_s = max(self._late_s, took_s if took_s > _SOON_S else 0.0)
            return show_bytes(heard[-2:])
        read_until(self.link, deadline)
        return None

    def _is_in_step(self, wait_s: float) -> bool:
        """Whether it answers once more: while it was busy starting it may have lost a byte, and would time out over
        the next command."""
        self.link.write(bytes([Command.GET_SYNC, END]))
        return self.link.read(2, wait_s) == bytes([IN_SYNC, OK]) and not drain(self.link, _QUIET_S, 0.2)

    def _resync(self) -> None:
        """Find the start of a command again. Raises Silence.

        A loader that took our 20 for a command takes the next 30 for its end, answers 15, and would go on like that
        for ever: a single 20 in between puts it back in step.
        """
        drain(self.link, 2 * _QUIET_S)
        for attempt in range(8):
            if attempt % 2:
                self.link.write(bytes([END]))
                drain(self.link, 2 * _QUIET_S)
            if self._ask_once(max(0.15, 1.2 * self._late_s)) is not None and (
                not self._probe.question or self._probe.catch_up(max(self._reply_s, self.patience_s))
            ):
                return
        raise Silence("14 10 to a new synchronisation", 1.6)

    # --- frames

    def _exchange(self, sent: bytes, size: int, command: str, replies: int = 1, busy_s: float = 0.0) -> bytes:
        """Send, and read `replies` replies, of which the last carries `size` bytes. Raises DialectError."""
        self.link.write(sent)
        wanted = 2 * replies + size
        line_s = self.link.settings.seconds(len(sent) + wanted) + busy_s
        timeout_s = line_s + self._reply_s
        over = _is_refusal if replies > 1 or not size else _is_out_of_step
        heard = self._probe.hear(wanted, line_s, max(self._reply_s, self.patience_s), self._reply_s, over)
        waiting_for = f"reply to '{command}'"
        if len(heard) < wanted:
            heard += drain(self.link, _QUIET_S)
            if heard[-1:] in (bytes([FAILED]), bytes([UNKNOWN])):
                raise ChipRefusal(command, RefusalKind.UNSUPPORTED, heard)
            if heard[:1] and heard[0] != IN_SYNC:
                raise Unexpected(waiting_for, heard)
            raise Silence(waiting_for, timeout_s, heard)
        good = bytes([IN_SYNC, OK]) * (replies - 1) + bytes([IN_SYNC])
        if heard.startswith(good) and heard[-1] in (FAILED, UNKNOWN):
            raise ChipRefusal(command, RefusalKind.UNSUPPORTED, heard[-2:])
        if not heard.startswith(good) or heard[-1] != OK:
            raise Unexpected(waiting_for, heard + drain(self.link, _QUIET_S))
        return heard[len(good) : -1]

    def _repeat(self, sent: bytes, size: int, command: str, replies: int = 1, busy_s: float = 0.0) -> bytes:
        """An exchange that may be retried; AVR061 has the host synchronise again and repeat it."""
        return self.exchange(
            lambda: self._exchange(sent, size, command, replies, busy_s), lambda _: self._resync(), refusals=1
        )

    # --- identification

    def identify(self) -> Identity:
        """Version, programming mode, signature. Nothing guards the signature: it must come out the same twice."""
        version = self._version()
        self._repeat(bytes([Command.ENTER_PROGRAMMING, END]), 0, "enter programming mode")
        once, twice = (self._signature() for _ in range(2))
        if once != twice:
            self.retries += 1
            once = self._signature()
        self._probe.question = bytes([Command.READ_SIGNATURE, END])
        self._probe.answer = bytes([IN_SYNC]) + once + bytes([OK])
        details = (("loader", version),) if version else ()
        return Identity(int.from_bytes(once, "big"), f"signature {show_bytes(once)}", details)

    def _version(self) -> str:
        """The loader's own version; empty if it does not answer, as the smallest need not."""
        try:
            major, minor = (
                self._exchange(bytes([Command.GET_PARAMETER, which, END]), 1, "parameter")[0]
                for which in (MAJOR_VERSION, MINOR_VERSION)
            )
        except DialectError:
            self.retries += 1
            self._resync()
            return ""
        return f"{major}.{minor}"

    def _signature(self) -> bytes:
        return self._repeat(bytes([Command.READ_SIGNATURE, END]), 3, "read signature")

    @property
    def disturbed(self) -> int:
        return self.retries + self._probe.asked

    def asked_before(self, times: int, since_s: float) -> None:
        """It starts the program if it hears nothing for a second, so there is no time to let everything pass."""
        if times:
            self._late_s = since_s
            self._reply_s = max(self._reply_s, 1.5 * since_s)

    def was_reset(self) -> None:
        self._probe.forget()

    def why_not_writable(self, memory: Memory) -> str:
        """Small loaders ignore the kind of memory: what is meant for the EEPROM goes into the flash."""
        if memory.is_flash:
            return ""
        frames = [bytes([Command.LOAD_ADDRESS, 0, 0, END, Command.READ_PAGE, 0, 64, ord(kind), END]) for kind in "EF"]
        eeprom, flash = (self._repeat(frame, 64, "read page", replies=2) for frame in frames)
        if eeprom == flash and flash.strip(b"\xff"):
            return f"asked for EEPROM, it shows the flash: {show_bytes(eeprom, 8)}"
        return ""

    def look_before(self, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> tuple[str, ...]:
        return look_at_avr(self, part, images)

    def loader_room(self, part: Part) -> int | None:
        return loader_room(self, part)

    def must_stay(self, part: Part) -> Piece | None:
        return jump_to_loader(self, part)

    # --- memory

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        """A flash page; for EEPROM, what fits the buffer of the smallest bootloaders."""
        return memory.layout[0][1] if memory.is_flash else 64

    @classmethod
    def writes_whole_blocks(cls, memory: Memory) -> bool:
        return memory.is_flash

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        """Address and page in one go: one turnaround."""
        busy_s = memory.program_s * (1 if memory.is_flash else size)
        return Cost(4 + 5 + size, 4, 1, busy_s)

    def _address(self, memory: Memory, address: int) -> bytes:
        """The frame that loads an address: in words, except for the EEPROM of bootloaders that address it in
        bytes."""
        by_bytes = not memory.is_flash and self._eeprom_by_bytes
        number = address if by_bytes else address >> 1
        return self._number(number)

    @staticmethod
    def _kind(memory: Memory) -> int:
        return ord("F") if memory.is_flash else ord("E")

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        for block in blocks:
            if not memory.is_flash and self._eeprom_by_bytes is None and block.address:
                self._find_eeprom_counting(memory)
                if self._eeprom_by_bytes is None:
                    self._try_eeprom_counting()
            self._write(memory, block)
            yield block

    def _write(self, memory: Memory, block: WriteBlock) -> None:
        """The next page may only follow the reply: the chip does not listen while it programs."""
        address, data = block.address, block.data
        if not memory.is_flash and address & 1 and not self._eeprom_by_bytes:
            address, data = address - 1, self.read(memory, address - 1, 1) + data
        size = len(data)
        page = bytes([Command.PROGRAM_PAGE, size >> 8, size & 0xFF, self._kind(memory)]) + data + bytes([END])
        busy_s = 4 * self.cost_of_write(memory, size).busy_s
        try:
            self._at(self._address(memory, address), page, 0, "program page", busy_s)
        except ChipRefusal as refusal:
            raise ChipRefusal("program page", RefusalKind.BAD_DATA, refusal.answer, block.address) from None

    def _at(self, address: bytes, page: bytes, size: int, command: str, busy_s: float = 0.0) -> bytes:
        """Address and page in one go, which saves a turnaround; separately once that failed, as it may over
        half-duplex lines and software UARTs."""

        def once() -> bytes:
            if self._in_one_go:
                return self._exchange(address + page, size, command, 2, busy_s)
            self._exchange(address, 0, "load address")
            return self._exchange(page, size, command, 1, busy_s)

        def recover(heard: bytes) -> None:
            self._in_one_go = False
            self._resync()

        return self.exchange(once, recover, refusals=1)

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        """`size` bytes; for EEPROM, whose addresses may be in words, an even `address` is safest."""
        if not memory.is_flash and self._eeprom_by_bytes is None and address:
            self._find_eeprom_counting(memory)
        skip = 0 if not memory.is_flash and self._eeprom_by_bytes else address & 1
        wanted = size + skip
        frame = bytes([Command.READ_PAGE, wanted >> 8, wanted & 0xFF, self._kind(memory), END])
        return self._at(self._address(memory, address - skip), frame, wanted, "read page")[skip:]

    def _find_eeprom_counting(self, memory: Memory) -> None:
        """Tell bootloaders that address the EEPROM in words from those that address it in bytes.

        The bytes at one address and at a slightly higher one overlap in one way or the other; which, shows wherever
        the content is not uniform.
        """
        for number in range(0, memory.size - 2 * _LOOKED_AT, _LOOKED_AT):
            try:
                here = self._raw_eeprom(number, 2 * _LOOKED_AT)
                if len(set(here)) == 1:
                    continue
                next_ = self._raw_eeprom(number + _STEP, _STEP)
            except ChipRefusal:
                if number < memory.size // 2 - 2 * _LOOKED_AT:
                    raise
                self._eeprom_by_bytes = False  # there are not so many words
                return
            in_bytes, in_words = next_ == here[_STEP : 2 * _STEP], next_ == here[2 * _STEP : 3 * _STEP]
            if in_words != in_bytes:
                self._eeprom_by_bytes = in_bytes
                return

    def _try_eeprom_counting(self) -> None:
        """If the content is uniform: write a few bytes where only the addressing decides their place, then restore
        them."""
        before = self._raw_eeprom(0, 2 * _LOOKED_AT)
        self._raw_eeprom_write(_STEP, _MARK)
        found = self._raw_eeprom(0, 2 * _LOOKED_AT).find(_MARK)
        self._raw_eeprom_write(0, before)
        if found not in (_STEP, 2 * _STEP):
            raise Unexpected("EEPROM bytes where they were written", b"")
        self._eeprom_by_bytes = found == _STEP

    def _raw_eeprom(self, number: int, size: int) -> bytes:
        return self._at(self._number(number), bytes([Command.READ_PAGE, 0, size, ord("E"), END]), size, "read page")

    def _raw_eeprom_write(self, number: int, data: bytes) -> None:
        frame = bytes([Command.PROGRAM_PAGE, 0, len(data), ord("E")]) + data + bytes([END])
        self._at(self._number(number), frame, 0, "program page", 0.02 * len(data))

    @staticmethod
    def _number(number: int) -> bytes:
        return bytes([Command.LOAD_ADDRESS, number & 0xFF, number >> 8, END])

    # --- starting

    def start(self, address: int) -> str:
        """Leaving programming mode starts the application, usually at once."""
        self._exchange(bytes([Command.LEAVE_PROGRAMMING, END]), 0, "leave programming mode")
        return "leave acknowledged"

    def finish(self) -> None:
        self.start(0)
