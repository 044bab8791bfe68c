"""`msp430-slau319`: the bootstrap loader in the ROM of MSP430 1xx, 2xx, 4xx and G2 (TI SLAU319).

Before each frame comes one character, 80, answered 90. A frame has its length twice and two checksums, the XOR of its
even and of its odd bytes; it is answered by 90, A0, or a frame.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import reduce
from operator import xor
from typing import ClassVar

from ..chips.part import EraseUnit, Memory
from ..link import Deadline
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import drain, read_exactly, refuse_text
from .msp430 import BAUD, ENTERING, PASSWORD_AT, SETTINGS, Msp430Dialect
from .results import Identity, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, ProtocolCommand, Spec, Starting


class Command(ProtocolCommand):
    """SLAU319, "1xx, 2xx and 4xx BSL", "Bootloader commands"."""

    PASSWORD = 0x10, "password"
    WRITE = 0x12, "write"
    READ = 0x14, "read"
    ERASE = 0x16, "erase"
    MASS_ERASE = 0x18, "mass erase"
    GO = 0x1A, "load PC"
    VERSION = 0x1E, "version"


_HEAD, _ACK, _NAK = 0x80, 0x90, 0xA0
_MAIN, _MASS = 0xA504, 0xA506
"""The length words of 'erase' and 'mass erase', which say what is erased."""
_RESET_VECTOR = 0xFFFE
_BLOCK, _LONGEST = 240, 260
_LEAST_VERSION = 4
_QUIET_S, _TRIES, _QUICK_ASKS = 0.03, 4, 3
_MASS_LONGEST_S, _ERASES_OF_FIRST = 6.0, 12
_LOCKED = (Command.READ, Command.WRITE, Command.ERASE, Command.GO, Command.PASSWORD)


def checks(body: bytes) -> bytes:
    """The inverted XOR of the first, third, … byte, and that of the others."""
    return bytes([reduce(xor, body[0::2]) ^ 0xFF, reduce(xor, body[1::2]) ^ 0xFF])


def framed(command: int, address: int = 0, length: int = 0, data: bytes = b"") -> bytes:
    size = 4 + len(data)
    body = bytes([_HEAD, command, size, size]) + address.to_bytes(2, "little") + length.to_bytes(2, "little") + data
    return body + checks(body)


class Msp430Slau319(Msp430Dialect):
    """The conversation with one chip."""

    name: ClassVar[str] = "msp430-slau319"
    title: ClassVar[str] = "MSP430 bootstrap loader"
    document: ClassVar[str] = "TI SLAU319"
    decoder: ClassVar[str] = "msp430_slau319"
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=bytes([_HEAD]),
            sounds=(rb"\x90?(\xa0\x90|\x90\xa0)+\xa0?",),  # a character of a stranger's for 80, the next for a frame
            attempts=(Attempt(0.02, 2), Attempt(0.1, 2), Attempt(0.3, 4)),
            wait_s=0.15,
            order=32,
            at_baud=BAUD,
            entering=ENTERING,
        ),
        erasing=Erasing.ALL_AT_ONCE,
        starting=Starting.RESET,
        erases_alone=True,
        guards_writes=True,
        gives_up=False,
        settings=SETTINGS,
        costs=Costs(block=_BLOCK, write=CostRow(11, 2, 2), read=CostRow(11, 7, 2)),
    )

    # --- frames

    def _synchronised(self) -> None:
        """80, answered 90. Raises Silence, Unexpected."""
        self.link.discard()
        self.link.write(bytes([_HEAD]))
        heard = self.link.read(1, self.link.settings.seconds(2) + self.patience_s)
        if not heard:
            raise Silence("90 to 80", self.patience_s)
        if heard[0] != _ACK:
            raise Unexpected("90 to 80", heard + drain(self.link, _QUIET_S))

    def _request(
        self, command: Command, address: int = 0, length: int = 0, data: bytes = b"", longest_s: float = 0.0
    ) -> bytes:
        """What a frame is answered with; empty for 90. Raises ChipRefusal, Silence, Unexpected."""
        self._synchronised()
        return self._framed(command, address, length, data, longest_s)

    def _framed(
        self, command: Command, address: int = 0, length: int = 0, data: bytes = b"", longest_s: float = 0.0
    ) -> bytes:
        """The same, once the chip waits for a frame."""
        sent = framed(command, address, length, data)
        self.link.write(sent)
        waiting_for = f"answer to '{command.words}'"
        answer = length if command is Command.READ else 0
        wait_s = self.link.settings.seconds(len(sent) + answer + 8) + self.patience_s + longest_s
        deadline = Deadline.after(self.link, wait_s)
        heard = self.link.read(1, deadline.left_s)
        if not heard:
            raise Silence(waiting_for, self.patience_s)
        if heard[0] == _NAK:
            kind = RefusalKind.LOCKED if command in _LOCKED and not self._open else RefusalKind.BAD_DATA
            raise ChipRefusal(command.words, kind, heard, address or None)
        if heard[0] == _ACK:
            return b""
        if heard[0] != _HEAD:
            raise Unexpected(waiting_for, heard + drain(self.link, _QUIET_S))
        head = read_exactly(self.link, 3, deadline.left_s, waiting_for)
        if head[1] != head[2]:
            raise Unexpected(waiting_for, heard + head + drain(self.link, _QUIET_S)[:40])
        rest_s = self.link.settings.seconds(head[1] + 2) + max(0.1, deadline.left_s)
        rest = read_exactly(self.link, head[1] + 2, rest_s, waiting_for)
        if rest[-2:] != checks(heard + head + rest[:-2]):
            raise Unexpected(waiting_for, heard + head + rest[:40])
        return rest[:-2]

    def _with_retry(
        self, command: Command, address: int = 0, length: int = 0, data: bytes = b"", longest_s: float = 0.0
    ) -> bytes:
        """The same where it may be repeated. A damaged frame is answered like one that is not allowed."""
        refusals = 1 if self._open or command is not Command.PASSWORD else 0
        return self.exchange(
            lambda: self._request(command, address, length, data, longest_s), self._recover, _TRIES, refusals
        )

    _untold = False
    """Whether it refuses to tell its version, as loaders of version 1.10 do."""
    _version = ""

    def _recover(self, heard: bytes) -> None:
        """Complete half a frame with zeros, which begin none; then 80 must be answered 90. Raises Silence,
        Unexpected."""
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for attempt in range(_TRIES):
            if heard or attempt:
                self.link.write(bytes(_LONGEST))
                drain(self.link, self.link.settings.seconds(_LONGEST) + 2 * _QUIET_S, 10.0)
            try:
                self._synchronised()
                if not self._untold:
                    self._once_version()
                return
            except (Silence, Unexpected, ChipRefusal):
                drain(self.link, 2 * _QUIET_S)
                heard = b"?"
                if attempt == _TRIES - 1:
                    raise

    def _once_version(self) -> bytes:
        """Behind another 80, which begins a frame as well: answered by a frame, unlike anything else here."""
        told = self._request(Command.VERSION)
        if len(told) < _LEAST_VERSION:
            raise Unexpected("version", told)
        return told

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """80, and its version, which needs no password. Another 80 would begin a frame: so after silence the answer
        is waited for before there is one."""
        probe_timeout, fresh, self._fresh = self.probe_timeout(wait_s, _QUICK_ASKS), self._fresh, False
        try:
            with self.waiting(probe_timeout):
                late = b"" if fresh else self.link.read(1, self.patience_s)
                if late[:1] != bytes([_ACK]):
                    if probe_timeout is not None and not fresh:
                        return None
                    self._synchronised()
                told = self._framed(Command.VERSION)
        except ChipRefusal:  # twice, as a damaged question is refused too, and one in another frame always
            if self.link.settings.frame != self.frame:
                return None
            self._untold, again = True, self._untold
            self._fresh = True
            return "90 to 80, and A0 to the question for its version" if again else self.ask(wait_s)
        except (Silence, Unexpected):
            drain(self.link, _QUIET_S, wait_s)
            return None
        self._fresh = True
        return "90 to 80, and a version" if len(told) >= _LEAST_VERSION else None

    _fresh = True
    """Whether no 80 waits for its answer."""

    def was_reset(self) -> None:
        self._fresh = True

    def identify(self) -> Identity:
        if self._untold:
            return Identity(None, "a loader that tells no version, as 1.10", (("loader", "not told"),))
        told = self._with_retry(Command.VERSION)
        device = told[:2].hex().upper()
        version = self._version = f"{told[10]:X}.{told[11]:X}" if len(told) > 11 else "not told"
        return Identity(int.from_bytes(told[:2], "big"), f"device {device}", (("loader", version),))

    def _send_password(self, password: bytes) -> None:
        """Each time that a wrong one is sent erases: so only silence is followed by a repetition."""
        self._with_retry(Command.PASSWORD, PASSWORD_AT, len(password), password)

    # --- memory

    @property
    def _refusal_erases(self) -> bool:
        """Loaders of version 1 do not; later ones do, unless the word at FFDE is 0, which cannot be seen."""
        return not (self._untold or self._version.startswith("1."))

    def _mass_erase(self, memory: Memory) -> None:
        """Loaders of version 1 erase for a fraction of the time that their flash needs: several times."""
        for _ in range(1 if self._refusal_erases else _ERASES_OF_FIRST):
            self._with_retry(Command.MASS_ERASE, 0, _MASS, longest_s=_MASS_LONGEST_S)

    def _erase_main(self, memory: Memory) -> None:
        self._with_retry(Command.ERASE, memory.start, _MAIN, longest_s=_MASS_LONGEST_S)

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        """Whole words."""
        self._unlock()
        start = address & ~1
        wanted = -(-(address + size - start) // 2) * 2
        data = b""
        for at in range(0, wanted, _BLOCK):
            each = min(_BLOCK, wanted - at)
            found = self._with_retry(Command.READ, start + at, each)
            if len(found) != each:
                raise Unexpected(f"{each} bytes", found[:40])
            data += found
        return data[address - start :][:size]

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """The same bytes may be written once more."""
        self._unlock()
        for block in blocks:
            busy_s = 4 * memory.program_s * len(block.data) / memory.write_unit
            self._with_retry(Command.WRITE, block.address, len(block.data), block.data, busy_s)
            yield block

    def start(self, address: int) -> str:
        """At the reset vector's word."""
        self._unlock()
        vector = int.from_bytes(self._with_retry(Command.READ, _RESET_VECTOR, 2), "little")
        self._with_retry(Command.GO, vector)
        return "90 to load PC"

    # --- costs

    @classmethod
    def cost_of_erase(cls, memory: Memory, units: Sequence[EraseUnit]) -> Cost:
        return Cost(11 + 43, 4, 4, memory.mass_erase_time.typical_s)
