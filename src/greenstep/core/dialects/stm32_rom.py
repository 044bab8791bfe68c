"""The CRC that STM32 chips compute over their flash (reference manuals, "CRC calculation unit").

`stm32-rom`: the USART bootloader in STM32 system memory (ST AN3155; parts and entry: AN2606).

Every command is its code and the complement, answered 79 (ACK) or 1F (NACK); its arguments follow in frames that end
in an XOR of their bytes, each acknowledged. After a NACK the chip waits for a new command, so what was refused may be
asked again. After silence nobody knows where the chip stands: only what changes nothing on it (commands, addresses,
reads) or does the same again (an erase) is retried, after a new synchronisation, and a write only if reading shows
the place still erased.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import reduce
from operator import xor
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..errors import NoAnswerFault
from ..link import Deadline, Frame, Link
from ..quantities import count, show_address, show_size
from .abilities import PROOF_BYTES, Checksums, LiftsWriteProtection, Locks, ProvesRate, Unlocks
from .dialect import Dialect
from .errors import ChipRefusal, DialectError, RefusalKind, Silence, Unexpected
from .line import drain, noise, read_exactly, read_until, refuse_text
from .results import Examination, Identity, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, ProtocolCommand, Setting, Spec, Starting
from .ways import prove_by_readings

POLYNOMIAL, START = 0x04C11DB7, 0xFFFFFFFF  # the unit's reset values
_REVERSED = bytes(int(f"{value:08b}"[::-1], 2) for value in range(256))


def word_crc(data: bytes) -> int:
    """The CRC-32 that the STM32 CRC unit computes over 32-bit words: polynomial 04C11DB7, start FFFFFFFF.

    Words are fed most significant bit first and the result is not inverted. zlib's CRC runs the other way round, so
    it gets the bits of each word mirrored.
    """
    words = bytearray(len(data))
    for lane in range(4):
        words[lane::4] = data[3 - lane :: 4]
    mirrored = zlib.crc32(bytes(words).translate(_REVERSED)) ^ 0xFFFFFFFF
    return int(f"{mirrored:032b}"[::-1], 2)


SYNC, ACK, NACK = 0x7F, 0x79, 0x1F


class Command(ProtocolCommand):
    """AN3155, section 3, "Bootloader command set": each has a section of its name."""

    GET = 0x00, "get"
    VERSION = 0x01, "get version"
    ID = 0x02, "get id"
    READ = 0x11, "read memory"
    GO = 0x21, "go"
    WRITE = 0x31, "write memory"
    ERASE = 0x43, "erase"
    EXTENDED_ERASE = 0x44, "extended erase"
    WRITE_PROTECT = 0x63, "write protect"
    WRITE_UNPROTECT = 0x73, "write unprotect"
    READOUT_PROTECT = 0x82, "readout protect"
    READOUT_UNPROTECT = 0x92, "readout unprotect"
    CHECKSUM = 0xA1, "get checksum"


BLOCK = 256
"""Bytes in one read or write at most (AN3155, "Read Memory" and "Write Memory")."""

_QUIET_S = 0.03
_RESTART_S = 0.05  # from a reset of its own until the loader listens again
_TRIES = 3
_LOCKED_COMMANDS = (Command.READ, Command.WRITE, Command.GO, Command.ERASE, Command.EXTENDED_ERASE)
_RESYNC_S = 0.15  # for the answer to one 7F, unless the slowest answer so far took longer
_NEVER_REFUSED = (Command.GET, Command.VERSION, Command.ID)
_LATE_S = 0.3
_RESYNCS = 6  # an address frame has 5 bytes, and a busy chip may swallow one
_FILLER = b"\x01" + bytes(BLOCK + 2)
_SECOND_BANK = 256
"""The number of the first page of bank 2 (reference manuals, "Flash module organization")."""
IGNORED = "ignored while nBOOT_SEL is set"
_ROOMY_RAM, _PROOF_ROOM = 16384, 1024
_LAID_OUT_BY_SIZE = {"bank2", "two_banks", "dual_banks", "single_bank"}
"""What a record has where an option and the size decide how large the erase units are, and how they are numbered."""
READ_REQUEST = 9  # bytes; as many as an answer of this size
_ERASE_GROUP_S = 1.0  # erase so many units per command that progress shows about every second


def _lacks_id(answer: bytes) -> bool:
    """Whether an answer to `get` has commands, and none for an id."""
    return len(answer) > 1 and Command.ID not in answer[1:]


class StLoader(Dialect, Checksums, ProvesRate):
    """The conversation with one chip. `identify` comes before everything that changes it."""

    name: ClassVar[str] = "stm32-rom"
    title: ClassVar[str] = "STM32 ROM bootloader"
    document: ClassVar[str] = "ST AN3155"
    frame: ClassVar[Frame] = Frame(8, "even", 1)
    decoder: ClassVar[str] = "stm32_rom"
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=bytes([SYNC]),
            answers=(bytes([ACK]), bytes([NACK])),
            sounds=(rb"[\x79\x1f]{1,4}[\x08-\x11].\x00\x01\x02\x11.*",),  # to 7F and `get`
            attempts=(Attempt(0.0, 4), Attempt(0.1, 4), Attempt(0.4, 8)),
            wait_s=0.25,
            order=10,
            usb_vendor_id="0483",
            measures_rate=True,
        ),
        erasing=Erasing.BY_UNIT,
        starting=Starting.RESET,
        guards_writes=True,
        gives_up=False,
        erases_alone=True,
        settings=(Setting("unit", "number", 0, "erase unit in bytes, where neither chip nor record tells it"),),
        costs=Costs(block=BLOCK, read=CostRow(9, 3, 3)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self.commands: frozenset[int] = frozenset()
        self.version = ""
        self._checksum_works = True
        self._pages_only = False
        self._slowest_s = 0.0

    # --- synchronisation (AN3155, section 2)

    def ask(self, wait_s: float) -> str | None:
        """Send 7F once and wait for its answer, which may only be ACK or NACK and nothing else.

        ACK: fresh from reset. NACK: synchronised before. Silence: not there, or the chip took this 7F for the first
        byte of a command, and will answer the next 7F with NACK.
        """
        self.link.discard()
        deadline = Deadline.after(self.link, wait_s)
        self.link.write(bytes([SYNC]))
        heard = self.link.read(1, wait_s)
        if heard and heard[0] in (ACK, NACK):
            heard += drain(self.link, _QUIET_S, 0.5)
        if not heard or set(heard) - {ACK, NACK}:  # silence, or an application that may even send 'y'
            read_until(self.link, deadline)
            return None
        return f"{heard[0]:02X}" + ("" if heard[0] == ACK else ", synchronised before")

    def resync(self) -> None:
        """Bring the chip back to waiting for a command, whatever half frame it holds.

        The bytes 7F complete a half frame with a wrong complement or checksum, which is answered NACK. If a byte of
        an address was lost on the way, the chip took a 7F for the size of data, of which 129 bytes are to follow: the
        filler completes them, and makes their XOR wrong after an even and an odd number of 7F. Raises Silence if
        there is no NACK to that either.
        """
        drain(self.link, _QUIET_S)
        if self._refused_sync():
            return
        self.link.write(_FILLER)
        longest_s = self.link.settings.seconds(len(_FILLER)) + self._sync_wait_s()
        if not self.link.read(1, longest_s):
            raise Silence("NACK to a new synchronisation", _RESYNCS * self._sync_wait_s() + longest_s)
        drain(self.link, _QUIET_S, longest_s)
        if not self._refused_sync():
            raise Silence("NACK to a new synchronisation", 2 * _RESYNCS * self._sync_wait_s())

    def _refused_sync(self) -> bool:
        """Whether one of a few 7F is answered NACK, with nothing else after it."""
        for _ in range(_RESYNCS):
            self.link.write(bytes([SYNC]))
            heard = self.link.read(1, self._sync_wait_s())
            if heard and drain(self.link, _QUIET_S, 0.5)[-1:] in (b"", bytes([NACK])) and heard[0] == NACK:
                return True
        return False

    def _sync_wait_s(self) -> float:
        """A 7F sent before the last one's answer has come would be one too many."""
        return max(_RESYNC_S, 1.5 * self._slowest_s)

    # --- frames

    def _acknowledged(
        self, command: Command, refused: RefusalKind, sent: int, busy_s: float = 0.0, address: int | None = None
    ) -> None:
        """Wait for the ACK of a frame of `sent` characters; `refused` is what a NACK means. Raises ChipRefusal,
        Silence or Unexpected."""
        waiting_for = f"answer to the {refused.stage} of '{command.words}'"
        sending_s = self.link.settings.seconds(sent)
        asked_s = self.link.now()
        heard = read_exactly(self.link, 1, sending_s + self.patience_s + busy_s, waiting_for)
        if not busy_s:
            self._slowest_s = max(self._slowest_s, self.link.now() - asked_s - sending_s)
        if heard[0] == NACK:
            raise ChipRefusal(command.words, refused, heard, address)
        if heard[0] != ACK:
            raise Unexpected(waiting_for, heard + drain(self.link, _QUIET_S))

    def _command(self, command: Command) -> None:
        """Send a command code until it is acknowledged; a code changes nothing, so asking again is safe. A command
        that every chip allows is only refused if an answer came so late that the next byte was out of step: then wait
        longer for the next."""
        refused = False
        for attempt in range(_TRIES):
            self.link.write(bytes([command, command ^ 0xFF]))
            try:
                self._acknowledged(command, _refused(command), 2)
                return
            except (ChipRefusal, Silence, Unexpected) as trouble:
                if (refused and command not in _NEVER_REFUSED) or attempt == _TRIES - 1:
                    drain(self.link, _QUIET_S)  # many say NACK twice while they are locked (ST errata, AN2606)
                    raise
                refused = isinstance(trouble, ChipRefusal)
                if command in _NEVER_REFUSED:
                    self._slowest_s = max(2 * self._slowest_s, _LATE_S)
                self.retries += 1
                self.resync()

    def _address(self, command: Command, address: int) -> None:
        frame = address.to_bytes(4, "big")
        self.link.write(frame + bytes([reduce(xor, frame)]))
        self._acknowledged(command, RefusalKind.BAD_ADDRESS, 5, address=address)

    # --- identification

    def identify(self) -> Identity:
        """`get` and `get id`. Nothing guards the id's bytes, so it must come out the same twice."""
        answer = self._with_retry(lambda: self._listing(Command.GET))
        if _lacks_id(answer):
            answer = self._without_id(answer)
        version, codes = answer[0], answer[1:]
        self.commands = frozenset(codes)
        self.version = f"{version >> 4}.{version & 15}"
        once, twice = (self._with_retry(lambda: self._listing(Command.ID)) for _ in range(2))
        if once != twice:
            self.retries += 1
            once = self._with_retry(lambda: self._listing(Command.ID))
        ident = int.from_bytes(once, "big")
        details = (("loader", self.version), ("commands", " ".join(f"{code:02X}" for code in sorted(codes))))
        return Identity(ident, f"id {ident:03X}", details)

    def _without_id(self, told: bytes) -> bytes:
        """The answer to `get` when asked again. Raises NoAnswerFault if it is the same, and so of another bootloader;
        Unexpected if it may be damaged."""
        self.retries += 1
        answer = self._with_retry(lambda: self._listing(Command.GET))
        if not _lacks_id(answer):
            return answer
        if answer != told or self.trial_s is not None:
            raise Unexpected("a command for an id", answer)
        raise NoAnswerFault.of(
            "other-dialect",
            "this sounds like another bootloader: it has no command for an id, as that of an STM8",
            (f"its commands: {' '.join(f'{code:02X}' for code in sorted(answer[1:]))}",),
            ("check --chip: is this the board you meant?",),
        )

    def _listing(self, command: Command) -> bytes:
        """The answer of `get` and `get id`: a count less one, so many bytes, ACK."""
        self._command(command)
        waiting_for = f"answer to '{command.words}'"
        size = read_exactly(self.link, 1, self.patience_s, waiting_for)[0] + 1
        body = read_exactly(self.link, size + 1, self.patience_s, waiting_for)
        if body[-1] != ACK:
            raise Unexpected(f"ACK at the end of the {waiting_for}", body[-1:])
        return body[:-1]

    def protection_bytes(self) -> bytes:
        """`get version`: the version and two legacy option bytes (3 bytes)."""
        self._command(Command.VERSION)
        body = read_exactly(self.link, 4, self.patience_s, "answer to 'get version'")
        if body[3] != ACK:
            raise Unexpected("ACK at the end of 'get version'", body[3:])
        return body[:3]

    def _with_retry(self, ask: Callable[[], bytes]) -> bytes:
        """A question that changes nothing; asked once more if its answer was damaged."""
        return self.exchange(ask, self._recover, 2)

    def _recover(self, heard: bytes) -> None:
        refuse_text("answer", heard)
        self.resync()

    def examine(self, part: Part) -> Examination:
        """Flash size and unique id, from the registers of the part; a refused read shows a locked chip."""
        details: list[tuple[str, str]] = []
        unique = ""
        self._pages_only = bool(part.extra.get("pages_only"))
        try:
            size = self._flash_size(part) or (part.flash.size if part.size_known else None)
            if size is not None:
                part = replace(part.with_memory(self._layout(part, size)), size_known=True)
                details.append(("flash", show_size(size)))
            unique = self._unique_id(part)
            if unique:
                details.append(("unique id", unique))
            if self._ignores_boot_pin(part):
                details.append(("boot pin", IGNORED))
        except ChipRefusal as refusal:
            self.examined_part = part
            return Examination(part, tuple(details), unique, locked=str(refusal))
        self.examined_part = part
        return Examination(part, tuple(details), unique)

    def _unique_id(self, part: Part) -> str:
        """Its three words, as hexadecimal digits in the order of their addresses; empty if they cannot be read."""
        place, words = part.extra["unique_id"], part.extra.get("uid_words")
        read = [self._register(place, 12)] if words is None else [self._register(place + at, 4) for at in words]
        return "".join(raw.hex().upper() for raw in read if raw) if None not in read else ""

    def _ignores_boot_pin(self, part: Part) -> bool:
        """Whether the option nBOOT_SEL is set, as it is when shipped (reference manuals of G0 and C0, "Boot
        modes")."""
        if "boot_select" not in part.extra:
            return False
        address, bit = part.extra["boot_select"]
        word = self._register(address, 4)
        return word is not None and bool(int.from_bytes(word, "little") >> bit & 1)

    def _flash_size(self, part: Part) -> int | None:
        """Flash in bytes by the size register; None if it cannot be read or makes no sense."""
        codes = part.extra.get("size_codes")
        for register in part.extra["size_registers"]:
            raw = self._register(register, 2)
            if raw is not None:
                told = int.from_bytes(raw, "little") & part.extra.get("size_mask", 0xFFFF)
                size: int = (codes[told] if codes and told < len(codes) else told) * 1024
                if 0 < size <= part.flash.size:
                    return size
        return None

    def _layout(self, part: Part, size: int) -> Memory:
        """The flash of this very chip: cut to its size, with the larger units of single bank mode."""
        if "units_by_size" in part.extra:
            unit = self._unit_of(part, size)
            return replace(part.flash, layout=((size // unit, unit),)) if unit else part.flash.resized(size)
        flash = self._two_banks(part, size) or self._banks(part, size)
        bank = part.extra.get("single_bank")
        if bank is None:
            return flash
        word = self._register(bank["option"], 4)
        if word is None or int.from_bytes(word, "little") >> bank["bit"] & 1:
            return flash
        unit = bank["unit"]
        return replace(flash, layout=((size // unit, unit),), counted_from=(0, 0))

    def _unit_of(self, part: Part, size: int | None) -> int:
        """The erase unit of a family whose units differ with its size: as the person says, else by its record; 0 if
        neither tells."""
        told = int(self.setting("unit"))
        by_size = dict(part.extra["units_by_size"])
        return told or int(by_size.get(0 if size is None else size // 1024, 0))

    def _two_banks(self, part: Part, size: int) -> Memory | None:
        """The layout of a flash that an option splits into two banks of smaller units (RM0410, "nDBANK"); None if it
        does not."""
        option = part.extra.get("two_banks")
        word = None if option is None else self._register(option["option"], 2)
        if option is None or word is None or int.from_bytes(word, "little") >> option["bit"] & 1:
            return None
        bank = next((rows for kib, rows in option["banks"] if kib * 1024 == size), None)
        if bank is None:
            return None
        rows = tuple((number, unit) for number, unit in bank)
        units = sum(number for number, _ in rows)
        return replace(part.flash, layout=rows * 2, counted_from=(units, option["second"]))

    def _banks(self, part: Part, size: int) -> Memory:
        """Cut to its size; a second bank keeps its address, or its numbers, if the first is shorter than the largest
        (reference manuals, "Flash module organization")."""
        largest, half = part.flash, size // 2
        flash = largest.resized(size)
        if "bank2" in part.extra and size == largest.size // 2:
            second = part.extra["bank2"]
            first_end = flash.start + half
            return replace(largest.resized(second - flash.start + half), gap=(first_end, second - first_end))
        if "first_unit" in part.extra:
            return replace(flash, counted_from=(0, part.extra["first_unit"]))
        if "dual_banks" in part.extra:
            address, bit = part.extra["dual_banks"]
            word = self._register(address, 4)
            unit, second = flash.layout[0][1], int(part.extra.get("second_bank", _SECOND_BANK))
            if word is not None and int.from_bytes(word, "little") >> bit & 1 and half // unit < second:
                return replace(flash, counted_from=(half // unit, second))
        return flash

    def why_not_writable(self, memory: Memory) -> str:
        """Where nothing tells how large the erase units are, or how they are numbered, nothing is erased."""
        if self.examined_part is None or not memory.is_flash:
            return ""
        sized = self.part.size_known
        if "units_by_size" not in self.part.extra:
            if sized or not _LAID_OUT_BY_SIZE & self.part.extra.keys():
                return ""
            return "how its erase units lie depends on its size, which it does not tell"
        if self._unit_of(self.part, memory.size if sized else None):
            return ""
        known = ", ".join(f"{kib} KiB: {unit}" for kib, unit in self.part.extra["units_by_size"])
        size = show_size(memory.size) if sized else "a size that it does not tell"
        return (
            f"how large the erase units are is not known for {size} (known: {known}): --set unit=2048, if that is it"
        )

    def _register(self, address: int, size: int) -> bytes | None:
        """Bytes from system memory, read as whole words; None if the chip refuses that address."""
        low = address & ~3
        words = -(-(address + size) // 4) * 4 - low
        for start, length in ((low, words), (address, size)):
            try:
                return self._read(start, length)[address - start :][:size]
            except ChipRefusal as refusal:
                if refusal.at_once:
                    raise
        return None

    # --- reading

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        return self._read(address, size)

    def _read(self, address: int, size: int) -> bytes:
        """Reading changes nothing, so a damaged exchange is retried."""

        def once() -> bytes:
            self._command(Command.READ)
            self._address(Command.READ, address)
            self.link.write(bytes([size - 1, (size - 1) ^ 0xFF]))
            self._acknowledged(Command.READ, RefusalKind.BAD_DATA, 2, address=address)
            timeout_s = self.link.settings.seconds(size) + self.patience_s
            return read_exactly(self.link, size, timeout_s, f"{count(size, 'byte')} of '{Command.READ.words}'")

        return self.exchange(once, self._recover, _TRIES, 1, after_refusal=lambda: drain(self.link, _QUIET_S))

    # --- erasing

    @classmethod
    def cost_of_erase(cls, memory: Memory, units: Sequence[EraseUnit]) -> Cost:
        """The cost by extended erase, in the groups that `erase` makes."""
        cost = Cost()
        for group in _groups(memory, units):
            busy = sum(memory.erase_time(unit.size).typical_s for unit in group)
            cost += Cost(2 + 2 + 2 * len(group) + 1, 2, 2, busy)
        return cost

    @property
    def _counts_in_bytes(self) -> bool:
        """Whether it has only the older erase, whose page numbers are one byte."""
        return Command.ERASE in self.commands and Command.EXTENDED_ERASE not in self.commands

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        too_high = next((unit for unit in units if unit.number > 0xFF), None) if self._counts_in_bytes else None
        if too_high is not None:
            said = f"its pages are counted up to 255, and {show_address(too_high.address)} is page {too_high.number}"
            raise ChipRefusal(Command.ERASE.words, RefusalKind.UNSUPPORTED, b"", too_high.address, said)
        done = 0
        for group in _groups(memory, units):
            longest_s = 2 * sum(memory.erase_time(unit.size).longest_s for unit in group)
            if self._counts_in_bytes:
                body = bytes([len(group) - 1, *(unit.number for unit in group)])
                self._erase(Command.ERASE, body, longest_s, group[0].address)
            else:
                numbers = b"".join(unit.number.to_bytes(2, "big") for unit in group)
                body = (len(group) - 1).to_bytes(2, "big") + numbers
                self._erase(Command.EXTENDED_ERASE, body, longest_s, group[0].address)
            if memory.counted_from[1] and group[-1].number >= memory.counted_from[1]:
                self._see_that_it_is_blank(memory, group[-1])
            done += len(group)
            yield done

    def _see_that_it_is_blank(self, memory: Memory, unit: EraseUnit) -> None:
        """Read back, because the numbering of a second bank differs from part to part."""
        found = self._read(unit.address, 16)
        if found.strip(bytes([memory.erased])):
            said = f"page {unit.number} is not the one at {show_address(unit.address)}, which is not blank"
            raise ChipRefusal(Command.EXTENDED_ERASE.words, RefusalKind.BAD_DATA, found, unit.address, said)

    def erase_all(self, memory: Memory) -> None:
        """Everything at once; by pages if the ROM refuses that, as those of the L0 and L1 do."""
        longest_s = 2 * memory.mass_erase_time.longest_s
        try:
            if self._pages_only:
                raise ChipRefusal(Command.EXTENDED_ERASE.words, RefusalKind.BAD_DATA, bytes([NACK]))
            if self._counts_in_bytes:
                self._erase_frame(Command.ERASE, b"\xff\x00", longest_s, memory.start)
            else:
                self._erase_frame(Command.EXTENDED_ERASE, b"\xff\xff\x00", longest_s, memory.start)
        except ChipRefusal as refusal:
            if refusal.kind is not RefusalKind.BAD_DATA:
                raise
            for _ in self.erase(memory, memory.units_touched(memory.start, memory.size)):
                pass

    def _erase(self, command: Command, body: bytes, longest_s: float, address: int) -> None:
        self._erase_frame(command, body + bytes([reduce(xor, body)]), longest_s, address)

    def _erase_frame(self, command: Command, frame: bytes, longest_s: float, address: int) -> None:
        """A NACK to the frame means that nothing was erased; after silence, erasing the same once more is
        harmless."""

        def once() -> None:
            self._command(command)
            self.link.write(frame)
            self._acknowledged(command, RefusalKind.BAD_DATA, len(frame), longest_s, address)

        self.exchange(once, self._recover, 2, 1)

    # --- writing

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(2 + 5 + 1 + size + 1, 3, 3, -(-size // memory.write_unit) * memory.program_s)

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        for block in blocks:
            self._write(memory, block)
            yield block

    def _write(self, memory: Memory, block: WriteBlock) -> None:
        """Nothing is programmed before the data's checksum is right. After silence, the chip's content decides
        whether the bytes were programmed."""
        body = bytes([len(block.data) - 1]) + block.data
        frame = body + bytes([reduce(xor, body)])
        longest_s = 4 * self.cost_of_write(memory, len(block.data)).busy_s

        def once() -> bool:
            self._command(Command.WRITE)
            self._address(Command.WRITE, block.address)
            self.link.write(frame)
            self._acknowledged(Command.WRITE, RefusalKind.BAD_DATA, len(frame), longest_s, block.address)
            return True

        def is_written() -> bool | None:
            held = self._read(block.address, len(block.data))
            if held != block.data and held.strip(bytes([memory.erased])):
                raise Silence(f"whole block at {show_address(block.address)}", self.patience_s, held[:8])
            return held == block.data or None

        self.exchange(once, self._recover, _TRIES, 1, is_written)

    # --- the chip's own checksum

    def can_checksum(self) -> bool:
        return Command.CHECKSUM in self.commands and self._checksum_works

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """Whether the chip's CRC-32 over whole words is that of `data`.

        Anything unforeseen counts as 'no' and ends the use of the command: reading back then decides.
        """
        if len(data) % 4 or address % 4:
            return False
        try:
            return self._checksum(address, len(data) // 4) == word_crc(data)
        except DialectError:
            self._checksum_works = False
            self.retries += 1
            self.resync()
            return False

    def _checksum(self, address: int, words: int) -> int:
        self._command(Command.CHECKSUM)
        for argument in (address, words, POLYNOMIAL, START):
            self._address(Command.CHECKSUM, argument)
        waiting_for = "checksum"
        heard = read_exactly(self.link, 5, self.patience_s + words * 1e-6, waiting_for)
        if reduce(xor, heard):
            raise Unexpected(waiting_for, heard)
        return int.from_bytes(heard[:4], "big")

    # --- rate

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        """Bytes written to the RAM and read back. AN2606: the loader keeps its own variables at the beginning of the
        RAM; the last 1 KiB is free where there is enough. Smaller chips, and those that refuse, are read from in many
        small requests, twice."""
        ram = part.ram[0]
        if ram.size >= _ROOMY_RAM:
            try:
                self._prove_by_ram(ram.start + ram.size - _PROOF_ROOM, size)
                return
            except ChipRefusal:
                drain(self.link, _QUIET_S)
        prove_by_readings(lambda address: self._read(address, READ_REQUEST), part.flash.start, READ_REQUEST, size)

    def _prove_by_ram(self, start: int, size: int) -> None:
        for number in range(-(-size // BLOCK)):
            address, data = start + number * BLOCK % _PROOF_ROOM, noise(number, BLOCK)
            body = bytes([BLOCK - 1]) + data
            self._command(Command.WRITE)
            self._address(Command.WRITE, address)
            self.link.write(body + bytes([reduce(xor, body)]))
            self._acknowledged(Command.WRITE, RefusalKind.BAD_DATA, BLOCK + 2, address=address)
            if (found := self._read(address, BLOCK)) != data:
                raise Unexpected("the bytes written to RAM", found[:40])

    # --- protection: each ends with a reset of the chip, so `ask` comes next

    def readout_protect(self) -> None:
        self._twice_acknowledged(Command.READOUT_PROTECT, 0.0)

    def readout_unprotect(self, memory: Memory) -> None:
        """Erases the whole flash before the second ACK."""
        self._twice_acknowledged(Command.READOUT_UNPROTECT, 2 * memory.mass_erase_time.longest_s)

    def write_protect(self, units: Sequence[EraseUnit]) -> None:
        """Protect sectors, by their numbers (at most 256)."""
        body = bytes([len(units) - 1, *(unit.number for unit in units)])
        self._command(Command.WRITE_PROTECT)
        self.link.write(body + bytes([reduce(xor, body)]))
        self._acknowledged(Command.WRITE_PROTECT, RefusalKind.BAD_DATA, len(body) + 1)
        self.link.sleep(_RESTART_S)

    def _twice_acknowledged(self, command: Command, longest_s: float) -> None:
        self._command(command)
        self._acknowledged(command, RefusalKind.BAD_DATA, 0, longest_s)
        self.link.sleep(_RESTART_S)

    # --- starting

    def start(self, address: int) -> str:
        """`go`: the chip loads SP and PC from the two words at `address`."""
        self._command(Command.GO)
        self._address(Command.GO, address)
        return f"go to {show_address(address)} acknowledged"


class Stm32Rom(StLoader, LiftsWriteProtection, Locks, Unlocks):
    """The ROM of an STM32."""

    def lock(self, part: Part) -> str:
        self.readout_protect()
        return "readout protect acknowledged twice"

    def unlock(self, part: Part) -> str:
        self.readout_unprotect(part.flash)
        what = "flash and EEPROM are" if self._pages_only else "the flash is"
        return f"readout unprotect acknowledged twice, {what} erased"

    def lift_write_protection(self) -> str:
        self._twice_acknowledged(Command.WRITE_UNPROTECT, 0.0)
        return "write unprotect acknowledged twice"


def _refused(command: Command) -> RefusalKind:
    """What a NACK to a command's code means: readout protection if these need it off (AN3155), else unknown."""
    return RefusalKind.LOCKED if command in _LOCKED_COMMANDS else RefusalKind.UNSUPPORTED


def _groups(memory: Memory, units: Sequence[EraseUnit]) -> Iterator[list[EraseUnit]]:
    """Units for one erase command: as many as take about a second, at most 255 (AN3155, 'Erase')."""
    group: list[EraseUnit] = []
    group_s = 0.0
    for unit in units:
        unit_s = memory.erase_time(unit.size).typical_s
        if group and (len(group) == 255 or group_s + unit_s > _ERASE_GROUP_S):
            yield group
            group, group_s = [], 0.0
        group.append(unit)
        group_s += unit_s
    if group:
        yield group
