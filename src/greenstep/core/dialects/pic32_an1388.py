"""`pic32-an1388`: Microchip's PIC32 bootloader (AN1388), in the boot flash and at the start of the program flash.

Frames begin with 01, end with 04, and carry a CRC-16; data goes as Intel HEX records in binary. All that a program
may use is erased at once. Nothing can be read back, but the loader tells a CRC-16 of any range: verify is that. Boot
flash and configuration words are never written; of an image only the latter are left out.
"""

from __future__ import annotations

import re
from binascii import crc_hqx
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..image import Image, Piece
from ..link import Deadline, Link
from ..quantities import count
from ..spans import Span, merged, shared, total, without
from .abilities import Checksums, TellsSums
from .dialect import Answer, Dialect
from .errors import Silence, Unexpected
from .framing import Framing, Opened
from .line import drain, refuse_text, say_last
from .results import Identity, OneFitted, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, ProtocolCommand, Setting, Spec, Starting


class Command(ProtocolCommand):
    """AN1388, "Commands"."""

    VERSION = 1, "version"
    ERASE = 2, "erase flash"
    PROGRAM = 3, "program flash", "address:4 data"
    CRC = 4, "read CRC", "at:4 size:4"
    JUMP = 5, "jump to application"


SOH, EOT, DLE = 0x01, 0x04, 0x10
_STUFFED = (SOH, EOT, DLE)
_RECORD_BYTES, _BLOCK = 128, 512
_PHYSICAL, _VIRTUAL = 0x1FFFFFFF, 0x80000000
"""What a physical address keeps of a virtual one, and what the cached window adds to it."""
_ENTRY = 0x1000
"""AN1388, "Memory layout": the startup code of a program stands 4 KiB behind its beginning."""
_ERASE_LONGEST_S, _CRC_BYTE_S = 20.0, 0.5e-6
_QUIET_S, _TRIES, _STARTS_OVER = 0.03, 4, 2


def framed(data: bytes) -> bytes:
    """A frame as sent: CRC-16, polynomial 1021, from 0, low byte first, over the data."""
    body = data + crc_hqx(data, 0).to_bytes(2, "little")
    stuffed = b"".join(bytes([DLE, byte]) if byte in _STUFFED else bytes([byte]) for byte in body)
    return bytes([SOH]) + stuffed + bytes([EOT])


def record(kind: int, address: int, data: bytes) -> bytes:
    """One Intel HEX record in binary, without its colon."""
    body = bytes([len(data)]) + address.to_bytes(2, "big") + bytes([kind]) + data
    return body + bytes([-sum(body) & 0xFF])


def _opened(sent: bytes) -> Opened:
    """The records of an Intel HEX file that a frame carries are taken for their address and their data."""
    if sent[:1] != bytes([SOH]) or sent[-1:] != bytes([EOT]):
        return None
    frame = re.sub(rb"\x10(.)", rb"\1", sent[1:-1], flags=re.DOTALL)
    if len(frame) < 3:
        return None
    command, data = frame[0], frame[1:-2]
    if command == Command.PROGRAM and len(data) > 16:
        size = len(data) - 7 - 5 * -(-(len(data) - 7) // 133)
        data = data[8:10][::-1] + data[4:6][::-1] + bytes(size)
    return command, data


class Pic32An1388(Dialect, Checksums, TellsSums):
    """The conversation with one chip."""

    name: ClassVar[str] = "pic32-an1388"
    title: ClassVar[str] = "PIC32 bootloader (AN1388)"
    document: ClassVar[str] = "Microchip AN1388"
    decoder: ClassVar[Framing] = Framing(Command, _opened, silent=(Command.JUMP,))
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=framed(bytes([Command.VERSION])),
            attempts=(Attempt(0.05, 3), Attempt(0.3, 3), Attempt(0.8, 4)),
            wait_s=0.15,
            order=37,
            usb_vendor_id="04D8",
        ),
        erasing=Erasing.ALL_AT_ONCE,
        starting=Starting.RESET,
        erases_alone=True,
        guards_writes=True,
        gives_up=False,
        tells_chip=False,
        start_answers=False,
        shows_sums_only=True,
        settings=(
            Setting(
                "entry",
                "number",
                _ENTRY,
                "how far from its beginning the program is entered: while that is blank, the loader stays",
            ),
        ),
        costs=Costs(block=_BLOCK, prove=CostRow(16, 8, byte_s=_CRC_BYTE_S)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._version = ""

    # --- frames

    def _hear(self, command: Command, wait_s: float) -> bytes:
        """The data of a frame from the chip behind its command. Raises Silence, Unexpected."""
        waiting_for = f"answer to '{command.words}'"
        deadline = Deadline.after(self.link, wait_s)
        body, begun, kept, heard = bytearray(), False, False, b""
        while not deadline.over and len(heard) < 160:
            more = self.link.read(1, deadline.left_s)
            heard += more
            if not more:
                break
            if kept:
                body += more
                kept = False
            elif more[0] == SOH:
                body, begun = bytearray(), True
            elif more[0] == DLE:
                kept = True
            elif more[0] == EOT and begun:
                data = bytes(body[:-2])
                if len(body) < 3 or crc_hqx(data, 0) != int.from_bytes(body[-2:], "little"):
                    raise Unexpected(waiting_for, heard)
                if data[0] == command:
                    return data[1:]
                begun = False  # the late answer to an earlier question
            else:
                body += more
        if heard:
            raise Unexpected(waiting_for, heard + drain(self.link, _QUIET_S))
        raise Silence(waiting_for, wait_s)

    def _request(self, command: Command, data: bytes = b"", longest_s: float = 0.0) -> bytes:
        self.link.discard()
        sent = framed(bytes([command]) + data)
        self.link.write(sent)
        return self._hear(command, self.link.settings.seconds(len(sent) + 16) + self.patience_s + longest_s)

    def _with_retry(self, command: Command, data: bytes = b"", longest_s: float = 0.0) -> bytes:
        """The same where it may be repeated."""
        return self._repeat(lambda: self._request(command, data, longest_s))

    def _repeat(self, once: Callable[[], Answer]) -> Answer:
        return self.exchange(once, self._recover, _TRIES)

    def _recover(self, heard: bytes) -> None:
        """Any 01 begins a frame anew; then it must tell its version. Raises Silence, Unexpected."""
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for attempt in range(_TRIES):
            try:
                self._request(Command.VERSION)
                return
            except (Silence, Unexpected):
                if attempt == _TRIES - 1:
                    raise

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Its version; an echo brings back a frame that is shorter."""
        self.link.discard()
        self.link.write(self.spec.asking.sent)
        try:
            told = self._hear(Command.VERSION, wait_s + self.link.settings.seconds(16))
        except (Silence, Unexpected):
            return None
        if len(told) < 2:
            drain(self.link, _QUIET_S, 0.2)
            return None
        self._version = f"{told[0]}.{told[1]}"
        return f"version {self._version}"

    def identify(self) -> Identity:
        told = self._with_retry(Command.VERSION)
        self._version = f"{told[0]}.{told[1]}" if len(told) > 1 else "?"
        return Identity(None, f"AN1388 loader {self._version}", (("loader", self._version),))

    # --- proof

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        return 1

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """By the address of the cached window: the loader takes it for a pointer."""
        where = (address | _VIRTUAL).to_bytes(4, "little") + len(data).to_bytes(4, "little")
        told = self._with_retry(Command.CRC, where, 4 * len(data) * _CRC_BYTE_S)
        return told[:2] == crc_hqx(data, 0).to_bytes(2, "little")

    def sums_seen(self) -> tuple[str, ...]:
        return ("its CRC is not that of the image",)

    # --- erasing and writing

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        self.erase_all(memory)
        yield len(units)

    def erase_all(self, memory: Memory) -> None:
        self._with_retry(Command.ERASE, longest_s=_ERASE_LONGEST_S)

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """The program's first block last, and after it the one where it is entered: until then the loader stays.
        After any doubt the CRC tells whether a block is there; if it is neither there nor blank, all begins anew."""
        entry = memory.usable_start + int(self.setting("entry"))
        held = [block for place in (memory.usable_start, entry) for block in blocks
                if block.address <= place < block.address + len(block.data)]  # fmt: skip
        held = [block for at, block in enumerate(held) if block not in held[:at]]
        ordered = [*(block for block in blocks if block not in held), *held]
        yielded, starts = 0, 0
        while True:
            try:
                for number, block in enumerate(ordered):
                    self._write(memory, block)
                    if number >= yielded:
                        yielded += 1
                        yield block
                return
            except _HalfWritten:
                starts += 1
                if starts > _STARTS_OVER:
                    raise
                self.erase_all(memory)

    def _write(self, memory: Memory, block: WriteBlock) -> None:
        busy_s = 4 * memory.program_s * -(-len(block.data) // memory.write_unit)
        records = record(4, 0, (block.address >> 16).to_bytes(2, "big"))
        for at in range(0, len(block.data), _RECORD_BYTES):
            records += record(0, block.address + at & 0xFFFF, block.data[at : at + _RECORD_BYTES])
        for attempt in range(_TRIES):
            try:
                self._request(Command.PROGRAM, records, busy_s)
                return
            except (Silence, Unexpected) as error:
                if attempt == _TRIES - 1 or self.fail_fast:
                    raise
                self.retries += 1
                self._recover(error.heard)
            if self.checksum_equals(memory, block.address, block.data):
                return
            if not self.checksum_equals(memory, block.address, bytes([memory.erased]) * len(block.data)):
                raise _HalfWritten("a block that is whole or blank", b"")

    def start(self, address: int) -> str:
        """It is not answered."""
        say_last(self.link, framed(bytes([Command.JUMP])))
        return "jump to application sent"

    def finish(self) -> None:
        self.start(0)

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """Physical addresses, without the configuration words (DEVCFG), which this loader does not write."""
        if not image.pieces:
            return image, ()
        moved = [Piece(piece.address & _PHYSICAL, piece.data) for piece in image.pieces]
        words = Span.of(*part.extra["configuration"])
        left_out = merged(shared([piece.span for piece in moved], [words]))
        kept = sorted(
            (piece.part(span) for piece in moved for span in without([piece.span], [words])),
            key=lambda piece: piece.address,
        )
        notes = []
        if left_out:
            where = f"{', '.join(map(str, left_out))}, {count(total(left_out), 'byte')}"
            notes.append(f"left out: {where} of configuration words; the chip keeps those that it has")
        return replace(image, pieces=tuple(kept)), tuple(notes)

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        sent = 12 + size + 5 * -(-size // _RECORD_BYTES)
        return Cost(sent + 3 * sent // 256, 6, 1, memory.program_s * -(-size // memory.write_unit))

    @classmethod
    def cost_of_erase(cls, memory: Memory, units: Sequence[EraseUnit]) -> Cost:
        return Cost(6, 6, 1, sum(memory.erase_time(unit.size).typical_s for unit in units))


class _HalfWritten(Unexpected):
    """A block holds neither what was sent nor nothing."""
