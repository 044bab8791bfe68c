"""The packets of the serial loaders in the ROMs of TI's chips: SWRA466, SWRU333, and the data sheets of Tiva C.

A packet is its size, a sum of its data, and the data; the size counts all three. Who receives it answers 00 CC, or
00 33 if the sum is wrong. Zeros before a packet or an answer mean nothing. The loader measures the rate from 55 55.

The sum has 8 bits and cannot see a zero that is lost where another follows, or one that comes twice where the packet
ends in one: what such a packet would do elsewhere is kept from happening by the numbers that are sent (`ends_apart`).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, ClassVar

from ..clock.uarts import Divided, Mode, UartRules
from ..link import Deadline, Link
from ..quantities import show_bytes
from .dialect import Answer, Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .framing import Framing, Opened
from .line import drain, refuse_text
from .spec import Asking, Attempt, ProtocolCommand

SYNC = b"\x55\x55"
ACK, NAK = 0xCC, 0x33
DATA_BYTES = 252
"""The most that one packet of data takes: 255 with its size, sum and command."""
_QUIET_S, _IDLE_ZEROS = 0.03, 255


class Command(ProtocolCommand):
    """SWRA466, "Commands"; SWRU333, "Bootloader commands"; the subset of Tiva's ROM has the same numbers."""

    PING = 0x20, "ping"
    DOWNLOAD = 0x21, "download", "address:4 size:4"
    RUN = 0x22, "run"
    STATUS = 0x23, "get status"
    SEND_DATA = 0x24, "send data", "data"
    RESET = 0x25, "reset"
    ERASE = 0x26, "erase", "at:4 size:4"
    CRC32 = 0x27, "CRC-32", "at:4 size:4"
    CHIP_ID = 0x28, "get chip id"
    USE_CRYSTAL = 0x29, "use crystal"
    READ = 0x2A, "memory read", "at:4"
    WRITE = 0x2B, "memory write"
    BANK_ERASE = 0x2C, "bank erase"
    SET_FIELD = 0x2D, "set CCFG field"
    DOWNLOAD_CRC = 0x2F, "download with CRC"


STATUSES = {
    0x40: "success",
    0x41: "unknown command",
    0x42: "invalid command",
    0x43: "invalid address",
    0x44: "flash failed",
}
SUCCESS = 0x40
_KINDS = {
    0x41: RefusalKind.UNSUPPORTED,
    0x42: RefusalKind.BAD_DATA,
    0x43: RefusalKind.BAD_ADDRESS,
    0x44: RefusalKind.BAD_DATA,
}


def packet(data: bytes) -> bytes:
    """A packet as sent: at most 253 bytes of data."""
    return bytes([len(data) + 2, sum(data) & 0xFF]) + data


def big(*numbers: int) -> bytes:
    """Numbers of 32 bits, high byte first, as in all packets."""
    return b"".join(number.to_bytes(4, "big") for number in numbers)


def ends_apart(data: bytes) -> bool:
    """Whether the last byte of a packet's data is like none of the others: then no byte of it can come twice without
    pushing out one that the sum misses."""
    return data[-1] not in data[:-1] and data[-1] != 0


def asking(order: int) -> Asking:
    """How all of them are asked. `order` is that of a search."""
    return Asking(
        sent=SYNC,
        answers=(b"\x00\xcc",),
        attempts=(Attempt(0.05, 2), Attempt(0.2, 2), Attempt(0.6, 2)),
        wait_s=0.15,
        order=order,
        measures_rate=True,
    )


def _divide(clock_hz: float, baud: int) -> Divided | None:
    """IBRD of 16 bits and FBRD of 6: baud = f / (16 (IBRD + FBRD / 64))."""
    steps = round(4 * clock_hz / baud)
    if not 64 <= steps <= 0xFFFF << 6:
        return None
    return Divided(4 * clock_hz / steps, f"IBRD {steps >> 6}, FBRD {steps & 63}")


def _opened(sent: bytes) -> Opened:
    packet = sent.removeprefix(bytes([0, ACK]))
    return (packet[2], packet[3:]) if len(packet) > 2 and packet[0] == len(packet) else None


def _answered(command: Command, sent: bytes, heard: bytes) -> str:
    if command is Command.STATUS and len(heard) >= 3:
        return STATUSES.get(heard[-1], show_bytes(heard))
    return "refused" if heard[:2] == bytes([0, NAK]) else ""


def _other(sent: bytes, heard: bytes) -> tuple[str, str] | None:
    packet = sent.removeprefix(bytes([0, ACK]))
    if packet == SYNC:
        return "measure the rate", show_bytes(heard, 12)
    return ("acknowledge", show_bytes(heard, 12)) if sent and not packet else None


FRAMING = Framing(Command, _opened, "big", answered=_answered, other=_other)


class TiPackets(Dialect):
    """The conversation that all these loaders have in common. Derived dialects say which chip is theirs."""

    answer_s: ClassVar[float] = 0.3
    uart: ClassVar[UartRules | None] = UartRules(
        "pl011",
        "PL011 UART of CC13xx, CC26xx, CC2538 and Tiva C",
        "the UART's clock: 48 MHz on CC13xx and CC26xx, the system clock on the others",
        'TM4C123GH6PM data sheet, "Baud-Rate Generation"; tolerance computed from half a bit',
        (Mode("divider", _divide, lambda divided, frame: 0.5 / (frame.data_bits + 1.5)),),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._last = b""

    # --- packets

    def _answered(self, waiting_for: str, deadline: Deadline) -> None:
        """CC after any zeros. Raises Silence, Unexpected; ChipRefusal for 33: the sum was wrong."""
        heard = b""
        while not deadline.over and len(heard) < 8:
            more = self.link.read(1, deadline.left_s)
            heard += more
            if more == bytes([ACK]):
                return
            if more == bytes([NAK]):
                raise ChipRefusal(waiting_for, RefusalKind.BAD_DATA, heard)
            if more and more != b"\x00":
                raise Unexpected(f"00 CC after '{waiting_for}'", heard + drain(self.link, _QUIET_S))
        raise Silence(f"00 CC after '{waiting_for}'", self.patience_s, heard)

    def _said(self, waiting_for: str, deadline: Deadline, size: int) -> bytes:
        """The data of a packet from the chip, acknowledged. Raises Silence, Unexpected."""
        heard = b"\x00"
        while heard == b"\x00" and not deadline.over:
            heard = self.link.read(1, deadline.left_s)
        if heard in (b"", b"\x00"):
            raise Silence(f"answer to '{waiting_for}'", self.patience_s)
        if heard[0] != size + 2:
            raise Unexpected(f"answer to '{waiting_for}'", heard + drain(self.link, _QUIET_S))
        heard += self.link.read(size + 1, max(deadline.left_s, self.link.settings.seconds(size + 1) + 0.05))
        if len(heard) < size + 2:
            raise Silence(f"answer to '{waiting_for}'", self.patience_s, heard)
        if sum(heard[2:]) & 0xFF != heard[1]:
            raise Unexpected(f"answer to '{waiting_for}'", heard)
        self.link.write(bytes([0, ACK]))
        return heard[2:]

    def _request(self, command: Command, rest: bytes = b"", answer: int = 0, longest_s: float = 0.0) -> bytes:
        """One packet, its acknowledgement, and the packet that answers it, if it has `answer` bytes. Raises
        DialectError."""
        self.link.discard()
        self._last = packet(bytes([command]) + rest)
        self.link.write(self._last)
        wait_s = self.link.settings.seconds(len(self._last) + answer + 6) + self.patience_s + longest_s
        deadline = Deadline.after(self.link, wait_s)
        self._answered(command.words, deadline)
        return self._said(command.words, deadline, answer) if answer else b""

    def _with_retry(self, command: Command, rest: bytes = b"", answer: int = 0, longest_s: float = 0.0) -> bytes:
        """The same where it may be repeated."""
        return self._repeat(lambda: self._request(command, rest, answer, longest_s))

    def _repeat(self, once: Callable[[], Answer]) -> Answer:
        return self.exchange(once, self._recover, tries=4, refusals=3)

    def _ask_for(self, command: Command, rest: bytes, size: int, address: int, longest_s: float = 0.0) -> bytes:
        """What the chip sends of its memory. Where it refuses that it sends nothing: its status tells why. Raises
        DialectError."""
        try:
            return self._request(command, rest, size, longest_s)
        except Silence as silence:
            if silence.heard:
                raise
            self._must_succeed(command, self._request(Command.STATUS, answer=1)[0], address)
            raise

    def _status(self, longest_s: float = 0.0) -> int:
        """What the loader says of the last command. If that answer is lost the command must be done again: what
        brings the line in order may be a command of its own to the loader."""
        return self._request(Command.STATUS, answer=1, longest_s=longest_s)[0]

    def _must_succeed(self, command: Command, status: int, address: int | None = None) -> None:
        """Raises ChipRefusal."""
        if status != SUCCESS:
            said = STATUSES.get(status, f"status {status:02X}")
            raise ChipRefusal(
                command.words,
                _KINDS.get(status, RefusalKind.BAD_DATA),
                bytes([status]),
                address,
                f"{status:02X}, {said},",
            )

    def _recover(self, heard: bytes) -> None:
        """Complete whatever was begun, and hear a ping answered. Raises Silence, Unexpected."""
        refuse_text("00 CC", heard + drain(self.link, 2 * _QUIET_S))
        self._revive(4)

    def _revive(self, times: int) -> None:
        """What completes a half packet is answered by 33, perhaps late, and comes before the CC to the ping. Raises
        Silence."""
        for _ in range(times):
            self._settle()
            self.link.write(packet(bytes([Command.PING])))
            deadline = Deadline.after(self.link, self.patience_s)
            while (more := self.link.read(1, deadline.left_s)) and more[0] != ACK and not deadline.over:
                pass
            if more and more[0] == ACK:
                drain(self.link, _QUIET_S)
                return
        raise Silence(f"00 CC after '{Command.PING.words}'", self.patience_s)

    def _settle(self) -> None:
        """The sum of a half packet is wrong with `filler`, and so is that of the packet that it begins to a loader
        that waits for one, whether or not what follows it is taken for an acknowledgement."""
        filler = next(value for value in range(0x81, 0xB4) if value not in (*self._last, 0x9A))
        self.link.write(bytes([filler, ACK, filler, ACK]) + bytes(_IDLE_ZEROS))
        self.link.sleep(self.link.settings.seconds(_IDLE_ZEROS + 4))
        drain(self.link, 2 * _QUIET_S)

    # --- asking

    def ask(self, wait_s: float) -> str | None:
        """55 55 until 00 CC comes, then a ping, which an echo does not answer; and what only this kind of chip knows.
        A loader that has measured the rate takes the first 55 for a size: as many more of them as that, and it says
        that the sum is wrong."""
        first_s = self.probe_timeout(wait_s / 2) or self.patience_s  # some answer late
        self.link.discard()
        self._last = b""
        try:
            self.link.write(SYNC)
            heard, said = self._first_of(first_s), "00 CC to 55 55 and to ping"
            if not heard:
                self.link.write(SYNC[:1] * (SYNC[0] - len(SYNC)))
                heard, said = self._first_of(wait_s / 2 + self.link.settings.seconds(SYNC[0])), "00 CC to ping"
            if heard not in (bytes([ACK]), bytes([NAK])):
                drain(self.link, _QUIET_S, wait_s)
                return None
            if heard[0] == NAK:
                self._revive(1)
            self._request(Command.PING)
            return said if self.is_mine() else None
        except (Silence, Unexpected, ChipRefusal):
            return None

    def _first_of(self, wait_s: float) -> bytes:
        """The first byte that is not zero; empty if there is none."""
        deadline = Deadline.after(self.link, wait_s)
        while (heard := self.link.read(1, deadline.left_s)) == b"\x00" and not deadline.over:
            pass
        return heard.strip(b"\x00")

    def is_mine(self) -> bool:
        """Whether the chip knows what only this dialect's chips know. Raises DialectError."""
        raise NotImplementedError

    def start(self, address: int) -> str:
        """A reset: the application runs if the boot pin does not have its level."""
        self._request(Command.RESET)
        return f"{show_bytes(bytes([0, ACK]))} to reset"
