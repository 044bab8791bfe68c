"""`lpc-isp`: in-system programming by the ROM of NXP LPC parts, over their first UART.

Commands and answers are lines of text. Data goes into the RAM first, UU-encoded with checksums on the older parts and
raw on the newer; from there the ROM copies it into the flash, whose sectors must be prepared before each erase and
copy. Meanwhile the ROM covers the first bytes of the flash: these cannot be read back, and the tool says so.
"""

from __future__ import annotations

import binascii
import re
import zlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..image import Image
from ..link import Deadline, LineSettings, Link
from ..quantities import show_size
from ..spans import Span, pieces_of, total, without
from .abilities import PROOF_BYTES, AskedAsKnown, ChangesRate, ChecksBackup, Checksums, ProvesRate, Unlocks
from .dialect import Answer, Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import drain, noise, read_until, refuse_text
from .lpc_images import (
    LINE_BYTES,
    LINES_A_SUM,
    as_the_rom_wants,
    copies_of,
    cost_of_data,
    neighbours,
    refuse_without_beginning,
    uu_length,
    uu_line,
)
from .results import Examination, Identity, OneFitted, Provable, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, ProtocolCommand, Setting, Spec, Starting, sum_costs


class Command(ProtocolCommand):
    """UM10360, "ISP commands": their letters."""

    UNLOCK = ord("U"), "unlock"
    SET_BAUD = ord("B"), "baud rate"
    ECHO = ord("A"), "echo"
    WRITE_TO_RAM = ord("W"), "write to RAM"
    READ = ord("R"), "read"
    PREPARE = ord("P"), "prepare"
    COPY = ord("C"), "copy to flash"
    GO = ord("G"), "go"
    ERASE = ord("E"), "erase"
    BLANK_CHECK = ord("I"), "blank check"
    PART_ID = ord("J"), "part id"
    VERSION = ord("K"), "version"
    COMPARE = ord("M"), "compare"
    SERIAL_NUMBER = ord("N"), "serial number"
    CRC = ord("S"), "CRC"


_SYNCHRONIZED = b"Synchronized"
_UNLOCK_CODE = 23130
# UM10360, table "ISP Return Codes Summary", and the same in the other manuals
_CODES = {
    1: "invalid command", 2: "source address error", 3: "destination address error", 4: "source address not mapped",
    5: "destination address not mapped", 6: "count error", 7: "invalid sector", 8: "sector not blank",
    9: "sector not prepared", 10: "compare error", 11: "busy", 12: "parameter error", 13: "address error",
    14: "address not mapped", 15: "command locked", 16: "invalid unlock code", 17: "invalid baud rate",
    18: "invalid stop bit", 19: "code read protection on",
}  # fmt: skip
_MEANS = dict.fromkeys((2, 3, 4, 5, 7, 13, 14), RefusalKind.BAD_ADDRESS) | {19: RefusalKind.LOCKED}
_TWO_WORDS = (0xA0, 0xF0)
_RATE_REFUSED = (17, 18)
_QUIET_S, _TRIES = 0.04, 3
_PROOF_ROOM = 1024  # bytes of the RAM: all parts have them from their buffer on
_ANSWERS_AS_KNOWN = re.compile(rb"\s*\?*\s*(?:1\r\n)?(?:A 0\s+)?0\r\n")
"""Answers to 'A 0' after a line that may have held a '?': echo and return codes."""
_CRYSTAL_KHZ = 12000


class LpcIsp(Dialect, AskedAsKnown, ChangesRate, ChecksBackup, Checksums, ProvesRate, Unlocks):
    """The conversation with one chip."""

    name: ClassVar[str] = "lpc-isp"
    title: ClassVar[str] = "LPC ROM bootloader"
    document: ClassVar[str] = "NXP UM10360 and the parts' user manuals"
    decoder: ClassVar[str] = "lpc_isp"
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=b"?",
            answers=(b"Synchronized\r\n",),
            sounds=(rb"(?:Synchronized\s*)+",),
            attempts=(Attempt(0.02, 3), Attempt(0.2, 3), Attempt(0.5, 6)),
            wait_s=0.3,
            order=15,
            usb_vendor_id="1FC9",
            measures_rate=True,
        ),
        erasing=Erasing.BY_UNIT,
        starting=Starting.RESET,
        erases_alone=True,
        guards_writes=True,
        gives_up=False,
        speaks_text=True,
        settings=(
            Setting("crystal-khz", "number", _CRYSTAL_KHZ, "frequency of the crystal, which old parts need to know"),
        ),
        costs=Costs(read=CostRow(20, 3)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._ends_with_ok: dict[Command, bool] = {}
        self._unlocked = False
        self._heard = b""
        self._slowest_s = 0.0
        """The longest time an answer has taken, not counting its characters."""
        self._quiet = False
        """Whether its echo is off, so that a '?' would not come back."""

    # --- lines

    def _line(self, deadline: Deadline, waiting_for: str, encoded: bool = False) -> bytes:
        """The next line without its end; empty ones are skipped. An `encoded` line's first character gives its
        length. Raises Silence."""
        began = self.link.now()
        while True:
            line, end, rest = self._heard.partition(b"\n")
            if end:
                first, _, behind = line.strip().partition(b"\r")  # an echo may end in CR alone
                self._heard = behind + b"\n" + rest if behind else rest
                if first.strip():
                    return first.strip()
                continue
            if deadline.over:
                heard, self._heard = self._heard, b""
                raise Silence(waiting_for, self.link.now() - began, heard)
            missing = uu_length(self._heard[0]) - len(self._heard) if encoded and self._heard else 1
            self._heard += self.link.read(max(1, missing), deadline.left_s) + self.link.discard()

    def _command(self, command: Command, *numbers: int, longest_s: float = 0.0, address: int | None = None) -> None:
        """Send a command and read its return code. Raises DialectError."""
        text = " ".join((chr(command), *map(str, numbers)))
        self._heard = b""
        self.link.discard()
        self.link.write(text.encode() + b"\r\n")
        waiting_for = f"return code of '{text}'"
        line_s = self.link.settings.seconds(len(text) + 2)
        deadline = Deadline.after(self.link, line_s + self.link.settings.seconds(6) + self.patience_s + longest_s)
        asked_s = self.link.now()
        line = self._line(deadline, waiting_for)
        if not longest_s:
            self._slowest_s = max(self._slowest_s, self.link.now() - asked_s - line_s)
        while line in (text.encode(), b"OK", b"?"):  # its echo, or the rest of what went before
            line = self._line(deadline, waiting_for)
        if not line.isdigit():
            raise Unexpected(waiting_for, line)
        code = int(line)
        if code:
            kind = _MEANS.get(code, RefusalKind.BAD_DATA)
            said = f"return code {code}" + (f", {_CODES[code]}" if code in _CODES else "")
            raise ChipRefusal(chr(command), kind, line, address, said)

    def _number(self, waiting_for: str) -> int:
        line = self._line(Deadline.after(self.link, self.patience_s), waiting_for)
        if not line.isdigit():
            raise Unexpected(waiting_for, line)
        return int(line)

    def _with_retry(self, once: Callable[[], Answer], resolve: Callable[[], Answer | None] | None = None) -> Answer:
        """What may be retried; once after a refusal, too, because the command may have been damaged."""
        return self.exchange(once, self._recover, _TRIES, 1, resolve)

    def _recover(self, heard: bytes = b"") -> None:
        """Complete a half line, and check that a command is answered again. Raises Silence, Unexpected."""
        self._refuse_text(heard)
        for attempt in range(6):
            self._refuse_text(self._heard + drain(self.link, 2 * _QUIET_S))
            self._heard = b""
            # a ROM that waits for data takes everything until it has enough: send more each time
            self.link.write(b"\r\n" if attempt < 2 else b"\x00" * (200 << attempt) + b"\r\n")
            self._refuse_text(drain(self.link, self.link.settings.seconds(20) + 3 * _QUIET_S))
            try:
                self._command(Command.ECHO, 0)
                return
            except (Silence, Unexpected):
                continue
            except ChipRefusal:
                return
        raise Silence("answer to 'A 0'", 3.0)

    @staticmethod
    def _refuse_text(heard: bytes) -> None:
        """Neither return codes nor encoded data have lower-case letters: those come from a program. Raises
        Unexpected."""
        if re.search(rb"[a-z]{3}", heard):
            refuse_text("return code", heard)

    # --- synchronisation (UM10360, "ISP communication protocol")

    def ask(self, wait_s: float) -> str | None:
        """'?' and the handshake after it. A ROM that was asked before only echoes: then it is ready for commands."""
        self.link.discard()
        self._heard = b""
        if self._quiet:
            answer = self._asked_before()
            if answer is not None:
                return answer
            self._quiet = False
            self.link.sleep(wait_s)
            return None
        deadline = Deadline.after(self.link, wait_s)
        self.link.write(b"?")
        try:
            line = self._half_line(deadline)
        except Silence:
            read_until(self.link, deadline)
            return None
        if line == b"?":
            return self._asked_before()
        if line != _SYNCHRONIZED:
            read_until(self.link, deadline)
            return None
        try:
            self._shake(_SYNCHRONIZED)
            self._shake(str(self.setting("crystal-khz")).encode())
            self._command(Command.ECHO, 0)
        except (Silence, Unexpected, ChipRefusal):
            return None
        self._quiet = True
        return '"Synchronized"'

    def ask_as_known(self, wait_s: float) -> str | None:
        """A synchronised ROM takes '?' for the beginning of a command, and its echo may be off. Asked briefly: a ROM
        that is just being reset would take this for the rate."""
        self.link.discard()
        self._heard = b""
        deadline = Deadline.after(self.link, wait_s)
        self.link.write(b"\r\nA 0\r\n")
        heard = b""
        while not _ANSWERS_AS_KNOWN.fullmatch(heard):
            if deadline.over:
                return None
            heard += self.link.read(1, deadline.left_s)
        self._quiet = True
        drain(self.link, _QUIET_S, 0.2)
        return '"A 0" answered 0, synchronised before'

    def _half_line(self, deadline: Deadline) -> bytes:
        """A line, or an echoed '?' that no line end follows."""
        heard = b""
        while not heard.endswith(b"\n"):
            if deadline.over or (heard == b"?" and not self.link.read(0, 0.0) and deadline.left_s < 0.1):
                if heard == b"?":
                    return heard
                raise Silence("Synchronized", 0.0, heard)
            heard += self.link.read(1, deadline.left_s)
        return heard.strip()

    def _shake(self, text: bytes) -> None:
        """Send a line of the handshake; its echo and 'OK' must follow."""
        self.link.write(text + b"\r\n")
        deadline = Deadline.after(self.link, self.patience_s)
        line = self._line(deadline, "OK")
        if line == text:
            line = self._line(deadline, "OK")
        if line != b"OK":
            raise Unexpected("OK", line)

    def _asked_before(self) -> str | None:
        """Whether commands are answered: 'A 0' also ends the line that our '?' began."""
        self.link.write(b"\r\n")
        drain(self.link, 3 * _QUIET_S, 0.4)
        try:
            self._command(Command.ECHO, 0)
        except (Silence, Unexpected, ChipRefusal):
            return None
        self._quiet = True
        return '"A 0" answered 0, synchronised before'

    # --- identification

    def identify(self) -> Identity:
        """Part id, boot code version, serial number."""
        ident, *more = self._with_retry(self._part_id)
        details = []
        minor, major = self._with_retry(lambda: self._told(Command.VERSION, numbers=2))
        details.append(("loader", f"{major}.{minor}"))
        if more:
            said = f"part id {ident:08X} {more[0]:08X}"
            return Identity(ident << 8 | more[0] & 0xFF, said, tuple(details))
        return Identity(ident, f"part id {ident:08X}", tuple(details))

    def _part_id(self) -> list[int]:
        """One word; two on LPC18xx and 43xx, the second of which tells the size (UM10503, "Read part identification
        number")."""
        told = self._told(Command.PART_ID)
        if told[0] >> 24 in _TWO_WORDS:
            told.append(self._number("second word of the part id"))
        return told

    def _told(self, command: Command, *asked: int, numbers: int = 1) -> list[int]:
        self._command(command, *asked)
        return [self._number(f"answer to '{chr(command)}'") for _ in range(numbers)]

    def examine(self, part: Part) -> Examination:
        """Serial number, and whether the ROM lets the flash be read."""
        self.examined_part = part
        try:
            serial = "".join(
                f"{word:08X}" for word in self._with_retry(lambda: self._told(Command.SERIAL_NUMBER, numbers=4))
            )
        except ChipRefusal:
            serial = ""
        locked = ""
        try:
            self.read(part.flash, part.flash.start + part.extra["shadow"], 4)
        except ChipRefusal as refusal:
            if refusal.kind is not RefusalKind.LOCKED:
                raise
            locked = refusal.said
        details = [("flash", show_size(part.flash.size)), *([("serial", serial)] if serial else [])]
        return Examination(part, tuple(details), serial, locked)

    @property
    def guards_writes(self) -> bool:
        """Only encoded data carries checksums."""
        return self._encoded

    @property
    def _encoded(self) -> bool:
        return bool(self.part.extra["uu"])

    # --- rate

    @classmethod
    def first_baud(cls, part: Part, baud: int) -> int:
        """The ROM measures the rate from the first '?', reliably up to 115200; beyond that it gets a command."""
        return min(baud, 115200)

    def move_to_rate(self, part: Part, baud: int) -> None:
        try:
            self._command(Command.SET_BAUD, baud, 1)
        except ChipRefusal as refusal:
            if int(refusal.answer) in _RATE_REFUSED:  # it keeps the rate that it measured
                return
            raise
        self.link.sleep(0.01)
        self.link.configure(LineSettings(baud, self.link.settings.frame))
        self._with_retry(self._part_id)

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        """Bytes to the RAM, where data waits to be copied, and back."""
        buffer, each = int(part.extra["ram_buffer"]), min(_PROOF_ROOM, self.write_block(part.flash))
        self._unlock()
        for number in range(-(-size // each)):
            data = noise(number, each)
            self._to_ram(buffer, data)
            if (found := self._read(buffer, each)) != data:
                raise Unexpected("the bytes written to RAM", found[:40])

    # --- memory

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        return memory.block or 4096

    @classmethod
    def read_block(cls, memory: Memory) -> int:
        """Ten checksums' worth of lines; the same amount where nothing is encoded."""
        return 10 * LINES_A_SUM * LINE_BYTES

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        """Unencoded; `cost_of_writes` knows the part."""
        return Cost(30 + size, 3, 2) + Cost(12 + 30, 6, 2, memory.program_s * size / memory.write_unit)

    @classmethod
    def cost_of_writes(cls, part: Part, memory: Memory, blocks: Sequence[WriteBlock]) -> Cost:
        return sum_costs(
            cost_of_data(part, size) + Cost(68, 9, 3, memory.program_s * size / memory.write_unit)
            for block in blocks
            for _, size in copies_of(part, block.address, len(block.data))
        )

    @classmethod
    def cost_of_verify(cls, part: Part, memory: Memory, spans: Sequence[Span]) -> Cost:
        if part.extra.get("crc"):
            return sum_costs(Cost(20, 14, 1, span.size * 2e-7) for span in spans)
        costs = (cost_of_data(part, place.size) for place in pieces_of(spans, cls.read_block(memory)))
        return sum_costs(Cost(20 + cost.heard, 3 + cost.sent, 1 + cost.turnarounds) for cost in costs)

    @classmethod
    def cost_of_erase(cls, memory: Memory, units: Sequence[EraseUnit]) -> Cost:
        runs = neighbours(units)
        return Cost(
            24 * len(runs), 6 * len(runs), 2 * len(runs), len(runs) * memory.erase_time(units[0].size).typical_s
        )

    @classmethod
    def provable(cls, part: Part, memory: Memory, checks: tuple[Span, ...], settings: Mapping[str, Any]) -> Provable:
        """All except the bytes that the ROM covers."""
        rom = Span.of(memory.start, int(part.extra["shadow"]))
        spans = tuple(without(checks, [rom]))
        hidden = total(checks) - total(spans)
        return Provable(
            spans,
            f"the first {hidden} are hidden by the boot ROM: checked in RAM before the copy" if hidden else "",
        )

    def _unlock(self) -> None:
        if not self._unlocked:
            self._with_retry(lambda: self._command(Command.UNLOCK, _UNLOCK_CODE))
            self._unlocked = True

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Runs of sectors, each prepared first."""
        self._unlock()
        done = 0
        for first, last, sizes in neighbours(units):
            longest_s = sum(memory.erase_time(size).longest_s for size in sizes)
            said_back = first == 0
            self._with_retry(lambda a=first, b=last, s=longest_s, e=said_back: self._erase(a, b, s, e))  # type: ignore[misc]
            if said_back:
                self._with_retry(lambda: self._command(Command.ECHO, 0))
            done += len(sizes)
            yield done

    def _erase(self, first: int, last: int, longest_s: float, said_back: bool) -> None:
        if said_back:
            self._command(Command.ECHO, 1)
        self._command(Command.PREPARE, first, last, *self._bank)
        self._command(Command.ERASE, first, last, *self._bank, longest_s=longest_s)

    @property
    def _bank(self) -> tuple[int, ...]:
        """The bank of the flash, where P and E want it said (UM10503): the first."""
        return (0,) if self.part.extra.get("bank") else ()

    def unlock(self, part: Part) -> str:
        """With CRP1 and CRP2 the ROM still erases all sectors at once, including the protection word."""
        self.erase_all(part.flash)
        return "all sectors erased, and with them the protection word; it takes effect at the next reset"

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """Into the RAM, then copied into the prepared sectors."""
        self._unlock()
        for block in blocks:
            for offset, size in copies_of(self.part, block.address, len(block.data)):
                self._copy(memory, block.address + offset, block.data[offset : offset + size])
            yield block

    def _copy(self, memory: Memory, address: int, data: bytes) -> None:
        buffer = int(self.part.extra["ram_buffer"])
        units = memory.units_touched(address, len(data))
        sectors, place = (units[0].number, units[-1].number), (address, buffer, len(data))
        hidden = min(len(data), memory.start + int(self.part.extra["shadow"]) - address)

        def fill() -> None:
            """Bytes that cannot be read back from the flash afterwards are checked in the RAM first."""
            self._to_ram(buffer, data)
            if hidden > 0 and self._read(buffer, (hidden + 3) & ~3)[:hidden] != data[:hidden]:
                raise Unexpected("sent bytes in RAM", b"")

        self._with_retry(fill)
        longest_s = 4 * memory.program_s * len(data) / memory.write_unit

        if hidden > 0:
            self._copy_unseen(sectors, place, longest_s)
            return

        def copy() -> bool:
            self._command(Command.PREPARE, *sectors, *self._bank)
            self._command(Command.COPY, *place, longest_s=longest_s, address=address)
            return True

        def copied() -> bool | None:
            """After a lost answer: was the copy done? If not, the RAM content may have been lost too."""
            try:
                self._command(Command.COMPARE, *place)
                return True
            except ChipRefusal:
                fill()
                return None

        self._with_retry(copy, copied)

    def _copy_unseen(self, sectors: tuple[int, int], place: tuple[int, int, int], longest_s: float) -> None:
        """Bytes that cannot be read back afterwards are copied with the echo on (UM10360, "Echo"), so that a damaged
        command shows. Nothing is retried after that: its bytes may be anywhere in the sector."""

        def ready() -> None:
            self._command(Command.ECHO, 1)
            self._command(Command.PREPARE, *sectors, *self._bank)

        self._with_retry(ready)
        self._command(Command.COPY, *place, longest_s=longest_s)
        self._with_retry(lambda: self._command(Command.ECHO, 0))

    def _to_ram(self, address: int, data: bytes) -> None:
        self._command(Command.WRITE_TO_RAM, address, len(data), address=address)
        if not self._encoded:
            self.link.write(data)
            self._take_ok(Command.WRITE_TO_RAM, self.link.settings.seconds(len(data)))
            return
        lines = [data[at : at + LINE_BYTES] for at in range(0, len(data), LINE_BYTES)]
        for at in range(0, len(lines), LINES_A_SUM):
            group = lines[at : at + LINES_A_SUM]
            sent = b"".join(uu_line(line) for line in group) + b"%d\r\n" % sum(map(sum, group))
            for attempt in range(_TRIES):
                self.link.write(sent)
                waited_s = self.link.settings.seconds(len(sent)) + self.patience_s
                answer = self._line(Deadline.after(self.link, waited_s), "OK to a sum")
                if answer == b"OK":
                    break
                if answer != b"RESEND" or attempt == _TRIES - 1:
                    raise Unexpected("OK to a sum", answer)
                self.retries += 1

    def _take_ok(self, command: Command, longest_s: float) -> None:
        """Some ROMs say OK after raw data and some do not: the first time shows which this one does."""
        expected = self._ends_with_ok.get(command)
        if expected is False:
            return
        try:
            answer = self._line(
                Deadline.after(
                    self.link, longest_s + (self.patience_s if expected else max(0.03, 4 * self._slowest_s))
                ),
                "OK after the data",
            )
        except Silence:
            if expected or self._heard:
                raise
            self._ends_with_ok[command] = False
            return
        if answer != b"OK":
            raise Unexpected("OK after the data", answer)
        self._ends_with_ok[command] = True

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        """Any bytes; the ROM reads words, so a few more are asked for."""
        low = address & ~3
        wanted = (address + size - low + 3) & ~3
        data = self._with_retry(lambda: self._read(low, wanted))
        return data[address - low : address - low + size]

    def _read(self, address: int, size: int) -> bytes:
        self._command(Command.READ, address, size, address=address)
        if not self._encoded:
            return self._read_plain(size)
        data = bytearray()
        while len(data) < size:
            most = min(size - len(data), LINES_A_SUM * LINE_BYTES)
            for attempt in range(_TRIES):
                group, right = self._read_group(most)
                self.link.write(b"OK\r\n" if right else b"RESEND\r\n")
                if right:
                    break
                if attempt == _TRIES - 1:
                    raise Unexpected("lines that fit their sum", group[:40])
                self.retries += 1
            data += group
        return bytes(data)

    def _read_plain(self, size: int) -> bytes:
        data = self._heard[:size]
        self._heard = self._heard[size:]
        longest_s = self.link.settings.seconds(size) + self.patience_s
        data += self.link.read(size - len(data), longest_s)
        if len(data) < size:
            raise Silence(f"{size} bytes", longest_s, data[-40:])
        self._take_ok(Command.READ, 0.0)
        return data

    def _read_group(self, size: int) -> tuple[bytes, bool]:
        """The data of up to twenty lines, and whether their checksum matches."""
        data, garbled = bytearray(), False
        lines = -(-size // LINE_BYTES)
        deadline = Deadline.after(self.link, self.link.settings.seconds(lines * 64 + 12) + self.patience_s)
        for _ in range(lines):
            line = self._line(deadline, "line of data", encoded=True)
            try:
                data += binascii.a2b_uu(line)
            except binascii.Error:
                garbled = True
        summed = self._line(deadline, "sum of the lines")
        return bytes(data), not garbled and len(data) == size and summed == b"%d" % sum(data)

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        return 4

    def can_checksum(self) -> bool:
        return self.examined_part is not None and bool(self.part.extra.get("crc"))

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """CRC-32 as in IEEE 802.3, by the newer parts' ROM."""
        try:
            told = self._with_retry(lambda: self._told(Command.CRC, address, len(data)))[0]
        except ChipRefusal:
            return False
        return bool(told == zlib.crc32(data))

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """The vectors' checksum filled in, and read protection refused."""
        image, notes = as_the_rom_wants(image, part, even_if)
        if part.core == "arm7":
            crystal = settings.get("crystal-khz", _CRYSTAL_KHZ)
            notes.append(
                f"crystal taken as {crystal} kHz; a wrong one mistimes programming here: --set crystal-khz=KHZ"
            )
        return image, tuple(notes)

    @classmethod
    def check_backup(cls, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> None:
        """A backup lacks the bytes that the ROM covered when it was read, or has the ROM's own in their place."""
        if "flash" in images:
            refuse_without_beginning(images["flash"], part, even_if)

    # --- starting

    def start(self, address: int) -> str:
        """The ROM can jump to an address, but does not load the vectors and still covers them: only a reset is
        reliable."""
        return ""

    def was_reset(self) -> None:
        self._quiet = self._unlocked = False

    def finish(self) -> None:
        """The ROM keeps waiting; a reset with the boot pin released starts the application. Its echo is switched on
        again, which tells the next caller that the ROM is there."""
        self._command(Command.ECHO, 1)
