"""`pic-an851`: the serial bootloader of Microchip AN851 at the bottom of a PIC18's flash.

Frames are STX STX … checksum ETX, with DLE before bytes that would be mistaken for one of these. The last byte of the
EEPROM decides whether the next reset stays in the bootloader: it is set to do so before anything is erased, so that
an upload that breaks off leaves a bootloader that answers, and cleared when the image is proven.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..families.pic18 import code_only, in_words
from ..image import Image
from ..link import Deadline, Link
from ..quantities import show_size
from .dialect import Dialect
from .errors import Silence, Unexpected
from .framing import Framing, Opened
from .line import drain, read_until, refuse_text, say_last
from .pic_frames import ETX, STX, read_frame, stuffed, unstuffed
from .probe import EVERY_S
from .results import Examination, Identity, OneFitted, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, ProtocolCommand, Spec, Starting
from .ways import in_runs


class Command(ProtocolCommand):
    """AN851, "Communication protocol" and table "Bootloader commands"."""

    READ_VERSION = 0, "read version"
    READ_FLASH = 1, "read flash", "size:1 address:3 data"
    WRITE_FLASH = 2, "write flash", "-:1 address:3 data"
    ERASE_FLASH = 3, "erase flash", "rows:1 at:3"
    READ_EEPROM = 4, "read EEPROM", "size:1 at:3"
    WRITE_EEPROM = 5, "write EEPROM", "-:1 address:3 data"
    READ_CONFIG = 6, "read configuration", "size:1 at:3"
    WRITE_CONFIG = 7, "write configuration", "size:1 at:3"


_STAY, _RUN = 0xFF, 0x00
_ERASE_ROW = 64
_READ_BYTES, _MOST_ROWS = 240, 128

_QUIET_S, _TRIES = 0.04, 4


def framed(data: bytes) -> bytes:
    """A request as sent on the line: the check is the two's complement of the sum of the data."""
    return bytes([STX, STX]) + stuffed(data + bytes([-sum(data) & 0xFF])) + bytes([ETX])


def _opened(sent: bytes) -> Opened:
    data = unstuffed(sent)[:-1]
    return (data[0], data[1:]) if len(data) > 1 and data[1] else None


def _reset(sent: bytes, heard: bytes) -> tuple[str, str] | None:
    """A length of 0 (AN851, "Command: reset")."""
    data = unstuffed(sent)[:-1]
    return ("reset", "") if len(data) > 1 and Command.known(data[0]) else None


class PicAn851(Dialect):
    """The conversation with one chip."""

    name: ClassVar[str] = "pic-an851"
    title: ClassVar[str] = "PIC18 bootloader (AN851)"
    document: ClassVar[str] = "Microchip AN851"
    decoder: ClassVar[Framing] = Framing(Command, _opened, digits=5, other=_reset)
    answer_s: ClassVar[float] = 0.4
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=framed(bytes([Command.READ_VERSION, 2])),
            sounds=(rb"(?:\x0f\x0f\x00.{2,8}\x04)+",),
            attempts=(Attempt(0.05, 4), Attempt(0.2, 4), Attempt(0.6, 6)),
            wait_s=0.25,
            order=30,
            usb_vendor_id="04D8",
            measures_rate=True,
        ),
        erasing=Erasing.BY_UNIT,
        starting=Starting.COMMAND,
        erases_alone=True,
        guards_writes=True,
        gives_up=True,
        tells_chip=False,
        start_answers=False,
        called_by="once a program runs, only it may lead to this loader: it writes FF to the last byte of the EEPROM "
        "and resets (AN851)",
        costs=Costs(erase=CostRow(9, 5, units=_MOST_ROWS)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._stays = False
        self._version = ""
        self._asked = 0
        """How many answers to the version question may come instead of the expected reply."""

    # --- frames

    def _reply(self, command: int, timeout_s: float) -> bytes:
        """The data of the reply, its checksum and command checked. Raises Silence, Unexpected."""
        waiting_for = f"reply to '{Command.of(command).words if Command.known(command) else 'reset'}'"
        deadline = Deadline.after(self.link, timeout_s)
        data = self._frame_in_time(command, deadline, waiting_for)
        while command != Command.READ_VERSION and data[:1] == bytes(
            [Command.READ_VERSION]
        ):  # the late answer to an earlier question
            if self._asked:
                self._asked -= 1
                raise Silence(waiting_for, timeout_s)
            data = read_frame(self.link, deadline.left_s, waiting_for, 700)
        if len(data) < 2 or sum(data) & 0xFF or data[0] != command:
            raise Unexpected(waiting_for, data)
        return data[:-1]

    def _frame_in_time(self, command: int, deadline: Deadline, waiting_for: str) -> bytes:
        """The next frame. If it does not begin soon, the loader is asked for its version so that it does not time
        out; if it answers that first, the other answer is lost."""
        soon_s = deadline.left_s - (self.patience_s - EVERY_S)
        if command == Command.READ_VERSION or soon_s <= 0:
            return read_frame(self.link, deadline.left_s, waiting_for, 700)
        first = self.link.read(1, soon_s)
        if not first:
            self.link.write(bytes([ETX]) + self.spec.asking.sent)
            self._asked += 1
            first = self.link.read(1, deadline.left_s)
        if not first:
            raise Silence(waiting_for, self.patience_s)
        return read_frame(self.link, deadline.left_s, waiting_for, 700, first == bytes([STX]))

    def _exchange(self, data: bytes, longest_s: float = 0.0) -> bytes:
        self.link.discard()
        self._asked = 0
        sent = framed(data)
        self.link.write(sent)
        return self._reply(
            data[0], self.link.settings.seconds(2 * len(sent) + 2 * _READ_BYTES) + self.patience_s + longest_s
        )

    def _repeat(self, data: bytes, longest_s: float = 0.0) -> bytes:
        """An exchange that may be retried; a damaged request is met with silence."""
        return self.exchange(lambda: self._exchange(data, longest_s), self._recover, _TRIES)

    def _recover(self, heard: bytes) -> None:
        """Complete a half request."""
        refuse_text("reply", heard + drain(self.link, 2 * _QUIET_S))
        self.link.write(bytes([ETX]))
        drain(self.link, 2 * _QUIET_S)

    @staticmethod
    def _head(command: int, length: int, address: int) -> bytes:
        return bytes([command, length]) + address.to_bytes(3, "little")

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Ask for the version, which changes nothing."""
        self.link.discard()
        deadline = Deadline.after(self.link, wait_s)
        self.link.write(self.spec.asking.sent)
        try:
            data = self._reply(Command.READ_VERSION, wait_s)
        except (Silence, Unexpected):
            read_until(self.link, deadline)
            return None
        if len(data) < 4:  # our own request, echoed
            read_until(self.link, deadline)
            return None
        self._version = f"{data[-1]}.{data[-2]}"
        return f"0F 0F 00 … version {self._version}"

    def identify(self) -> Identity:
        """The loader reports its version but not its chip."""
        return Identity(None, f"AN851 loader {self._version}", (("loader", self._version),))

    def examine(self, part: Part) -> Examination:
        self.examined_part = part
        return Examination(part, (("flash", show_size(part.flash.size)),))

    # --- memory

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        """What surely fits its buffer."""
        return 64 if memory.is_flash else 32

    @classmethod
    def read_block(cls, memory: Memory) -> int:
        return _READ_BYTES if memory.is_flash else 32

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        busy_s = memory.program_s * -(-size // memory.write_unit)
        return Cost(9 + size + 3 * size // 256, 5, 1, busy_s)

    @classmethod
    def cost_of_read(cls, memory: Memory, size: int) -> Cost:
        return Cost(9, 9 + size + 3 * size // 256, 1)

    def _set_stay(self, value: int) -> None:
        """The last byte of the EEPROM."""
        place = self.part.memory("eeprom").size - 1
        self._repeat(self._head(Command.WRITE_EEPROM, 1, place) + bytes([value]), 0.05)
        if self._repeat(self._head(Command.READ_EEPROM, 1, place))[-1] != value:
            raise Unexpected(f"{value:02X} in the last byte of the EEPROM", b"")
        self._stays = value == _STAY

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Rows of 64 bytes; before the first, the loader is told to stay active after a reset."""
        if not self._stays:
            self._set_stay(_STAY)
        done = 0
        for run in in_runs(units, _MOST_ROWS // (memory.layout[0][1] // _ERASE_ROW)):
            rows = sum(unit.size for unit in run) // _ERASE_ROW
            longest_s = len(run) * memory.erase_time(run[0].size).longest_s
            self._repeat(self._head(Command.ERASE_FLASH, rows, run[0].address), longest_s)
            done += len(run)
            yield done

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        unit = memory.write_unit
        for block in blocks:
            busy_s = 4 * self.cost_of_write(memory, len(block.data)).busy_s
            if not memory.is_flash:
                self._repeat(self._head(Command.WRITE_EEPROM, len(block.data), block.address) + block.data, busy_s)
            else:
                start = block.address // unit * unit
                data = (b"\xff" * (block.address - start) + block.data).ljust(
                    -(-(block.address - start + len(block.data)) // unit) * unit, b"\xff"
                )
                self._repeat(self._head(Command.WRITE_FLASH, len(data) // unit, start) + data, busy_s)
            yield block

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        command = Command.READ_FLASH if memory.is_flash else Command.READ_EEPROM
        data = self._repeat(self._head(command, size, address))
        if len(data) < 2 + size:
            raise Unexpected(f"{size} bytes", data)
        return data[-size:]

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """Code only; addresses are reported in words too."""
        image, notes = code_only(image, part.flash.end, int(part.extra.get("config_bytes", 0)))
        if image.pieces:
            notes = (in_words(image), *notes)
        return image, notes

    # --- starting

    def start(self, address: int) -> str:
        """The byte that says 'run', then a request of length 0, which resets."""
        self._set_stay(_RUN)
        self.finish()
        return "set to run at the next reset, and reset"

    def finish(self) -> None:
        say_last(self.link, framed(bytes([Command.READ_VERSION, 0])))
