"""`avr-109`: the bootloaders of Atmel AVR109, above all those of AVRs that are their own USB device.

Commands are single letters, answered by CR or by what was asked for. Nothing is guarded by a checksum, so only what
is read back counts. 'e' erases all that the application may use, and comes before the first page.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..image import Image, Piece
from ..link import Deadline, Link
from ..quantities import show_bytes, show_heard
from .abilities import LoaderInFlash
from .avr_looking import jump_to_loader, loader_room, look_at_avr
from .dialect import Answer, Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .framing import Framing, Opened
from .line import drain, read_until, refuse_text
from .results import Identity, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, ProtocolCommand, Spec, Starting


class Command(ProtocolCommand):
    """AVR109, table "Self-programming commands": their letters."""

    IDENTIFIER = ord("S"), "identifier"
    SOFTWARE_VERSION = ord("V"), "software version"
    HARDWARE_VERSION = ord("v"), "hardware version"
    PROGRAMMER_TYPE = ord("p"), "programmer type"
    SIGNATURE = ord("s"), "signature"
    AUTO_INCREMENT = ord("a"), "auto-increment?"
    BLOCK_MODE = ord("b"), "block mode?"
    DEVICE_CODES = ord("t"), "device codes"
    SELECT_DEVICE = ord("T"), "select device"
    ENTER_PROGRAMMING = ord("P"), "enter programming"
    LEAVE_PROGRAMMING = ord("L"), "leave programming"
    SET_ADDRESS = ord("A"), "set address", "words:2"
    SET_FAR_ADDRESS = ord("H"), "set address", "words:3"
    ERASE_ALL = ord("e"), "erase all"
    WRITE_BLOCK = ord("B"), "write block", "size:2 data"
    READ_BLOCK = ord("g"), "read block", "size:2 data"
    EXIT = ord("E"), "exit"
    SYNCHRONISE = 0x1B, "synchronise"
    """Does nothing, and so ends a command that was begun."""


_CR, _UNKNOWN = b"\r", b"?"
_IDENTIFIER_BYTES = 7
_FAR_WORDS = 0x10000

_ERASE_S, _QUIET_S = 10.0, 0.03


def _opened(sent: bytes) -> Opened:
    return (sent[0], sent[1:]) if sent else None


def _answered(command: Command, sent: bytes, heard: bytes) -> str:
    """The chip's own words and numbers."""
    if command in (Command.IDENTIFIER, Command.SOFTWARE_VERSION):
        return show_heard(heard)
    return show_bytes(heard) if command in (Command.SIGNATURE, Command.BLOCK_MODE) else ""


class Avr109(Dialect, LoaderInFlash):
    """The conversation with one chip."""

    name: ClassVar[str] = "avr-109"
    title: ClassVar[str] = "AVR bootloader, AVR109"
    document: ClassVar[str] = "Atmel AVR109"
    decoder: ClassVar[Framing] = Framing(Command, _opened, "big", 5, _answered, (Command.SYNCHRONISE,))
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=b"S",
            other_answers=(_UNKNOWN,),
            attempts=(Attempt(0.05, 4), Attempt(0.3, 4), Attempt(0.6, 6)),
            wait_s=0.25,
            order=50,
            usb_vendor_id="03EB",
            other_bauds=(57600, 115200, 19200, 38400),
        ),
        erasing=Erasing.ALL_AT_ONCE,
        starting=Starting.COMMAND,
        start_answers=False,
        erases_alone=True,
        guards_writes=False,
        gives_up=True,
        costs=Costs(read=CostRow(4, 0)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._buffer = 0
        self._next: tuple[str, int] | None = None

    # --- letters

    def _exchange(self, command: Command, size: int, rest: bytes = b"", longest_s: float = 0.0) -> bytes:
        """Send a command and read an answer of exactly that many bytes. Raises DialectError."""
        self.link.discard()
        self.link.write(bytes([command]) + rest)
        timeout_s = self.link.settings.seconds(1 + len(rest) + size) + self.patience_s + longest_s
        heard = self.link.read(1, timeout_s)
        heard += self.link.read(size - 1, timeout_s) if size > 1 and heard else b""
        if heard == _UNKNOWN and size != 1:
            raise ChipRefusal(command.words, RefusalKind.UNSUPPORTED, heard)
        if len(heard) < size:
            raise Silence(f"answer to '{command.words}'", timeout_s, heard)
        return heard

    def _order(self, command: Command, rest: bytes = b"", longest_s: float = 0.0, address: int | None = None) -> None:
        """A command that is answered by CR."""
        heard = self._exchange(command, 1, rest, longest_s)
        if heard == _UNKNOWN:
            raise ChipRefusal(command.words, RefusalKind.UNSUPPORTED, heard, address)
        if heard != _CR:
            raise Unexpected(f"0D after '{command.words}'", heard + drain(self.link, _QUIET_S))

    def _with_retry(self, exchange: Callable[[], Answer]) -> Answer:
        """An exchange that may be retried."""
        return self.exchange(exchange, self._recover, refusals=1)

    def _recover(self, heard: bytes) -> None:
        """Complete a half command with bytes that do nothing, and check that the loader answers. Raises Silence,
        Unexpected."""
        self._next = None
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for attempt in range(6):
            self.link.write(bytes([Command.SYNCHRONISE]) * (8 if attempt < 2 else 300))
            drain(self.link, self.link.settings.seconds(300 if attempt >= 2 else 8) + 2 * _QUIET_S)
            if self.ask(0.2) is not None:
                return
        raise Silence("answer to 'identifier'", 2.0)

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Ask for the identifier, seven characters; asking changes nothing."""
        self.link.discard()
        self._next = None
        deadline = Deadline.after(self.link, wait_s)
        names = []
        for _ in range(2):  # seven characters of a program's text could look the same, once
            self.link.write(bytes([Command.IDENTIFIER]))
            heard = self.link.read(_IDENTIFIER_BYTES, wait_s)
            if not re.fullmatch(rb"[ -~]{7}", heard) or drain(self.link, _QUIET_S, 0.2):
                break
            names.append(heard.decode("ascii"))
        if len(names) == 2 and names[0] == names[1] and names[0].strip():
            return f'"{names[0]}"'
        read_until(self.link, deadline)
        return None

    def identify(self) -> Identity:
        """Version, signature, size of the block buffer. Nothing guards the signature: it must come out the same
        twice."""
        details: tuple[tuple[str, str], ...] = ()
        version = self._with_retry(lambda: self._exchange(Command.SOFTWARE_VERSION, 2))
        if version.isdigit():
            details = (("loader", f"{chr(version[0])}.{chr(version[1])}"),)
        once, twice = (self._with_retry(lambda: self._exchange(Command.SIGNATURE, 3)) for _ in range(2))
        if once != twice:
            self.retries += 1
            once = self._with_retry(lambda: self._exchange(Command.SIGNATURE, 3))
        signature = once[::-1]
        mode = self._with_retry(lambda: self._exchange(Command.BLOCK_MODE, 3))
        self._buffer = int.from_bytes(mode[1:3], "big") if mode[:1] == b"Y" else 0
        if not self._buffer:
            raise ChipRefusal(
                Command.BLOCK_MODE.words, RefusalKind.UNSUPPORTED, mode, None, f"no block mode ({show_bytes(mode)})"
            )
        self._with_retry(lambda: self._order(Command.ENTER_PROGRAMMING))
        return Identity(int.from_bytes(signature, "big"), f"signature {show_bytes(signature)}", details)

    def look_before(self, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> tuple[str, ...]:
        return look_at_avr(self, part, images)

    def loader_room(self, part: Part) -> int | None:
        return loader_room(self, part)

    def must_stay(self, part: Part) -> Piece | None:
        return jump_to_loader(self, part)

    # --- memory

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        return memory.write_unit if memory.is_flash else 64

    @classmethod
    def writes_whole_blocks(cls, memory: Memory) -> bool:
        return memory.is_flash

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(4 + size, 1, 1, memory.program_s * (1 if memory.is_flash else size))

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Only all at once."""
        self.erase_all(memory)
        yield len(units)

    def erase_all(self, memory: Memory) -> None:
        self._with_retry(lambda: self._order(Command.ERASE_ALL, longest_s=_ERASE_S))

    def _go_to(self, memory: Memory, address: int) -> None:
        """Set the address, in words for flash and in bytes for EEPROM, unless the loader has counted on to it."""
        if self._next == (memory.name, address):
            return
        number = address >> 1 if memory.is_flash else address
        if number < _FAR_WORDS:
            self._order(Command.SET_ADDRESS, number.to_bytes(2, "big"))
        else:
            self._order(Command.SET_FAR_ADDRESS, number.to_bytes(3, "big"))
        self._next = (memory.name, address)

    @staticmethod
    def _kind(memory: Memory) -> bytes:
        return b"F" if memory.is_flash else b"E"

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        for block in blocks:
            for at in range(0, len(block.data), self._buffer or len(block.data)):
                data = block.data[at : at + (self._buffer or len(block.data))]
                self._with_retry(partial(self._write, memory, block.address + at, data))
            yield block

    def _write(self, memory: Memory, address: int, data: bytes) -> None:
        self._go_to(memory, address)
        rest = len(data).to_bytes(2, "big") + self._kind(memory) + data
        self._order(Command.WRITE_BLOCK, rest, 4 * self.cost_of_write(memory, len(data)).busy_s, address)
        self._next = (memory.name, address + len(data))

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        even = address - (address & 1 if memory.is_flash else 0)
        wanted = size + address - even
        data: bytes = self._with_retry(lambda: self._read(memory, even, wanted))
        return data[address - even :]

    def _read(self, memory: Memory, address: int, size: int) -> bytes:
        self._go_to(memory, address)
        data = self._exchange(Command.READ_BLOCK, size, size.to_bytes(2, "big") + self._kind(memory))
        self._next = (memory.name, address + size) if not size & 1 else None
        return data

    # --- starting

    def start(self, address: int) -> str:
        """Leaving programming, then exit: the watchdog starts the application."""
        self._order(Command.LEAVE_PROGRAMMING)
        self._order(Command.EXIT)
        return "exit acknowledged"

    def finish(self) -> None:
        self.start(0)
