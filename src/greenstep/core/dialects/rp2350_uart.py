"""`rp2350-uart`: the UART boot in the ROM of the RP2350 (data sheet, "UART boot").

Single letters, each answered by itself; 32 bytes are written or read at a time, one after the other from the start of
the RAM. Nothing is guarded: all is read back before it is run. After any doubt it begins again from the start.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, ClassVar

from ..chips.part import Memory, Part
from ..errors import RefusedFault
from ..image import Image
from ..link import Deadline, Link
from .dialect import Dialect
from .errors import Silence, Unexpected
from .line import drain, read_exactly, read_until
from .ram import LOST, filled_from
from .results import Examination, Identity, OneFitted, WriteBlock
from .spec import Asking, Attempt, Cost, Costs, Erasing, ProtocolCommand, Spec, Starting


class Command(ProtocolCommand):
    """Data sheet, "UART boot programming flow"."""

    NOTHING = ord("n"), "no operation"
    CLEAR = ord("c"), "back to the start"
    WRITE = ord("w"), "write"
    READ = ord("r"), "read"
    VERSION = ord("v"), "version"
    RUN = ord("x"), "run"


KNOCK = bytes.fromhex("56 FF 8B E4")
BAUD = 1_000_000
_EACH, _AT_ONCE, _WAITING = 32, 64, 30
"""Bytes of a write or read; writes that are answered together; letters that its UART keeps (32, less two)."""
_QUIET_S, _TRIES = 0.03, 4
_BEGINS, _ENDS = (0xFFFFDED3).to_bytes(4, "little"), (0xAB123579).to_bytes(4, "little")
"""Data sheet, "Blocks and block loops": how an image definition begins and ends, within the first 4 KiB."""
_SEARCHED, _LONGEST_DEFINITION = 4096, 640


class Rp2350Uart(Dialect):
    """The conversation with one chip."""

    name: ClassVar[str] = "rp2350-uart"
    title: ClassVar[str] = "RP2350 UART boot"
    document: ClassVar[str] = "RP2350 data sheet, UART boot"
    decoder: ClassVar[str] = "rp2350_uart"
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=KNOCK + b"n",
            attempts=(Attempt(0.05, 2), Attempt(0.2, 2), Attempt(0.6, 2)),
            wait_s=0.1,
            order=41,
            at_baud=BAUD,
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        guards_writes=False,
        gives_up=False,
        tells_chip=False,
        into_ram=True,
        costs=Costs(block=_EACH * _AT_ONCE),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._held = bytearray()
        """What was written from the start of the RAM on."""
        self._next: int | None = None
        """Where the next read of 32 bytes begins, counted from the start of the RAM; None if that is not known."""

    # --- letters

    def _letter(self, command: Command) -> None:
        """One that is answered by itself. Raises Silence, Unexpected."""
        self.link.discard()
        self.link.write(bytes([command]))
        heard = self.link.read(1, self.patience_s)
        if not heard:
            raise Silence(f"answer to '{command.words}'", self.patience_s)
        if heard[0] != command:
            raise Unexpected(f"answer to '{command.words}'", heard + drain(self.link, _QUIET_S))

    def _recover(self, heard: bytes) -> None:
        """Complete half a write; then it must do nothing on request, and go back to the start."""
        self._next = None
        drain(self.link, 2 * _QUIET_S)
        for attempt in range(_TRIES):
            self.link.write(bytes([Command.NOTHING]) * (_EACH + 1))
            read_until(self.link, Deadline.after(self.link, self.patience_s))
            try:
                self._letter(Command.NOTHING)
                return
            except (Silence, Unexpected):
                if attempt == _TRIES - 1:
                    raise

    def _back(self) -> None:
        self._next = None
        self._letter(Command.CLEAR)
        self._next = 0

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """The knock, which is not answered, and twice nothing to do, which is."""
        wait_s = self.probe_timeout(wait_s) or self.patience_s  # some answer late
        self.link.discard()
        self.link.write(KNOCK)
        for _ in range(2):
            self.link.write(bytes([Command.NOTHING]))
            if self.link.read(1, wait_s) != bytes([Command.NOTHING]) or drain(self.link, _QUIET_S, 0.2):
                drain(self.link, _QUIET_S, wait_s)
                return None
        return '"n" to n, twice'

    def identify(self) -> Identity:
        """How its version is told is not known for sure: what comes is shown."""
        self.link.discard()
        self.link.write(bytes([Command.VERSION]))
        told = self.link.read(1, self.patience_s) + drain(self.link, _QUIET_S, 0.5)
        version = told.removesuffix(bytes([Command.VERSION])).hex(" ").upper()
        return Identity(None, "UART boot", (("version", version or "not told"),))

    def examine(self, part: Part) -> Examination:
        return Examination(part)

    # --- memory

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        """From the start of the RAM, or from where the last one ended."""
        first = (address - memory.start) // _EACH * _EACH
        last = -(-(address + size - memory.start) // _EACH) * _EACH

        def once() -> bytes:
            if self._next is None or self._next > first:
                self._back()
            assert self._next is not None
            begin, self._next = self._next, None
            found = self._stream((last - begin) // _EACH)
            self._next = last
            return found[first - begin :]

        found = self.exchange(once, self._recover, _TRIES)
        at = address - memory.start - first
        return found[at : at + size]

    def _stream(self, number: int) -> bytes:
        """So many reads, of which as many are asked for ahead as the chip's UART keeps."""
        found, asked = b"", 0
        for done in range(number):
            ahead = min(number, done + _WAITING) - asked
            if ahead >= _WAITING // 2 or asked == done:
                self.link.write(bytes([Command.READ]) * ahead)
                asked += ahead
            wait_s = self.patience_s + self.link.settings.seconds(_EACH + 1)
            heard = read_exactly(self.link, _EACH + 1, wait_s, "answer to 'read'")
            if heard[-1] != Command.READ:
                raise Unexpected("answer to 'read'", heard)
            found += heard[:-1]
        return found

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """All from the start of the RAM to the end of the last block: it knows no addresses."""
        end = blocks[-1].end - memory.start
        self._held.extend(bytes(max(0, end - len(self._held))))
        for block in blocks:
            at = block.address - memory.start
            self._held[at : at + len(block.data)] = block.data
        waiting = list(blocks)
        for attempt in range(_TRIES):
            try:
                self._back()
                self._next = None
                for at in range(0, end, _EACH * _AT_ONCE):
                    self._write_some(bytes(self._held[at : min(end, at + _EACH * _AT_ONCE)]))
                    while waiting and waiting[0].end - memory.start <= at + _EACH * _AT_ONCE:
                        yield waiting.pop(0)
                return
            except (Silence, Unexpected) as error:
                if attempt == _TRIES - 1:
                    raise
                self.retries += 1
                self._recover(error.heard)

    def _write_some(self, data: bytes) -> None:
        """Blocks in a row; each is answered. Raises Silence, Unexpected."""
        pieces = [data[at : at + _EACH] for at in range(0, len(data), _EACH)]
        sent = b"".join(bytes([Command.WRITE]) + piece for piece in pieces)
        self.link.discard()
        self.link.write(sent)
        wait_s = self.link.settings.seconds(len(sent)) + self.patience_s
        heard = read_exactly(self.link, len(pieces), wait_s, "answer to 'write'")
        if heard.strip(bytes([Command.WRITE])):
            raise Unexpected("answer to 'write'", heard)

    def start(self, address: int) -> str:
        """Its own letter is the answer. Without it: whether it still does nothing on request, or has begun to run."""
        for _ in range(_TRIES):
            try:
                self._letter(Command.RUN)
                return '"x" to run'
            except (Silence, Unexpected):  # a program that runs talks at a rate of its own
                self.link.write(bytes([Command.NOTHING]))
                if self.link.read(1, self.patience_s) != bytes([Command.NOTHING]):
                    return ""
        raise Silence("answer to 'run'", self.patience_s)

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """From the start of the RAM, with an image definition. Raises RefusedFault."""
        image, notes = filled_from(image, part.flash, _EACH)
        head = image.cut(part.flash.start, _SEARCHED, 0)
        at = head.find(_BEGINS)
        if "vectors" not in even_if and (at < 0 or head.find(_ENDS, at, at + _LONGEST_DEFINITION) < 0):
            raise RefusedFault.of(
                "vectors",
                f"{image.name} has no image definition in its first 4 KiB: the chip would not run it",
                ("a block that begins with D3 DE FF FF and ends with 79 35 12 AB",),
                ("build it to run from RAM", "--even-if vectors loads it all the same"),
            )
        return image, (*notes, LOST)

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(size + size // _EACH, 1, 1)

    @classmethod
    def cost_of_read(cls, memory: Memory, size: int) -> Cost:
        number = -(-size // _EACH)
        return Cost(1, number * (_EACH + 1), -(-number // (_WAITING // 2)))
