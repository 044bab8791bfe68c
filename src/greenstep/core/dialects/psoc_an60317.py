"""`psoc-an60317`: the bootloader component of PSoC (Cypress AN60317).

Packets with a length and 16 bits of sum or CRC, as the loader was built; each is answered by a status. A row is sent
in parts that fit its buffer, written, and its sum asked for; in the end the loader says whether the application's
checksum is right. A row's sum has eight bits and may be told in one of four ways, which is found out row by row: so
it is evidence for what was just written, and nothing is left out because of it.
"""

from __future__ import annotations

from binascii import crc_hqx
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, ClassVar

from ..chips.part import Memory, Part
from ..errors import RefusedFault
from ..image import Image
from ..image.psoc_rows import FORMAT, ROWS_OF_AN_ARRAY
from ..link import Deadline, Link
from ..quantities import show_bytes
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .framing import Framing, Opened
from .line import drain, read_exactly, refuse_text
from .results import Identity, OneFitted, WriteBlock
from .spec import Asking, Attempt, Cost, Erasing, ProtocolCommand, Reading, Setting, Spec, Starting


class Command(ProtocolCommand):
    """AN60317, "Bootloader commands"."""

    VERIFY_CHECKSUM = 0x31, "verify application"
    FLASH_SIZE = 0x32, "get flash size"
    SYNC = 0x35, "sync"
    SEND_DATA = 0x37, "send data", "bytes"
    ENTER = 0x38, "enter"
    PROGRAM_ROW = 0x39, "program row", "array:1 row:2"
    VERIFY_ROW = 0x3A, "verify row", "array:1 row:2"
    EXIT = 0x3B, "exit"


STATUSES = {
    0x00: "ok",
    0x03: "length",
    0x04: "data",
    0x05: "unknown command",
    0x06: "device",
    0x07: "version",
    0x08: "checksum",
    0x09: "array",
    0x0A: "row",
    0x0F: "unknown",
}
_KINDS = {0x05: RefusalKind.UNSUPPORTED, 0x09: RefusalKind.BAD_ADDRESS, 0x0A: RefusalKind.BAD_ADDRESS}
_BEGIN, _END, _AROUND = 0x01, 0x17, 7
_PROGRAM_HEAD = 3
_LEAST_PACKET, _MOST_DATA = 32, 600
_ROW_LONGEST_S, _SUM_LONGEST_S = 0.1, 1.0
_QUIET_S, _TRIES = 0.03, 4


def sum_of(data: bytes) -> int:
    """The two's complement of the sum of all bytes, in 16 bits."""
    return -sum(data) & 0xFFFF


def crc_of(data: bytes) -> int:
    """CRC-16-CCITT, reflected, from FFFF, inverted, its bytes swapped."""
    reflected = crc_hqx(bytes(int(f"{byte:08b}"[::-1], 2) for byte in data), 0xFFFF)
    inverted = int(f"{reflected:016b}"[::-1], 2) ^ 0xFFFF
    return (inverted & 0xFF) << 8 | inverted >> 8


def packet(command: int, data: bytes = b"", with_crc: bool = False) -> bytes:
    body = bytes([_BEGIN, command]) + len(data).to_bytes(2, "little") + data
    return body + (crc_of if with_crc else sum_of)(body).to_bytes(2, "little") + bytes([_END])


def row_sums(array: int, row: int, data: bytes) -> tuple[int, ...]:
    """The ways in which loaders may tell the sum of a row: of its bytes, or of the file's row, each as it is or as
    its two's complement."""
    own = sum(data)
    whole = own + array + (row & 0xFF) + (row >> 8) + (len(data) & 0xFF) + (len(data) >> 8)
    return -own & 0xFF, own & 0xFF, -whole & 0xFF, whole & 0xFF


def _opened(sent: bytes) -> Opened:
    frame = sent.lstrip(b"\x00")
    return (frame[1], frame[4:-3]) if len(frame) >= 7 and frame[0] == 0x01 else None


def _answered(command: Command, sent: bytes, heard: bytes) -> str:
    """The status of an answer, for a recording."""
    if command in (Command.SYNC, Command.EXIT):
        return ""
    status = heard[1] if len(heard) > 1 and heard[0] == 0x01 else -1
    return "" if status == 0 else STATUSES.get(status, show_bytes(heard, 8))


class PsocAn60317(Dialect):
    """The conversation with one chip."""

    name: ClassVar[str] = "psoc-an60317"
    title: ClassVar[str] = "PSoC bootloader"
    document: ClassVar[str] = "Cypress AN60317"
    decoder: ClassVar[Framing] = Framing(Command, _opened, answered=_answered, silent=(Command.SYNC, Command.EXIT))
    proof: ClassVar[str] = "the sum of each row that was written, and the loader's word on the checksum of all"
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=packet(Command.ENTER),
            attempts=(Attempt(0.05, 2), Attempt(0.2, 2), Attempt(0.6, 2)),
            wait_s=0.15,
            order=39,
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        reading=Reading.NONE,
        guards_writes=True,
        gives_up=True,
        tells_chip=False,
        start_answers=False,
        settings=(Setting("packet", "number", 64, "the largest packet that its loader takes, in bytes"),),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._with_crc = False
        self._silicon = b""
        self._forms: set[int] = set()

    # --- packets

    def _answer(self, command: Command, deadline: Deadline) -> bytes:
        """The data behind status 0. Raises ChipRefusal, Silence, Unexpected."""
        waiting_for = f"answer to '{command.words}'"
        head = self.link.read(4, deadline.left_s)
        if not head:
            raise Silence(waiting_for, self.patience_s)
        size = int.from_bytes(head[2:4], "little")
        if len(head) < 4 or head[0] != _BEGIN or size > _MOST_DATA:
            raise Unexpected(waiting_for, head + drain(self.link, _QUIET_S))
        rest_s = self.link.settings.seconds(size + 3) + max(0.1, deadline.left_s)
        rest = read_exactly(self.link, size + 3, rest_s, waiting_for)
        check = (crc_of if self._with_crc else sum_of)(head + rest[:-3]).to_bytes(2, "little")
        if rest[-3:] != check + bytes([_END]):
            raise Unexpected(waiting_for, head + rest[:40])
        if head[1]:
            said = f"{head[1]:02X}, {STATUSES.get(head[1], 'not known')},"
            raise ChipRefusal(command.words, _KINDS.get(head[1], RefusalKind.BAD_DATA), head[1:2], None, said)
        return rest[:-3]

    def _request(self, command: Command, data: bytes = b"", answer: int = 0, longest_s: float = 0.0) -> bytes:
        """A packet, and the data of its answer, which must be `answer` bytes."""
        self.link.discard()
        sent = packet(command, data, self._with_crc)
        self.link.write(sent)
        wait_s = self.link.settings.seconds(len(sent) + answer + _AROUND) + self.patience_s + longest_s
        found = self._answer(command, Deadline.after(self.link, wait_s))
        if len(found) != answer:
            raise Unexpected(f"answer to '{command.words}'", found[:40])
        return found

    def _with_retry(self, command: Command, data: bytes = b"", answer: int = 0, longest_s: float = 0.0) -> bytes:
        """The same where it may be repeated."""
        return self.exchange(
            lambda: self._request(command, data, answer, longest_s), self._recover, _TRIES, refusals=_TRIES
        )

    def _recover(self, heard: bytes) -> None:
        """Complete half a packet; then it forgets what it was sent, and tells its silicon id once more."""
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for attempt in range(_TRIES):
            if attempt or heard:
                self.link.write(bytes(_MOST_DATA // 2))
                drain(self.link, self.link.settings.seconds(_MOST_DATA // 2) + 2 * _QUIET_S, 10.0)
            self.link.write(packet(Command.SYNC, b"", self._with_crc))
            self.link.sleep(self.link.settings.seconds(_AROUND) + _QUIET_S)
            try:
                if self._request(Command.ENTER, answer=8) == self._silicon:
                    return
            except (Silence, Unexpected, ChipRefusal):
                if attempt == _TRIES - 1:
                    raise
        raise Unexpected("its silicon id", b"")

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Its silicon id, by a packet with a sum, and by one with a CRC."""
        try:
            with self.waiting(self.probe_timeout(wait_s)):
                self._silicon = self._request(Command.ENTER, answer=8)
        except (Silence, Unexpected, ChipRefusal):
            drain(self.link, _QUIET_S, wait_s)
            self._with_crc = not self._with_crc
            return None
        return f"silicon id {self._silicon[3::-1].hex().upper()}"

    def identify(self) -> Identity:
        silicon = self._silicon[3::-1].hex().upper()
        version = ".".join(str(part) for part in self._silicon[5:8])
        details = (
            ("silicon id", silicon),
            ("revision", f"{self._silicon[4]:02X}"),
            ("loader", version),
            ("packets with", "a CRC" if self._with_crc else "a sum"),
        )
        return Identity(None, f"silicon id {silicon}", details)

    def look_before(self, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> tuple[str, ...]:
        """Whether the file is for this silicon, and no row of it is the loader's own."""
        image = images.get("flash")
        if image is None:
            return ()
        silicon, revision = self._silicon[3::-1].hex().upper(), f"{self._silicon[4]:02X}"
        wanted = image.header.upper().split()
        if wanted[:1] != [silicon]:
            raise RefusedFault.of(
                "other-chip",
                f"{image.name} is for silicon id {wanted[0] if wanted else 'unknown'}, the chip has {silicon}",
                (),
                ("take the file that was built for this chip",),
            )
        arrays = {_place(part.flash, place)[0] for piece in image.pieces for place in (piece.address, piece.end - 1)}
        for array in range(min(arrays), max(arrays) + 1):
            told = self._with_retry(Command.FLASH_SIZE, bytes([array]), 4)
            first, last = int.from_bytes(told[:2], "little"), int.from_bytes(told[2:], "little")
            self._refuse_outside(part.flash, image, array, first, last)
        return () if wanted[1:2] == [revision] else (f"the file is for revision {wanted[1]}, the chip is {revision}",)

    @staticmethod
    def _refuse_outside(memory: Memory, image: Image, array: int, first: int, last: int) -> None:
        pitch = memory.layout[0][1]
        begin = array * ROWS_OF_AN_ARRAY[pitch]
        for row in (*range(first), *range(last + 1, ROWS_OF_AN_ARRAY[pitch])):
            if image.touches((begin + row) * pitch, pitch):
                raise RefusedFault.of(
                    "hits-bootloader",
                    f"row {row} of array {array} is in {image.name}, and is not an application's",
                    (f"the loader lets rows {first} to {last} be written",),
                    ("build it for the bootloader that is in the chip",),
                )

    # --- rows

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        return memory.layout[0][1]

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        self._forms = set(range(len(row_sums(0, 0, b""))))
        for block in blocks:
            self._write_row(memory, block)
            yield block
        if self._with_retry(Command.VERIFY_CHECKSUM, answer=1, longest_s=_SUM_LONGEST_S) != b"\x01":
            said = "the checksum of the application is not right: 00"
            raise ChipRefusal(Command.VERIFY_CHECKSUM.words, RefusalKind.BAD_DATA, b"\x00", None, said)

    def _write_row(self, memory: Memory, block: WriteBlock) -> None:
        """A row until its sum is right. Raises DialectError."""
        array, row = _place(memory, block.address)
        where = bytes([array]) + row.to_bytes(2, "little")
        sums = row_sums(array, row, block.data)
        for _ in range(_TRIES):
            self.exchange(lambda: self._send_row(where, block.data), self._recover, _TRIES, refusals=_TRIES)
            told = self._with_retry(Command.VERIFY_ROW, where, 1)[0]
            fitting = {form for form in self._forms if sums[form] == told}
            if fitting:
                self._forms = fitting
                return
            self.retries += 1
        said = f"the row's sum is {told:02X}, not {sums[min(self._forms)]:02X}"
        raise ChipRefusal(Command.VERIFY_ROW.words, RefusalKind.BAD_DATA, bytes([told]), block.address, said)

    def _send_row(self, where: bytes, data: bytes) -> None:
        """All of it anew: the loader keeps what it was sent until the row is programmed."""
        most = max(_LEAST_PACKET, int(self.setting("packet"))) - _AROUND
        last = len(data) - min(len(data), most - _PROGRAM_HEAD)
        for at in range(0, last, most):
            self._request(Command.SEND_DATA, data[at : min(last, at + most)])
        self._request(Command.PROGRAM_ROW, where + data[last:], longest_s=_ROW_LONGEST_S)

    def start(self, address: int) -> str:
        """It resets the chip, and does not answer."""
        self.link.write(packet(Command.EXIT, b"", self._with_crc))
        self.link.sleep(self.link.settings.seconds(_AROUND + 1))
        return "exit sent"

    def finish(self) -> None:
        self.start(0)

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """Only files of rows: they have what the loader looks for in the last row, and which chip they are for."""
        if image.format != FORMAT:
            raise RefusedFault.of(
                "not-signed",
                f"{image.name} is {image.format}, and this bootloader's files are rows (.cyacd)",
                (),
                ("upload the .cyacd file that your build makes for the bootloader",),
            )
        pitch = part.flash.layout[0][1]
        if any(piece.address % pitch for piece in image.pieces):
            raise RefusedFault.of(
                "other-chip",
                f"the rows of {image.name} are not those of the {part.title}",
                (f"the {part.title} has rows of {pitch} bytes",),
                ("is --chip right?",),
            )
        return image, ()

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        packets = 2 + -(-max(0, size - 54) // 57)
        return Cost(size + packets * _AROUND + 6, packets * _AROUND + 1, packets, 0.02)


def _place(memory: Memory, address: int) -> tuple[int, int]:
    """Array and row of an address."""
    pitch = memory.layout[0][1]
    return divmod(address // pitch, ROWS_OF_AN_ARRAY[pitch])
