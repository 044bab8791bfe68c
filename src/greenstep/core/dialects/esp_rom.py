"""`esp-rom`: the serial loader in the ROM of the ESP8266, the ESP32 and their relatives.

Requests and replies are SLIP frames. Data blocks carry a checksum that the chip tests. From the ESP32 on, data is
sent compressed and the ROM reports the MD5 of what its flash holds; the ESP8266 does neither: it is read back through
its SPI controller, 64 bytes at a time, which is so slow that a sample is taken unless the whole is asked for.
"""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from functools import lru_cache, partial, reduce
from operator import xor
from typing import Any, ClassVar

from ..chips.catalogue import Catalogue
from ..chips.part import EraseUnit, Memory, Part
from ..errors import RefusedFault
from ..image import Image
from ..image.esp_tables import ALL_SPEEDS, MODES, MOST_BYTES, ROW, SIZES_8266, USUAL_PLACE, read_table, size_bytes
from ..link import Deadline, LineSettings, Link
from ..quantities import show_address, show_bytes, show_size
from ..spans import Span, merged, total
from .abilities import PROOF_BYTES, ChangesRate, Checksums, ErasesMore, PrintsAtReset, ProvesRate, Witnesses
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected, UnexpectedErase
from .esp_chip import (
    AT_ONCE,
    SECTOR,
    FlashChip,
    Security,
    begun_apart,
    chip_id_in,
    erased_up_to,
    mac_of,
    runs_of,
    size_to_ask_for,
)
from .esp_images import fit_headers, judge_partitions, judge_places, limit_told
from .framing import Framing, Opened
from .line import drain, read_until, refuse_text
from .results import Examination, Identity, OneFitted, Provable, WriteBlock
from .slip import SlipReader, slip, unescaped
from .spec import (
    Asking,
    Attempt,
    Cost,
    CostRow,
    Costs,
    Erasing,
    ProtocolCommand,
    Reading,
    Setting,
    Spec,
    Starting,
    sum_costs,
)
from .ways import prove_by_readings


class Command(ProtocolCommand):
    """Espressif's serial protocol description, "Commands"."""

    FLASH_BEGIN = 0x02, "flash begin", "size:4 blocks:4 -:4 address:4"
    FLASH_DATA = 0x03, "flash data", "size:4 block:4 data"
    FLASH_END = 0x04, "flash end"
    MEMORY_BEGIN = 0x05, "memory begin"
    MEMORY_END = 0x06, "memory end"
    MEMORY_DATA = 0x07, "memory data"
    SYNC = 0x08, "sync"
    WRITE_REGISTER = 0x09, "write register", "at:4"
    READ_REGISTER = 0x0A, "read register", "at:4"
    SET_SPI = 0x0B, "set SPI parameters"
    ATTACH_SPI = 0x0D, "attach SPI flash"
    CHANGE_BAUD = 0x0F, "change baud rate", "baud:4"
    DEFLATE_BEGIN = 0x10, "deflated begin", "size:4 blocks:4 -:4 address:4"
    DEFLATE_DATA = 0x11, "deflated data", "size:4 block:4 data"
    DEFLATE_END = 0x12, "deflated end"
    MD5 = 0x13, "MD5 of flash", "at:4 size:4"
    SECURITY = 0x14, "security info"


_BEGINS = (Command.FLASH_BEGIN, Command.DEFLATE_BEGIN)
_SYNC_DATA = b"\x07\x07\x12\x20" + b"\x55" * 32
_ROM_WORD_AT = 0x40001000
_NO_ROM_WORD = 1 << 32
_CLOCK_DIVIDER = 0x14  # UART_CLKDIV: whole part in bits 19:0, sixteenths above (technical reference manuals, "UART")
_CHECKSUM_START = 0xEF
BLOCK = 0x400

_FIRST_BAUD = 115200
_QUIET_S, _SETTLE_S = 0.04, 0.05

# How long a reply may take. The flash is a serial NOR chip. The data sheets of the common ones ("AC Electrical
# Characteristics") state at most 400 ms for a sector of 4 KiB, 2 s for a block of 64 KiB, 3 ms for a page of 256
# bytes. The ROM erases by blocks where whole ones lie in the space: 16 blocks a MiB are 32 s; what is left of it at
# the two ends is at most 30 sectors, 12 s.
_BLOCK_ERASE_S, _SECTOR_ERASE_S, _PAGE_S = 2.0, 0.4, 0.003
_FLASH_BLOCK, _FLASH_PAGE = 64 << 10, 256
# MD5: read on one line at 20 MHz, the slowest that an image header can ask for, 5 bytes of command to 64 of data:
# 0.45 s a MiB. RFC 1321: 64 steps of some 8 operations for 64 bytes; at 4 clocks each, from a ROM without cache at
# 40 MHz, 0.85 s. Neither clock nor cache of every ROM is known: six times the sum.
_MD5_S_PER_BYTE = 8 / (1 << 20)
_FLASH_SIZES = ("256K", "512K", "1M", "2M", "4M", "8M", "16M")
_TRIES = 3
_WORD_REQUEST = 12  # characters of the shortest answer with a word; its request has two more
_BRIEFLY = 10 * _WORD_REQUEST
_SAMPLES, _SAMPLE_BYTES = 24, AT_ONCE
_LOOKED_AT_BEHIND, _READ_BEHIND, _SECTORS_BEHIND = 512 << 10, 16, 8
"""After what is erased: bytes to sum at most; for an ESP8266, bytes to read at the start of so many sectors."""
_OTHER_BLOCK = 48
"""Bytes per read when memory is read in a second way."""


def _longest_erase_s(size: int) -> float:
    """For `size` bytes from anywhere; with none, until a flash that is still busy with a block is ready."""
    ends = min(size, 2 * (_FLASH_BLOCK - SECTOR))
    return max(1, -(-size // _FLASH_BLOCK)) * _BLOCK_ERASE_S + -(-ends // SECTOR) * _SECTOR_ERASE_S


def _longest_write_s(size: int) -> float:
    return (size // _FLASH_PAGE + 2) * _PAGE_S


@lru_cache(maxsize=8)
def deflated(data: bytes) -> bytes:
    """`data` as it is sent. Plan, price and write ask for the same data, and compressing takes its time."""
    return zlib.compress(data, 9)


def _opened(sent: bytes) -> Opened:
    frame = unescaped(sent.strip(b"\xc0"))
    return (frame[1], frame[8:]) if len(frame) >= 8 and not frame[0] else None


class EspRom(Dialect, ChangesRate, Checksums, ErasesMore, PrintsAtReset, ProvesRate, Witnesses):
    """The conversation with one chip."""

    name: ClassVar[str] = "esp-rom"
    title: ClassVar[str] = "ESP ROM loader"
    document: ClassVar[str] = "Espressif's serial protocol description"
    decoder: ClassVar[Framing] = Framing(Command, _opened, digits=6)
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=slip(bytes([0, Command.SYNC, 36, 0, 0, 0, 0, 0]) + _SYNC_DATA),
            sounds=(rb"(?:\xc0\x01\x08[^\xc0]+\xc0)+",),
            attempts=(Attempt(0.05, 4), Attempt(0.3, 4), Attempt(0.6, 8)),
            wait_s=0.25,
            order=20,
            usb_vendor_id="303A",
            measures_rate=True,
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.RESET,
        start_answers=False,
        reading=Reading.SLOW,
        erases_alone=True,
        guards_writes=True,
        gives_up=False,
        erases_unguarded=True,
        rom_speaks=True,
        settings=(
            Setting("verify", "text", "sampled", "ESP8266: read back a sample or the whole", ("sampled", "whole")),
            Setting(
                "flash-size",
                "text",
                "auto",
                "size of the flash, where the chip does not tell it",
                ("auto", *_FLASH_SIZES),
            ),
            Setting("header-mode", "text", "same", "SPI mode in the boot header", ("same", *MODES)),
            Setting("header-size", "text", "same", "flash size in the boot header", ("same", "chip", *SIZES_8266)),
            Setting("header-speed", "text", "same", "SPI speed in the boot header, in MHz", ("same", *ALL_SPEEDS)),
        ),
        costs=Costs(block=BLOCK, read_block=_SAMPLE_BYTES, write=CostRow(26, 14)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._frames = SlipReader(link)
        self._flash_chip = FlashChip(self._read_register, self._write_register)
        self._security_information = b""
        """As reported; empty if the ROM has none."""
        self._security = Security()

    # --- frames

    def _send(self, command: Command, data: bytes, checksum: int = 0) -> None:
        head = bytes([0, command]) + len(data).to_bytes(2, "little") + checksum.to_bytes(4, "little")
        self.link.write(slip(head + data))

    def _reply(
        self,
        command: Command,
        timeout_s: float,
        refused: RefusalKind = RefusalKind.UNSUPPORTED,
        address: int | None = None,
    ) -> tuple[int, bytes]:
        """(value, data without status) of the reply to a command. Raises DialectError."""
        deadline = Deadline.after(self.link, timeout_s)
        name = command.words
        while True:
            frame = self._frames.next(deadline)
            if not frame:
                raise Silence(f"reply to '{name}'", timeout_s, self._frames.half)
            if len(frame) < 10 or frame[0] != 1 or len(frame) != 8 + int.from_bytes(frame[2:4], "little"):
                raise Unexpected(f"reply to '{name}'", frame)
            if frame[1] == command:
                break
            self._refuse_begun(command, frame)
        data = frame[8:]
        tail = 2 if len(data) == 2 else 4  # the ESP8266's replies carry nothing but two bytes of status
        status = data[-tail:]
        if status[0]:
            raise ChipRefusal(name, refused, status[:2], address)
        return int.from_bytes(frame[4:8], "little"), data[:-tail]

    @staticmethod
    def _refuse_begun(asked: Command, frame: bytes) -> None:
        """Answers come in order, and each begin waits for its own: an unrelated one means that a command was damaged
        into a begin. Not so if it is too short for reading a register, and therefore refused."""
        if (
            asked not in (*_BEGINS, Command.READ_REGISTER)
            and frame[1] in _BEGINS
            and len(frame) <= 12
            and not frame[8]
        ):
            raise UnexpectedErase(f"'{asked.words}' was answered as '{Command.of(frame[1]).words}'")

    def _exchange(self, command: Command, *words: int, longest_s: float = 0.0) -> tuple[int, bytes]:
        data = _words(*words)
        self._frames.forget()
        self._send(command, data)
        return self._reply(command, self.link.settings.seconds(len(data) + 60) + self.patience_s + longest_s)

    def _repeat(self, command: Command, *words: int, longest_s: float = 0.0) -> tuple[int, bytes]:
        """An exchange that may be retried, as it changes nothing or does the same each time. A request damaged on its
        way is refused."""
        return self.exchange(lambda: self._exchange(command, *words, longest_s=longest_s), self._recover, _TRIES, 1)

    def _recover(self, heard: bytes = b"") -> None:
        """Complete whatever half frame the ROM holds, and synchronise again. Raises Silence."""
        self._flash_chip.forget()
        for _ in range(5):
            self.link.write(b"\xc0\xc0")
            refuse_text("reply", self._frames.half + drain(self.link, 2 * _QUIET_S))
            self._frames.half = b""
            if self.ask(0.3) is not None:
                return
        raise Silence("answer to a new sync", 1.5)

    def _read_register(self, address: int) -> int:
        return self._repeat(Command.READ_REGISTER, address)[0]

    def _write_register(self, address: int, value: int) -> None:
        self._repeat(Command.WRITE_REGISTER, address, value, 0xFFFFFFFF, 0)

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Sync once. A good sync is answered eight times: all are read before anything else is sent."""
        self.link.discard()
        self._frames.forget()
        deadline = Deadline.after(self.link, wait_s + self.link.settings.seconds(len(self.spec.asking.sent)))
        self.link.write(self.spec.asking.sent)
        while True:
            frame = self._frames.next(deadline)
            if not frame:
                read_until(self.link, deadline)
                return None
            if len(frame) >= 10 and frame[:2] == bytes([1, Command.SYNC]) and frame[8] == 0:
                drain(self.link, _QUIET_S, 0.3)
                self._frames.forget()
                return f"01 08 … {show_bytes(frame[8:])}"

    def identify(self) -> Identity:
        """By the chip id in its security information, which secure download mode reports too; if the ROM has none
        (ESP8266, ESP32), by the word its ROM shows at 40001000, which later chips change with each mask revision."""
        self._security_information = b""
        try:
            self._security_information = self._exchange(Command.SECURITY)[1]
        except ChipRefusal:
            self.link.discard()
        except (Silence, Unexpected):
            self.retries += 1
            self._recover()
        chip_id = chip_id_in(self._security_information)
        if chip_id is not None:
            part = Catalogue.load().first(self.name, lambda part: part.extra.get("chip_id") == chip_id)
            return Identity(part.ident if part else _NO_ROM_WORD | chip_id, f"chip id {chip_id}")
        word = self._read_register(_ROM_WORD_AT)
        return Identity(word, f"ROM word {word:08X}")

    def was_reset(self) -> None:
        self._flash_chip.forget()

    @staticmethod
    def _slow(part: Part) -> bool:
        """Whether it is the ESP8266: two status bytes, no compression, no MD5."""
        return bool(part.extra.get("slow"))

    def examine(self, part: Part) -> Examination:
        """Security flags, MAC address, flash chip and its size."""
        self.examined_part = part
        self._security = Security.of(part, self._security_information, self._read_register)
        details, locked = self._security.details, self._security.locked
        if locked:  # then it answers nothing else
            return Examination(part, tuple(details), "", locked)
        mac = mac_of(part, self._read_register)
        if mac:
            details.append(("mac", mac))
        if self._slow(part):
            self._repeat(Command.FLASH_BEGIN, 0, 0, BLOCK, 0)  # the ROM sets its SPI controller up
        else:
            self._repeat(Command.ATTACH_SPI, 0, 0)
        self._flash_chip.forget()
        number = self._flash_chip.number(part)
        shown = f"{number & 0xFF:02X} {number >> 8 & 0xFF:02X} {number >> 16:02X}"
        if number in (0, 0xFFFFFF):
            raise RefusedFault.of(
                "no-flash",
                f"the {part.title} answers, and its flash chip does not",
                (f"asked for its number, it tells {shown}",),
                ("is the flash soldered, and supplied?", "does something else pull at the pins of the flash?"),
            )
        details.append(("flash chip", shown))
        size = self._size_of_flash(part, number)
        if size is None:
            details.append(("flash", f"of unknown size: no size from {shown}"))
        else:
            part = replace(part.with_memory(part.flash.resized(size)), size_known=True)
        if not self._slow(part):
            self._repeat(Command.SET_SPI, 0, part.flash.size, 65536, SECTOR, 256, 0xFFFF)
        if part.size_known:
            details.append(("flash", show_size(part.flash.size)))
        self.examined_part = part
        return Examination(self.part, tuple(details), mac, locked)

    def _size_of_flash(self, part: Part, number: int) -> int | None:
        """As the person says, else by its number, else by its own tables (SFDP); None if nothing tells. In bytes."""
        told = str(self.setting("flash-size"))
        if told != "auto":
            return size_bytes(told)
        size = 1 << (number >> 16 & 0xFF)
        if not 1 << 18 <= size <= part.flash.size:
            size = self._flash_chip.density(part)
        return size if 1 << 18 <= size <= part.flash.size else None

    def _refuse_beyond(self, part: Part, image: Image) -> tuple[str, ...]:
        """Where nothing tells the size of the flash: a write past its end would come out at its beginning. So no
        further than the boot header or the partition table say, the image's or else the chip's. Raises
        RefusedFault."""
        if part.size_known:
            return ()
        boot, extended = int(part.extra["boot"]), bool(part.extra["extended"])
        limit, by = limit_told(image.cut, image.covers, boot, extended), image.name
        if limit is None:
            held = {place: self.read(part.flash, place, _SAMPLE_BYTES) for place in (boot, USUAL_PLACE)}
            limit = limit_told(lambda at, size, _: held[at][:size], lambda at, _: at in held, boot, extended)
            by = "what the chip holds"
        if limit is not None and image.end <= limit:
            return (f"the size of the flash is not known: no further than {show_size(limit)}, by {by}",)
        raise RefusedFault.of(
            "flash-size-unknown",
            "the size of the flash is not known, and a write past its end would destroy what is at its beginning",
            (
                f"{image.name} reaches {show_address(image.end - 1)}",
                f"by {by} it has {show_size(limit)}" if limit else "no boot header and no partition table tells it",
            ),
            ("read it on the flash chip, and say it: --set flash-size=4M",),
        )

    # --- memory

    @classmethod
    def first_baud(cls, part: Part, baud: int) -> int:
        """The ROM measures the rate from the sync; a command then raises it, which the ESP8266 lacks."""
        return min(baud, _FIRST_BAUD) if part.extra.get("moves_rate") else baud

    @classmethod
    def rom_rate(cls, part: Part) -> int | None:
        """The ESP8266's is for a 40 MHz crystal, and it has one of 26 MHz."""
        return 74880 if cls._slow(part) else 115200

    def move_to_rate(self, part: Part, baud: int) -> None:
        """The reply comes at the old rate; then both sides switch."""
        self._exchange(Command.CHANGE_BAUD, self._asked_for(part, baud), 0)
        self.link.configure(LineSettings(baud, self.link.settings.frame))
        self.link.sleep(_SETTLE_S)
        self.link.discard()
        try:
            self._read_register(_ROM_WORD_AT)
        except (Silence, Unexpected) as error:
            raise Silence(f"answer at {baud} baud: adapter or wires may not carry it", self.patience_s) from error

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        """Words of the ROM, read again and again: each must read the same every time. A request, like its answer, is
        14 characters long, and one that is damaged is not answered or shows another word."""
        prove_by_readings(
            lambda address: self._read_register(address).to_bytes(4, "little"), _ROM_WORD_AT, _WORD_REQUEST, size, 4
        )

    def _asked_for(self, part: Part, baud: int) -> int:
        """The rate to ask for so that the chip continues at `baud`: a ROM that takes its crystal for a 40 MHz one is
        off by the crystal's ratio. The divider that auto-baud has set shows which crystal it is."""
        if "uart" not in part.extra:
            return baud
        divider = self._read_register(int(part.extra["uart"]) + _CLOCK_DIVIDER)
        source_hz = ((divider & 0xFFFFF) + (divider >> 20 & 0xF) / 16) * self.link.settings.baud
        return round(baud * 40 / 26) if abs(source_hz - 26e6) < abs(source_hz - 40e6) else baud

    @classmethod
    def cost_of_read(cls, memory: Memory, size: int) -> Cost:
        """Address, start, wait, and one register for each four bytes."""
        exchanges = 3 + -(-size // 4)
        return Cost(14 * exchanges + 24, 12 * exchanges, exchanges)

    @classmethod
    def cost_of_erase(cls, memory: Memory, units: Sequence[EraseUnit]) -> Cost:
        return Cost(26, 14, 1, len(units) * memory.erase_time(SECTOR).typical_s)

    @classmethod
    def cost_of_writes(cls, part: Part, memory: Memory, blocks: Sequence[WriteBlock]) -> Cost:
        """Compressed data counts compressed; the sectors are erased at the beginning of each run."""
        cost = Cost()
        for _, data in runs_of(blocks):
            sent = data.rstrip(b"\xff") if cls._slow(part) else deflated(data)
            number = -(-len(sent) // BLOCK)
            escaped = sum(data.count(byte) for byte in b"\xc0\xdb") if cls._slow(part) else len(sent) // 128
            sectors = -(-len(data) // SECTOR)
            busy_s = sectors * memory.erase_time(SECTOR).typical_s + memory.program_s * len(data) / memory.write_unit
            cost += Cost(32 + number * 26 + len(sent) + escaped, 14 * (number + 1), number + 1, busy_s)
        return cost

    @classmethod
    def cost_of_verify(cls, part: Part, memory: Memory, spans: Sequence[Span]) -> Cost:
        if cls._slow(part):
            return super().cost_of_verify(part, memory, spans)
        return sum_costs(Cost(26, 46, 1, span.size * 0.4 * _MD5_S_PER_BYTE / 8) for span in spans)

    @classmethod
    def provable(cls, part: Part, memory: Memory, checks: tuple[Span, ...], settings: Mapping[str, Any]) -> Provable:
        """Everything by MD5; on an ESP8266 a sample unless the whole is asked for: first and last bytes of each span,
        and places spread evenly between."""
        whole = total(checks)
        if not cls._slow(part) or settings.get("verify") == "whole" or whole <= _SAMPLES * _SAMPLE_BYTES:
            return Provable(checks)
        places: dict[int, Span] = {}
        for span in checks:
            wanted = max(2, round(_SAMPLES * span.size / whole))
            last = max(0, (span.size - _SAMPLE_BYTES) // 4 * 4)
            step = max(_SAMPLE_BYTES, (span.size - _SAMPLE_BYTES) // (wanted - 1) // 4 * 4)
            for at in (span.start + offset for offset in (*range(0, span.size - _SAMPLE_BYTES, step), last)):
                places[at] = Span.of(at, _SAMPLE_BYTES).shared(span)
        kept = tuple(places[at] for at in sorted(places))
        return Provable(
            kept, "reading back is slow here: a sample was read; the whole with --set verify=whole", whole
        )

    def _begin(self, command: Command, size: int, number: int, offset: int) -> None:
        sixth = (0,) if self.examined_part is not None and self.part.extra.get("sixth") else ()
        self._flash_chip.forget()
        if self.fail_fast and size:
            self._see_the_line()
        self._exchange(command, size, number, BLOCK, offset, *sixth, longest_s=_longest_erase_s(size))

    def _see_the_line(self) -> None:
        """Nothing guards the size that is erased. Where a lower rate can be taken, a few words of the ROM show before
        whether the line has begun to hurt. Raises DialectError."""
        with self.waiting(self.patience_s):
            self.prove_rate(self.part, _BRIEFLY)

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Beginning a write erases its space; no data needs to follow."""
        done = 0
        wholes = merged(unit.span for unit in units)
        for run in (part for whole in wholes for part in begun_apart(whole, self._slow(self.part))):
            begin = partial(
                self._begin,
                Command.FLASH_BEGIN,
                size_to_ask_for(run, self._slow(self.part)),
                -(-run.size // BLOCK),
                run.start,
            )
            self.exchange(begin, self._recover, 1 if self.fail_fast else _TRIES)
            done += run.size // SECTOR
            yield done

    @classmethod
    def erased_by_writing(cls, part: Part, memory: Memory, spans: Sequence[Span]) -> Sequence[Span]:
        """The ESP8266's ROM erases two sectors where one is asked for. Behind the last one the flash begins anew:
        that is erased together with the one before it."""
        return [_with_the_next(memory, span) if cls._slow(part) and span.size <= SECTOR else span for span in spans]

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """Unbroken runs of blocks; each is begun, which erases it, and sent; after a fault again from the sector that
        is incomplete."""
        waiting = list(blocks)
        runs = [
            (part.start, data[part.start - start : part.end - start])
            for start, data in runs_of(blocks)
            for part in begun_apart(Span.of(start, len(data)), self._slow(self.part))
        ]
        for start, data in runs:
            at, faults = start, 0
            while at < start + len(data):
                begun = at
                try:
                    for reached in self._write_run(at, data[at - start :]):
                        at = reached
                        while waiting and waiting[0].address + len(waiting[0].data) <= reached:
                            yield waiting.pop(0)
                except (Silence, Unexpected, ChipRefusal):
                    faults += 1
                    self.retries += 1
                    if faults >= _TRIES or self.fail_fast:
                        raise
                    self._recover()
                    at = self._again_from(begun, at // SECTOR * SECTOR, start + len(data))

    def _again_from(self, begun: int, at: int, end: int) -> int:
        """Where to continue after a fault: at the start of a sector, or one sector earlier, so that no more is erased
        past the end than at first."""
        if self._slow(self.part) and at > begun and erased_up_to(at, end) > erased_up_to(begun, end):
            at -= SECTOR
        return max(begun, at)

    def _write_run(self, start: int, data: bytes) -> Iterator[int]:
        """Yields the address up to which the chip has acknowledged."""
        if self._slow(self.part):
            sent = data.rstrip(b"\xff")
            number = -(-len(sent) // BLOCK)
            self._begin(Command.FLASH_BEGIN, size_to_ask_for(Span.of(start, len(data)), True), number, start)
            for index in range(number):
                block = sent[index * BLOCK : (index + 1) * BLOCK].ljust(BLOCK, b"\xff")
                self._data(Command.FLASH_DATA, index, block, BLOCK, start + index * BLOCK)
                yield start + (index + 1) * BLOCK
            yield start + len(data)
            return
        sent = deflated(data)
        number = -(-len(sent) // BLOCK)
        unpacked, reached = zlib.decompressobj(), 0
        self._begin(Command.DEFLATE_BEGIN, -(-len(data) // SECTOR) * SECTOR, number, start)
        for index in range(number):
            block = sent[index * BLOCK : (index + 1) * BLOCK]
            held = len(unpacked.decompress(block))
            self._data(Command.DEFLATE_DATA, index, block, held, start + reached)
            reached += held
            yield start + reached if index < number - 1 else start + len(data)

    def _data(self, command: Command, index: int, block: bytes, written: int, address: int) -> None:
        body = _words(len(block), index, 0, 0) + block
        self._frames.forget()
        self._send(command, body, reduce(xor, block, _CHECKSUM_START))
        timeout_s = self.link.settings.seconds(2 * len(body) + 40) + self.patience_s + _longest_write_s(written)
        self._reply(command, timeout_s, RefusalKind.BAD_DATA, address)

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        return 1

    def confirm_reading(self, memory: Memory, address: int, data: bytes) -> bool:
        """By the ROM's MD5; on an ESP8266 from another start."""
        if self.can_checksum():
            return self.checksum_equals(memory, address, data)
        before = min(16, address - memory.start)
        size = before + len(data)
        found = b"".join(
            self.read(memory, address - before + at, min(_OTHER_BLOCK, size - at))
            for at in range(0, size, _OTHER_BLOCK)
        )
        return found[before:] == data

    def witnesses(self, memory: Memory, gaps: Sequence[Span]) -> Sequence[Span]:
        """Nothing guards the size that a begin erases, and a wrong size erases past the right end: the first place in
        each gap that is not blank."""
        find = self._first_used if self.can_checksum() else self._first_used_read
        found = (find(memory, gap) for gap in gaps)
        return [place for place in found if place is not None]

    def _first_used(self, memory: Memory, gap: Span) -> Span | None:
        """Found by summing ever larger places."""
        at, size = gap.start, SECTOR
        while at < min(gap.end, gap.start + _LOOKED_AT_BEHIND):
            place = Span.of(at, min(size, gap.end - at))
            if self.shown_of(memory, place) != _md5(bytes([memory.erased]) * place.size):
                return place
            at, size = place.end, 2 * size
        return None

    def _first_used_read(self, memory: Memory, gap: Span) -> Span | None:
        """Found by reading the beginning of a few sectors."""
        places = (Span.of(at, _READ_BEHIND) for at in range(gap.start, gap.end, SECTOR)[: _SECTORS_BEHIND + 1])
        return next((place for place in places if self.shown_of(memory, place).strip(bytes([memory.erased]))), None)

    def shown_of(self, memory: Memory, place: Span) -> bytes:
        """Its MD5; on an ESP8266 its bytes."""
        if self.can_checksum():
            return self._digest(place.start, place.size)
        return self.read(memory, place.start, place.size)

    def _digest(self, address: int, size: int) -> bytes:
        """By the ROM, in 32 hexadecimal digits."""
        return self._repeat(Command.MD5, address, size, 0, 0, longest_s=size * _MD5_S_PER_BYTE)[1][:32].lower()

    def can_checksum(self) -> bool:
        return self.examined_part is not None and not self._slow(self.part)

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """By the ROM's MD5 of whole words; a few bytes at the ends are read."""
        low, high = -(-address // 4) * 4, (address + len(data)) // 4 * 4
        if low >= high:
            return self.read(memory, address, len(data)) == data
        edges = [(address, low), (high, address + len(data))]
        for first, end in edges:
            if first < end and self.read(memory, first, end - first) != data[first - address : end - address]:
                return False
        inner = data[low - address : high - address]
        return self._digest(low, len(inner)) == _md5(inner)

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        """Through the SPI controller, by its data registers."""
        return self._flash_chip.content(self.part, address, size)

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """Boot headers checked, and rewritten if asked for; the partition table checked."""
        notes: list[str] = []
        image = fit_headers(part, image, settings, even_if, notes)
        judge_partitions(part, image, even_if, notes)
        return image, tuple(notes)

    def look_before(self, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> tuple[str, ...]:
        """If the images bring no partition table of their own: check them against the one on the chip."""
        image = images.get("flash")
        if not self.restores:
            self._refuse_plain(part, even_if)
        said = () if image is None else self._refuse_beyond(part, image)
        if self.restores or image is None or self._slow(part):
            return said
        if image.covers(USUAL_PLACE, 32) or image.end <= USUAL_PLACE:
            return said
        table = b""
        while len(table) < MOST_BYTES and len(read_table(table)) * ROW == len(table):
            table += self.read(part.flash, USUAL_PLACE + len(table), _SAMPLE_BYTES)
        if not table or not self.confirm_reading(part.flash, USUAL_PLACE, table):
            return said
        judge_places(image, read_table(table), even_if, "the chip's partition table")
        return said

    def _refuse_plain(self, part: Part, even_if: frozenset[str]) -> None:
        """The image is plain: a chip with flash encryption cannot run it, nor can one that starts only signed
        images."""
        if "encryption" in even_if or not (self._security.encrypts or self._security.signed_only):
            return
        what = "encrypts its flash" if self._security.encrypts else "only starts what is signed (secure boot)"
        raise RefusedFault.of(
            "encryption",
            f"this {part.title} {what}: a plain image would not start, and perhaps could not be corrected over UART",
            ("its fuses say so",),
            (
                "update it from inside, with the program's own update",
                "if the image is made for it: --even-if encryption",
            ),
        )

    # --- starting

    def start(self, address: int) -> str:
        """An end command without a write reboots."""
        self._begin(Command.FLASH_BEGIN, 0, 0, 0)
        self._exchange(Command.FLASH_END, 0)
        return "reboot acknowledged"

    def finish(self) -> None:
        self.start(0)


def _with_the_next(memory: Memory, span: Span) -> Span:
    last = span.end >= memory.end
    return Span(span.start - SECTOR, span.end) if last else Span(span.start, span.end + SECTOR)


def _words(*words: int) -> bytes:
    return b"".join(word.to_bytes(4, "little") for word in words)


def _md5(data: bytes) -> bytes:
    return hashlib.md5(data, usedforsecurity=False).hexdigest().encode()
