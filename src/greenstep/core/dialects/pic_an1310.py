"""`pic-an1310`: the serial bootloader of Microchip AN1310 at the end of a PIC18's flash.

Frames are STX … CRC ETX, with DLE before bytes that would be mistaken for one of these. The loader stays active if
its RX is held low while reset is released. As it lies at the end of the flash, the jump at 0 must lead to it: the
host writes that jump there, and moves the application's own to just below the loader.

A chip whose jump is blank runs through what follows it, into an older program: its loader is out of reach for good.
So everything is erased from the end backwards and the block of that jump last; while it is blank, a jump stands at
the beginning of the next block, which is erased by then; and the block of the jump is written before all others.
"""

from __future__ import annotations

from binascii import crc_hqx
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..errors import RefusedFault, WriteFault
from ..families.pic18 import code_only, goto, goto_target, in_words
from ..image import Image
from ..image.edit import with_bytes
from ..link import Deadline, Link
from ..quantities import show_address, show_bytes, show_size
from .abilities import PROOF_BYTES, ChecksBackup, LoaderInFlash, ProvesRate
from .dialect import Dialect
from .errors import Silence, Unexpected
from .framing import Framing, Opened
from .line import drain, read_until, refuse_text, say_last
from .pic_frames import ETX, STX, read_frame, stuffed, unstuffed
from .results import Examination, Identity, OneFitted, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, ProtocolCommand, Spec, Starting
from .ways import prove_by_readings


class Command(ProtocolCommand):
    """AN1310, "Serial protocol" and "Commands"."""

    INFO = 0, "info"
    READ_FLASH = 1, "read flash", "address:4 size:2 data"
    FLASH_CRC = 2, "flash CRCs", "at:4"
    ERASE_FLASH = 3, "erase flash", "at:4 blocks:1"
    WRITE_FLASH = 4, "write flash", "address:4 -:1 data"
    READ_EEPROM = 5, "read EEPROM", "address:4 size:2 data"
    WRITE_EEPROM = 6, "write EEPROM", "at:4"
    WRITE_CONFIG = 7, "write configuration", "at:4"
    RUN = 8, "run application"


_PIC16 = 2
_FAMILIES = {_PIC16: "PIC16", 4: "PIC18"}
_READ_BYTES, _WRITE_BYTES, _MOST_ERASES = 1024, 256, 64
_GOTO_BYTES = 4

_QUIET_S, _TRIES = 0.04, 4
_READ_REQUEST = 10  # bytes; a request to read has as many, and its answer a few more


def framed(data: bytes) -> bytes:
    """A request as sent on the line: the check is a CRC-16, polynomial 1021, from 0, over the data."""
    return bytes([STX]) + stuffed(data + crc_hqx(data, 0).to_bytes(2, "little")) + bytes([ETX])


def _opened(sent: bytes) -> Opened:
    data = unstuffed(sent)[:-2]
    return (data[0], data[1:]) if data else None


def _auto_baud(sent: bytes, heard: bytes) -> tuple[str, str] | None:
    return None if sent.strip(bytes([STX])) else ("auto-baud", "" if heard else "no answer")


class PicAn1310(Dialect, ChecksBackup, LoaderInFlash, ProvesRate):
    """The conversation with one chip."""

    name: ClassVar[str] = "pic-an1310"
    title: ClassVar[str] = "PIC18 bootloader (AN1310)"
    document: ClassVar[str] = "Microchip AN1310"
    decoder: ClassVar[Framing] = Framing(Command, _opened, digits=5, silent=(Command.RUN,), other=_auto_baud)
    answer_s: ClassVar[float] = 0.4
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=bytes([STX]),
            answers=(bytes([STX]),),
            attempts=(Attempt(0.05, 4), Attempt(0.2, 4), Attempt(0.6, 6)),
            wait_s=0.25,
            order=35,
            usb_vendor_id="04D8",
            measures_rate=True,
            enters_on_break=True,
        ),
        erasing=Erasing.BY_UNIT,
        starting=Starting.COMMAND,
        erases_alone=True,
        guards_writes=True,
        gives_up=False,
        tells_chip=False,
        start_answers=False,
        costs=Costs(erase=CostRow(10, 5, units=_MOST_ERASES)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._waits_for_start = False
        self._info = b""
        self._due = False
        self._blank: set[int] = set()
        """Addresses of the blocks that were erased in this conversation."""

    # --- frames

    def _reply(self, waiting_for: str, timeout_s: float, started: bool, asks_info: bool) -> bytes:
        """The data of the reply, CRC tested. An STX before it may be our echo. Raises Silence, Unexpected."""
        deadline = Deadline.after(self.link, timeout_s)
        data = read_frame(self.link, timeout_s, waiting_for, 3000, started)
        while not asks_info and self._info and data[:-2] == self._info:  # the late answer to an earlier question
            data = read_frame(self.link, deadline.left_s, waiting_for, 3000)
        if len(data) < 2 or crc_hqx(data[:-2], 0) != int.from_bytes(data[-2:], "little"):
            raise Unexpected(waiting_for, data[:40])
        return data[:-2]

    def _exchange(self, data: bytes, longest_s: float = 0.0, answer: int = 0) -> bytes:
        self.link.discard()
        name = Command.of(data[0]).words
        sent = framed(data)
        if self._waits_for_start:  # some measure the rate anew for each request
            self.link.write(sent[:1])
            if self.link.read(1, self.patience_s) != bytes([STX]):
                raise Silence(f"0F before '{name}'", self.patience_s)
            sent = sent[1:]
        self.link.write(sent)
        timeout_s = self.link.settings.seconds(2 * len(sent) + 2 * answer) + self.patience_s + longest_s
        return self._reply(f"reply to '{name}'", timeout_s, self._waits_for_start, data[0] == Command.INFO)

    def _repeat(self, data: bytes, longest_s: float = 0.0, answer: int = 0) -> bytes:
        """An exchange that may be retried; a damaged request is met with silence."""
        return self.exchange(lambda: self._exchange(data, longest_s, answer), self._recover, _TRIES)

    def _recover(self, heard: bytes) -> None:
        """Complete a half request; if that does not help, train the rate again: some measure it before each request,
        and the end of one is no start to measure."""
        refuse_text("reply", heard + drain(self.link, 2 * _QUIET_S))
        self.link.write(bytes([ETX]))
        drain(self.link, 2 * _QUIET_S)
        for _ in range(2):
            if self._informed() is not None:
                return
            self.link.write(bytes([STX]))
            drain(self.link, 2 * _QUIET_S)

    @staticmethod
    def _head(command: Command, address: int) -> bytes:
        return bytes([command]) + address.to_bytes(4, "little")

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Send STX until STX comes back: the first may only train the auto-baud. Then ask for the loader's
        information, because an echo would send STX back too."""
        self.link.discard()
        deadline = Deadline.after(self.link, wait_s)
        if self._info:  # it was trained before, and some do not answer a second STX alone
            return self._informed()
        for _ in range(3):
            self.link.write(bytes([STX]))
            heard = self.link.read(1, wait_s / 4)
            if heard == bytes([STX]):
                drain(self.link, _QUIET_S, 0.2)
                return self._informed()
            if heard:
                break
        read_until(self.link, deadline)
        return None

    def _informed(self) -> str | None:
        for _ in range(2):
            try:
                self._info = self._exchange(bytes([Command.INFO]), 0.0, 20)
            except (Silence, Unexpected):
                self._waits_for_start = not self._waits_for_start
                drain(self.link, 2 * _QUIET_S)
                continue
            if len(self._info) >= 10 and self._info != bytes([Command.INFO]):
                return f"0F, then version {self._info[3]}.{self._info[2]}"
            return None
        return None

    def identify(self) -> Identity:
        """Version, family and, from later loaders, the device id."""
        info = self._info
        version = f"{info[3]}.{info[2]}"
        details = [("loader", version), ("family", _FAMILIES.get(info[5] & 0x0F, f"{info[5]:02X}"))]
        if len(info) >= 12:
            details.append(("device id", f"{int.from_bytes(info[10:12], 'little'):04X}"))
        return Identity(None, f"AN1310 loader {version}, {details[1][1]}", tuple(details))

    def examine(self, part: Part) -> Examination:
        """Where the loader itself begins. Raises RefusedFault if the loader says that it is in a PIC16, whose words
        it counts otherwise."""
        if self._info[5] & 0x0F == _PIC16:
            raise RefusedFault.of(
                "other-chip",
                f"the chip is another one: its loader says that it is in a PIC16, and {part.title} was declared",
                (f"family {self._info[5]:02X}",),
                ("PIC16 by AN1310 is not supported here; by DS40001779 it is: greenstep chips pic16",),
                "certain",
            )
        start = int.from_bytes(self._info[6:9], "little")
        flash = part.flash
        if flash.start < start < flash.end:
            part = part.with_memory(replace(flash, reserved_top=flash.end - start))
        return Examination(part, (("flash", show_size(flash.size)),))

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        """Small readings of the flash, twice each; requests and answers carry a CRC."""
        flash = part.flash
        prove_by_readings(lambda address: self.read(flash, address, _READ_REQUEST), flash.start, _READ_REQUEST, size)

    # --- memory

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        return max(_WRITE_BYTES, memory.write_unit) if memory.is_flash else 32

    @classmethod
    def read_block(cls, memory: Memory) -> int:
        return _READ_BYTES if memory.is_flash else 64

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(10 + size + 3 * size // 256, 5, 1, memory.program_s * -(-size // memory.write_unit))

    @classmethod
    def cost_of_read(cls, memory: Memory, size: int) -> Cost:
        return Cost(11, 4 + size + 3 * size // 256, 1)

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Runs of blocks from the end backwards, each named by its last block, from which the loader counts down. The
        block with the jump to the loader is left to `write`."""
        waiting = list(units)
        self._due = bool(waiting) and waiting[0].address == memory.start
        if self._due:
            waiting.pop(0)
        self._blank = {unit.address for unit in waiting}
        while waiting:
            run = 1
            while run < min(len(waiting), _MOST_ERASES) and waiting[-run - 1].end == waiting[-run].address:
                run += 1
            self._erase(memory, waiting[-1], run)
            del waiting[-run:]
            yield len(units) - len(waiting) - (1 if self._due else 0)
        if self._due:
            yield len(units)

    def _erase(self, memory: Memory, last: EraseUnit, run: int = 1) -> None:
        longest_s = run * memory.erase_time(last.size).longest_s
        self._repeat(self._head(Command.ERASE_FLASH, last.address) + bytes([run]), longest_s)

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        waiting = list(blocks)
        if memory.is_flash and self._due:
            waiting = self._write_first_block(memory, waiting)
            yield from blocks[: len(blocks) - len(waiting)]
        for block in waiting:
            self._write(memory, block)
            yield block

    def _write(self, memory: Memory, block: WriteBlock) -> None:
        size = len(block.data)
        busy_s = 4 * self.cost_of_write(memory, size).busy_s
        if not memory.is_flash:
            body = self._head(Command.WRITE_EEPROM, block.address) + size.to_bytes(2, "little")
        else:
            body = self._head(Command.WRITE_FLASH, block.address) + bytes([size // memory.write_unit])
        self._repeat(body + block.data, busy_s)

    def _write_first_block(self, memory: Memory, blocks: list[WriteBlock]) -> list[WriteBlock]:
        """Erase and write the block of the jump while another jump stands in the next; returns the remaining
        blocks."""
        first, second = memory.units_touched(memory.start, 2 * memory.layout[0][1])[:2]
        saved = b"" if second.address in self._blank else self._content(memory, second)
        if saved:
            self._erase(memory, second)
        bridge = goto(memory.usable_end).ljust(memory.write_unit, b"\xff")
        self._write(memory, WriteBlock(second.address, bridge))
        if self.read(memory, second.address, _GOTO_BYTES) != bridge[:_GOTO_BYTES]:
            raise WriteFault.of(
                "not-written",
                "the loader acknowledges a write without doing it",
                (f"nothing of it at {show_address(second.address)}: the block at 0 stays as it is",),
                ("is the flash write-protected (configuration bits WRT)?", "measure the supply while it writes"),
            )
        self._erase(memory, first)
        own = [block for block in blocks if block.address < first.end]
        for block in own:
            data = block.data[: first.end - block.address]
            self._write(memory, WriteBlock(block.address, data))
        self._due = False
        self._erase(memory, second)
        if saved:
            for at in range(0, len(saved), _WRITE_BYTES):
                if part := saved[at : at + _WRITE_BYTES].rstrip(b"\xff"):
                    size = -(-len(part) // memory.write_unit) * memory.write_unit
                    self._write(memory, WriteBlock(second.address + at, part.ljust(size, b"\xff")))
            if self._content(memory, second) != saved:
                raise Unexpected(f"what was at {show_address(second.address)}", b"")
        reaching = [b for b in own if b.address + len(b.data) > first.end]
        for block in reaching:
            self._write(memory, WriteBlock(first.end, block.data[first.end - block.address :]))
        return blocks[len(own) :]

    def _content(self, memory: Memory, unit: EraseUnit) -> bytes:
        block = self.read_block(memory)
        return b"".join(
            self.read(memory, at, min(block, unit.end - at)) for at in range(unit.address, unit.end, block)
        )

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        command = Command.READ_FLASH if memory.is_flash else Command.READ_EEPROM
        data = self._repeat(self._head(command, address) + size.to_bytes(2, "little"), 0.0, size)
        if len(data) not in (size, size + 1):  # some repeat the command before the data
            raise Unexpected(f"{size} bytes", data[:40])
        return data[-size:]

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """Code only, and the jump at 0 moved: a GOTO to the loader there, the application's just below the loader."""
        image, notes = code_only(image, part.flash.end, int(part.extra.get("config_bytes", 0)))
        if not image.pieces:
            return image, notes
        notes = (in_words(image), *notes)
        flash = part.flash
        loader, kept = flash.usable_end, flash.usable_end - _GOTO_BYTES
        if image.end > loader:
            return image, notes
        if not image.covers(flash.start, _GOTO_BYTES):
            image, told = cls.fit_blank(part, image)
            return image, (*notes, *told)
        jump = image.cut(flash.start, _GOTO_BYTES, flash.erased)
        target = goto_target(jump)
        if target is None or image.touches(kept, _GOTO_BYTES):
            shown = f"its first two words are {show_bytes(jump)}"
            raise RefusedFault.of(
                "vectors",
                f"{image.name} leaves no way to the bootloader and back",
                (shown if target is None else f"{show_address(kept)}, where its jump must go, is in use",),
                ("build it with a GOTO at 0, as compilers do, and 4 bytes free below the bootloader",),
            )
        if target == loader:
            return image, (*notes, "its jump at 0 leads to the bootloader already")
        image = with_bytes(with_bytes(image, flash.start, goto(loader)), kept, jump)
        said = (
            f"jump at 0 leads to the bootloader at {show_address(loader)}; "
            f"the program's own, to {show_address(target)}, stands at {show_address(kept)}"
        )
        return image, (*notes, said)

    @classmethod
    def fit_blank(cls, part: Part, image: Image) -> tuple[Image, tuple[str, ...]]:
        """Blank except for the jump to the loader, if its block is erased."""
        flash = part.flash
        if not image.touches(flash.start, flash.layout[0][1]) or image.end > flash.usable_end:
            return image, ()
        image = with_bytes(image, flash.start, goto(flash.usable_end))
        return image, (f"the jump at 0 to the bootloader at {show_address(flash.usable_end)} stays",)

    @classmethod
    def check_backup(cls, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> None:
        """A backup of a chip whose reset led to a loader; or one without any of the block with that jump."""
        image, flash = images.get("flash"), part.flash
        if image is None or not image.touches(flash.start, flash.layout[0][1]):
            return
        covered = image.covers(flash.start, _GOTO_BYTES)
        jump = image.cut(flash.start, _GOTO_BYTES, 0xFF)
        if covered and goto_target(jump) == flash.usable_end:
            return
        raise RefusedFault.of(
            "vectors",
            "restoring this would put the bootloader out of reach",
            (f"it has {show_bytes(jump) if covered else 'nothing'} at 0, where reset must lead to the loader",),
            ("upload the program: that moves its jump",),
        )

    # --- starting

    def start(self, address: int) -> str:
        self.finish()
        return "run sent"

    def finish(self) -> None:
        say_last(self.link, framed(bytes([Command.RUN])))
