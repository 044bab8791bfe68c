"""`mspm0-slau887`: the bootstrap loader in the ROM of TI's MSPM0 (SLAU887).

Frames with a CRC-32, each acknowledged by one character and mostly answered by a frame. It is asked at 9600 baud. A
password of 32 bytes opens it, all FF from the factory; a wrong one counts, and the third may erase or lock the chip,
as it was configured: so only the one that was said is sent. The boot configuration (NONMAIN) is never written.

What is programmed must not be programmed again (the flash has error correction): after any doubt a block's sector is
erased first.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import partial
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..errors import RefusedFault
from ..image import Image
from ..link import Deadline, Link
from ..quantities import show_bytes, show_span
from ..spans import Span, pieces_of
from .abilities import PROOF_BYTES, ChangesRate, Checksums, ProvesRate
from .dialect import Answer, Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .framing import Framing, headed
from .line import drain, read_exactly, refuse_text
from .results import Identity, OneFitted, WriteBlock
from .spec import Asking, Attempt, CostRow, Costs, Erasing, ProtocolCommand, Setting, Spec, Starting
from .ways import in_runs


class Command(ProtocolCommand):
    """SLAU887, "BSL core commands"."""

    CONNECTION = 0x12, "connection"
    MASS_ERASE = 0x15, "mass erase"
    DEVICE_INFO = 0x19, "device info"
    PROGRAM = 0x20, "program data", "address:4 data"
    UNLOCK = 0x21, "unlock bootloader"
    ERASE_RANGE = 0x23, "erase range", "at:4 end:4"
    VERIFY = 0x26, "standalone verification", "at:4 size:4"
    READ = 0x29, "memory read back", "at:4 size:4"
    START = 0x40, "start application"
    BAUD = 0x52, "change baud rate"


_HOST, _CHIP, _ACK, _NO_SUCH_RATE = 0x80, 0x08, 0x00, 0x56
_MESSAGE, _INFO, _SUM, _MEMORY = 0x3B, 0x31, 0x32, 0x30
ACKS = {
    0x51: "header",
    0x52: "checksum",
    0x53: "size 0",
    0x54: "size too large",
    0x55: "unknown error",
    0x56: "baud rate",
}
MESSAGES = {
    0: "ok",
    1: "locked",
    2: "password error",
    3: "several password errors",
    4: "unknown command",
    5: "invalid memory range",
    6: "invalid command",
    9: "reading is disabled",
    10: "alignment",
    11: "length",
}
_KINDS = {1: RefusalKind.LOCKED, 2: RefusalKind.LOCKED, 3: RefusalKind.LOCKED, 5: RefusalKind.BAD_ADDRESS}
_KINDS |= {4: RefusalKind.UNSUPPORTED, 6: RefusalKind.UNSUPPORTED, 9: RefusalKind.UNSUPPORTED}
_RATES = {4800: 1, 9600: 2, 19200: 3, 38400: 4, 57600: 5, 115200: 6, 1_000_000: 7, 2_000_000: 8, 3_000_000: 9}
_LEAST_SUM = 1024
"""The shortest range whose CRC it tells."""
_USUAL_BUFFER, _LEAST_BUFFER, _MOST_BUFFER = 256, 64, 4096
_BLOCK, _READ_BYTES, _PROOF_ASK, _MOST_UNITS = 1024, 128, 8, 32
_CRC_BYTE_S, _QUIET_S, _TRIES = 1e-6, 0.03, 4
_NONMAIN = Span(0x41C00000, 0x41D00000)
PASSWORD_BYTES = 32


def crc32(data: bytes) -> int:
    """Reflected polynomial EDB88320, from FFFFFFFF, not inverted at the end."""
    return zlib.crc32(data) ^ 0xFFFFFFFF


def framed(core: bytes) -> bytes:
    return bytes([_HOST]) + len(core).to_bytes(2, "little") + core + crc32(core).to_bytes(4, "little")


def _answered(command: Command, sent: bytes, heard: bytes) -> str:
    """What a message says that is not ok, for a recording."""
    refused = len(heard) > 5 and heard[4] == _MESSAGE and heard[5]
    return MESSAGES.get(heard[5], show_bytes(heard, 8)) if refused else ""


class Mspm0Slau887(Dialect, ChangesRate, Checksums, ProvesRate):
    """The conversation with one chip."""

    name: ClassVar[str] = "mspm0-slau887"
    title: ClassVar[str] = "MSPM0 bootstrap loader"
    document: ClassVar[str] = "TI SLAU887"
    decoder: ClassVar[Framing] = Framing(
        Command, partial(headed, head=b"\x80", place=3, check_bytes=4), answered=_answered
    )
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=framed(bytes([Command.CONNECTION])),
            sounds=(rb"[\x51-\x56]{3,}",),  # a header, a sum, a length that it does not know, again and again
            attempts=(Attempt(0.05, 2), Attempt(0.2, 2), Attempt(0.6, 2)),
            wait_s=0.15,
            order=36,
            at_baud=9600,
        ),
        erasing=Erasing.BY_UNIT,
        starting=Starting.RESET,
        start_answers=False,
        erases_alone=True,
        guards_writes=True,
        gives_up=False,
        rates=tuple(_RATES),
        tells_chip=False,
        settings=(
            Setting("password", "text", "", "the chip's password, 64 digits; FF in all 32 bytes from the factory"),
        ),
        costs=Costs(
            block=_BLOCK,
            read_block=_READ_BYTES,
            write=CostRow(12, 10),
            read=CostRow(16, 9),
            erase=CostRow(16, 10, units=_MOST_UNITS),
            prove=CostRow(16, 13, byte_s=_CRC_BYTE_S),
        ),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._buffer = _USUAL_BUFFER
        self._open = False
        self._refused: ChipRefusal | None = None
        """The password was refused: it is not sent again, because each time counts."""

    # --- frames

    def _acknowledged(self, command: Command, deadline: Deadline) -> None:
        """00 after a frame. Raises Silence, Unexpected; ChipRefusal for a rate that it does not know."""
        heard = self.link.read(1, deadline.left_s)
        if not heard:
            raise Silence(f"00 after '{command.words}'", self.patience_s)
        if heard[0] == _NO_SUCH_RATE and command is Command.BAUD:
            raise ChipRefusal(command.words, RefusalKind.UNSUPPORTED, heard)
        if heard[0] != _ACK:
            raise Unexpected(f"00 after '{command.words}'", heard + drain(self.link, _QUIET_S))

    def _frame(self, command: Command, kind: int, deadline: Deadline) -> bytes:
        """What a frame from the chip holds behind its kind. Raises DialectError."""
        waiting_for = f"answer to '{command.words}'"
        head = self.link.read(3, deadline.left_s)
        if not head:
            raise Silence(waiting_for, self.patience_s)
        size = int.from_bytes(head[1:3], "little")
        if len(head) < 3 or head[0] != _CHIP or not 0 < size <= _MOST_BUFFER:
            raise Unexpected(waiting_for, head + drain(self.link, _QUIET_S))
        rest_s = self.link.settings.seconds(size + 4) + max(0.1, deadline.left_s)
        rest = read_exactly(self.link, size + 4, rest_s, waiting_for)
        core = rest[:-4]
        if crc32(core) != int.from_bytes(rest[-4:], "little"):
            raise Unexpected(waiting_for, rest[:40])
        if core[0] == _MESSAGE and len(core) > 1:
            if core[1]:
                said = f"{core[1]:02X}, {MESSAGES.get(core[1], 'not known')},"
                raise ChipRefusal(command.words, _KINDS.get(core[1], RefusalKind.BAD_DATA), core[:2], None, said)
            if kind == _MESSAGE:
                return core[1:]
        if core[0] != kind:
            raise Unexpected(waiting_for, core[:40])
        return core[1:]

    def _request(
        self, command: Command, data: bytes = b"", kind: int = _MESSAGE, longest_s: float = 0.0, answer: int = 10
    ) -> bytes:
        """A command and what it is answered by; nothing but the acknowledgement if `kind` is 0."""
        self.link.discard()
        sent = framed(bytes([command]) + data)
        self.link.write(sent)
        wait_s = self.link.settings.seconds(len(sent) + answer + 1) + self.patience_s + longest_s
        deadline = Deadline.after(self.link, wait_s)
        self._acknowledged(command, deadline)
        return self._frame(command, kind, deadline) if kind else b""

    def _with_retry(
        self, command: Command, data: bytes = b"", kind: int = _MESSAGE, longest_s: float = 0.0, answer: int = 10
    ) -> bytes:
        """The same where it may be repeated."""
        return self._repeat(lambda: self._request(command, data, kind, longest_s, answer))

    def _repeat(self, once: Callable[[], Answer]) -> Answer:
        return self.exchange(once, self._recover, _TRIES)

    def _recover(self, heard: bytes) -> None:
        """Complete half a frame by zeros; then the chip must tell of itself. Raises DialectError."""
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for attempt in range(_TRIES):
            self.link.write(bytes(self._buffer + 8))
            drain(self.link, self.link.settings.seconds(self._buffer + 8) + 2 * _QUIET_S, 10.0)
            try:
                self._request(Command.DEVICE_INFO, kind=_INFO, answer=32)
                return
            except (Silence, Unexpected):
                if attempt == _TRIES - 1:
                    raise

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """The connection, which is only acknowledged; then what the chip tells of itself, with a CRC."""
        try:
            with self.waiting(self.probe_timeout(wait_s)):
                self._request(Command.CONNECTION, kind=0)
                self._request(Command.DEVICE_INFO, kind=_INFO, answer=32)
        except (Silence, Unexpected, ChipRefusal):
            drain(self.link, _QUIET_S, wait_s)
            return None
        return "00 to connection, then its device info"

    def identify(self) -> Identity:
        """Version and size of its buffer. The password is only sent when something needs it."""
        info = self._with_retry(Command.DEVICE_INFO, kind=_INFO, answer=32)
        told = int.from_bytes(info[10:12], "little") if len(info) >= 12 else 0
        self._buffer = told if _LEAST_BUFFER <= told <= _MOST_BUFFER else _USUAL_BUFFER
        version = f"{info[1]:X}.{info[0]:X}" if len(info) > 1 else "not told"
        self._open = False
        return Identity(None, f"loader {version}", (("buffer", f"{self._buffer} bytes"),))

    def look_before(self, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> tuple[str, ...]:
        self._unlock()
        return ()

    def _unlock(self) -> None:
        """Before the first command that needs it. Raises RefusedFault if the setting is no password; ChipRefusal if
        it is not the chip's."""
        if self._open:
            return
        if self._refused is not None:
            raise self._refused
        text = str(self.setting("password")).replace(" ", "")
        try:
            password = bytes.fromhex(text) if text else b"\xff" * PASSWORD_BYTES
        except ValueError:
            password = b""
        if len(password) != PASSWORD_BYTES:
            raise RefusedFault.of(
                "setting", "the password is not 64 hexadecimal digits", (text,), ("--set password=…",)
            )
        try:
            self._with_retry(Command.UNLOCK, password)
        except ChipRefusal as refusal:
            self._refused = refusal
            raise
        self._open = True

    def move_to_rate(self, part: Part, baud: int) -> None:
        """To the highest rate of its table that is not above it."""
        baud = max((rate for rate in _RATES if rate <= baud), default=min(_RATES))
        self._request(Command.BAUD, bytes([_RATES[baud]]), kind=0)
        self.link.configure(replace(self.link.settings, baud=baud))
        self.link.sleep(0.002)
        self._with_retry(Command.DEVICE_INFO, kind=_INFO, answer=32)

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        """Its device info, asked again and again: questions, of 8 characters, and answers carry a CRC."""
        for _ in range(size // _PROOF_ASK):
            self._request(Command.DEVICE_INFO, kind=_INFO, answer=32)

    # --- proof

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        return _LEAST_SUM

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        self._unlock()
        where = address.to_bytes(4, "little") + len(data).to_bytes(4, "little")
        told = self._with_retry(Command.VERIFY, where, _SUM, len(data) * 4 * _CRC_BYTE_S, 12)
        return told == crc32(data).to_bytes(4, "little")

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        """From a multiple of 8 on."""
        self._unlock()
        start = address & ~7
        wanted = -(-(address + size - start) // 8) * 8
        data = b""
        for place in pieces_of([Span.of(start, wanted)], max(8, min(_READ_BYTES, self._buffer - 16) & ~7)):
            where = place.start.to_bytes(4, "little") + place.size.to_bytes(4, "little")
            found = self._with_retry(Command.READ, where, _MEMORY, 0.0, place.size + 8)
            if len(found) != place.size:
                raise Unexpected(f"{place.size} bytes", found[:40])
            data += found
        return data[address - start :][:size]

    # --- erasing and writing

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Runs of sectors."""
        done = 0
        for run in in_runs(units, _MOST_UNITS):
            self._erase(memory, Span(run[0].address, run[-1].end), len(run))
            done += len(run)
            yield done

    def _erase(self, memory: Memory, place: Span, sectors: int) -> None:
        self._unlock()
        where = place.start.to_bytes(4, "little") + (place.end - 1).to_bytes(4, "little")
        self._with_retry(Command.ERASE_RANGE, where, longest_s=sectors * memory.erase_time(_BLOCK).longest_s)

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        for block in blocks:
            began = False
            for attempt in range(_TRIES):
                try:
                    if began:
                        self._erase(memory, Span.of(block.address, _BLOCK), 1)
                    began = True
                    self._write_once(memory, block)
                    break
                except (Silence, Unexpected) as error:
                    if attempt == _TRIES - 1 or self.fail_fast:
                        raise
                    self.retries += 1
                    self._recover(error.heard)
            yield block

    def _write_once(self, memory: Memory, block: WriteBlock) -> None:
        self._unlock()
        most = max(8, (self._buffer - 16) & ~7)
        for place in Span.of(block.address, len(block.data)).pieces(most):
            data = block.data[place.start - block.address :][: place.size]
            busy_s = 4 * memory.program_s * len(data) / memory.write_unit
            self._request(Command.PROGRAM, place.start.to_bytes(4, "little") + data, longest_s=busy_s)

    def start(self, address: int) -> str:
        self._request(Command.START, kind=0)
        return "00 to start application"

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """Leaves the boot configuration out: written wrong, it locks the chip for good."""
        apart = [piece for piece in image.pieces if _NONMAIN.covers(piece.span)]
        if not apart or len(apart) == len(image.pieces):
            return image, ()
        where = show_span(apart[0].address, apart[-1].end - apart[0].address)
        kept = replace(image, pieces=tuple(piece for piece in image.pieces if piece not in apart))
        return kept, (f"boot configuration {where} left out: it can lock the chip for good",)

    # --- costs
