"""`nuvoton-isp`: the ISP loader in the LDROM of Nuvoton's NuMicro (ISP application notes).

Packets of 64 bytes both ways. Each answer tells the sum of the 64 bytes that the chip received and a number one above
the packet's: so every byte is accounted for, and a late answer is known by its number. What is announced is erased,
and written from its beginning: after any doubt it begins anew. Nothing can be read back.

A packet has no start of its own: a chip that lacks a byte is brought to the start of one by single zeros, until it
answers.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, ClassVar

from ..chips import EraseUnit, Memory, Part
from ..image import Image
from ..link import Deadline, Frame, Link
from ..quantities import show_size
from . import commands
from .cost import Cost, sum_costs
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import drain, refuse_text
from .results import Examination, Identity, WriteBlock
from .spec import Asking, Attempt, Erasing, Reading, Spec, Starting


class Command(commands.Command):
    """ISP application notes, "Commands"."""

    DATA = 0x00, "data"
    UPDATE = 0xA0, "update APROM"
    READ_CONFIG = 0xA2, "read config"
    SYNC = 0xA4, "sync packet number"
    VERSION = 0xA6, "version"
    RUN = 0xAB, "run APROM"
    RESET = 0xAD, "reset"
    CONNECT = 0xAE, "connect"
    DEVICE_ID = 0xB1, "device id"


PACKET_BYTES = 64
_FIRST_BYTES, _DATA_BYTES = 48, 56
_BLOCK = 56
_ERASE_LONGEST_S, _PROGRAM_LONGEST_S = 8.0, 0.2
_QUIET_S, _TRIES = 0.03, 4


def _page(memory: Memory, address: int) -> EraseUnit:
    """The page that an address is in; the last one for the flash's end."""
    return memory.units_touched(min(address, memory.end - 1), 1)[0]


def packet(command: int, number: int, data: bytes = b"") -> bytes:
    return (command.to_bytes(4, "little") + number.to_bytes(4, "little") + data).ljust(PACKET_BYTES, b"\x00")


class NuvotonIsp(Dialect):
    """The conversation with one chip."""

    name: ClassVar[str] = "nuvoton-isp"
    title: ClassVar[str] = "NuMicro ISP loader"
    document: ClassVar[str] = "Nuvoton ISP application notes"
    frame: ClassVar[Frame] = Frame(8, "none", 1)
    decoder: ClassVar[str] = "greenstep.core.trace.decoders.nuvoton_isp:narrate"
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=packet(Command.CONNECT, 1),
            attempts=(Attempt(0.02, 5), Attempt(0.1, 5), Attempt(0.3, 8)),
            wait_s=0.06,
            order=48,
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        reading=Reading.NONE,
        guards_writes=True,
        gives_up=True,
        tells_chip=False,
        start_answers=False,
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._number = 1

    # --- packets

    def _once(self, command: Command, data: bytes = b"", longest_s: float = 0.0) -> bytes:
        """A packet, and what its answer holds behind sum and number. Raises Silence, Unexpected."""
        self.link.discard()
        self._number = self._number + 2 & 0xFFFFFFFF
        sent = packet(command, self._number, data)
        self.link.write(sent)
        wait_s = self.link.settings.seconds(2 * PACKET_BYTES) + self.patience_s + longest_s
        return self._answer(command, sent, wait_s)

    def _answer(self, command: Command, sent: bytes, wait_s: float) -> bytes:
        """Late answers to earlier packets are known by their numbers, and passed over."""
        waiting_for = f"answer to '{command.words}'"
        deadline = Deadline.after(self.link, wait_s)
        number = int.from_bytes(sent[4:8], "little") + 1 & 0xFFFFFFFF
        while True:
            heard = self.link.read(PACKET_BYTES, deadline.left_s)
            if not heard:
                raise Silence(waiting_for, wait_s)
            told = int.from_bytes(heard[4:8], "little")
            if len(heard) == PACKET_BYTES and 0 < told < number:
                continue
            if len(heard) < PACKET_BYTES or (heard[:2], told) != ((sum(sent) & 0xFFFF).to_bytes(2, "little"), number):
                raise Unexpected(waiting_for, heard[:40] + drain(self.link, _QUIET_S)[:40])
            return heard[8:]

    def _recover(self, heard: bytes) -> None:
        """Single zeros until the chip answers to a packet that they have completed; then it must know its number
        again. Raises Silence."""
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for _ in range(_TRIES):
            for _ in range(PACKET_BYTES):
                self.link.write(b"\x00")
                if self.link.read(1, self.link.settings.seconds(2) + _QUIET_S):
                    break
            drain(self.link, self.link.settings.seconds(PACKET_BYTES) + _QUIET_S)
            self._number = 1
            try:
                self._once(Command.SYNC, (1).to_bytes(4, "little"))
                return
            except (Silence, Unexpected):
                drain(self.link, 2 * _QUIET_S)
        raise Silence("answer to 'sync packet number'", self.patience_s)

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """The connection, whose answer has the sum of what was sent."""
        self.link.discard()
        sent = packet(Command.CONNECT, 1)
        self.link.write(sent)
        deadline = Deadline.after(self.link, wait_s + self.link.settings.seconds(2 * PACKET_BYTES))
        heard = b""
        wanted = (sum(sent) & 0xFFFF).to_bytes(2, "little")
        while not deadline.over:
            heard += self.link.read(PACKET_BYTES, deadline.left_s)
            at = heard.find(wanted)
            if at >= 0 and heard[at + 4 : at + 8] == (2).to_bytes(4, "little") and len(heard) >= at + PACKET_BYTES:
                self._number = 1
                drain(self.link, _QUIET_S, 0.2)
                return f"the sum {wanted[::-1].hex().upper()} to connect"
        return None

    def identify(self) -> Identity:
        """Its version, the number of the device, and the configuration words, by which it may be locked."""

        def asked(command: Command, data: bytes = b"") -> bytes:
            return self.exchange(lambda: self._once(command, data), self._recover, _TRIES)

        asked(Command.SYNC, (1).to_bytes(4, "little"))
        version = asked(Command.VERSION)[0]
        device = int.from_bytes(asked(Command.DEVICE_ID)[:4], "little")
        config = asked(Command.READ_CONFIG)[:8]
        words = " ".join(config[at : at + 4][::-1].hex().upper() for at in (0, 4))
        details = (("loader", f"{version:02X}"), ("device id", f"{device:08X}"), ("config", words))
        return Identity(None, f"ISP loader {version:02X}, device {device:08X}", details)

    def examine(self, part: Part) -> Examination:
        return Examination(part, (("flash", show_size(part.flash.size)),))

    # --- memory

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        return _BLOCK

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """Each run of pages from its beginning, and again from there after any doubt: what is announced is erased."""
        waiting = list(blocks)
        while waiting:
            run = [waiting.pop(0)]
            while waiting and _page(memory, waiting[0].address).address <= _page(memory, run[-1].end).address:
                run.append(waiting.pop(0))
            yield from self._write_run(memory, run)

    def _write_run(self, memory: Memory, run: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        start = _page(memory, run[0].address).address
        data = Image("", tuple(run)).cut(start, run[-1].end - start, memory.erased)
        yielded, tries = 0, 0
        while True:
            try:
                for done in self._sent(memory, start, data):
                    while yielded < len(run) and run[yielded].end - start <= done:
                        yielded += 1
                        yield run[yielded - 1]
                return
            except (Silence, Unexpected) as error:
                tries += 1
                if tries == _TRIES:
                    raise
                self.retries += 1
                self._recover(error.heard)

    def _sent(self, memory: Memory, address: int, data: bytes) -> Iterator[int]:
        """How many bytes are acknowledged so far."""
        head = address.to_bytes(4, "little") + len(data).to_bytes(4, "little")
        self._once(Command.UPDATE, head + data[:_FIRST_BYTES], _ERASE_LONGEST_S)
        yield min(len(data), _FIRST_BYTES)
        told = b""
        for at in range(_FIRST_BYTES, len(data), _DATA_BYTES):
            told = self._once(Command.DATA, data[at : at + _DATA_BYTES], _PROGRAM_LONGEST_S)
            if at + _DATA_BYTES < len(data):
                yield at + _DATA_BYTES
        self._check_whole(told, data)
        # a byte that came twice and is like the packet's last one leaves the sum as it is, and the packets shifted:
        # one more, with another end, shows that
        last = data[-1] if (len(data) - _FIRST_BYTES) % _DATA_BYTES == 0 else 0
        end = next(value for value in (0x5A, 0xA5) if value != last)
        self._once(Command.VERSION, bytes(_DATA_BYTES - 1) + bytes([end]))
        yield len(data)

    @staticmethod
    def _check_whole(told: bytes, data: bytes) -> None:
        """The last answer carries a sum of all that was written, in loaders that tell one; others have zeros there.
        Raises ChipRefusal."""
        found = int.from_bytes(told[:2], "little")
        if found and found != sum(data) & 0xFFFF:
            said = f"the sum {found:04X} in place of {sum(data) & 0xFFFF:04X}"
            raise ChipRefusal(Command.UPDATE.words, RefusalKind.BAD_DATA, told[:2], None, said)

    def start(self, address: int) -> str:
        """It runs the program, and does not answer."""
        self._number += 2
        self.link.write(packet(Command.RUN, self._number))
        self.link.sleep(self.link.settings.seconds(PACKET_BYTES + 1))
        return "run APROM sent"

    def finish(self) -> None:
        self.start(0)

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(PACKET_BYTES, PACKET_BYTES, 1, memory.program_s * size / memory.write_unit)

    @classmethod
    def cost_of_writes(cls, part: Part, memory: Memory, blocks: Sequence[WriteBlock]) -> Cost:
        """The pages are erased first."""
        units = memory.units_of(block.span for block in blocks)
        erasing = Cost(busy_s=sum(memory.erase_time(unit.size).typical_s for unit in units))
        return sum_costs(cls.cost_of_write(memory, len(block.data)) for block in blocks) + erasing
