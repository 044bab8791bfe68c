"""Simulated boards with a resident bootloader that accepts XMODEM, from the XMODEM/YMODEM Protocol Reference. Boards:
smoke-fan, xmodem-sum, xmodem-crc, ymodem, ymodem-once, ymodem-twice.

Stricter than silicon: a block out of order ends the transfer with CAN CAN; anything sent before the call, or while
the flash is written, is noted.
"""

from __future__ import annotations

from collections.abc import Generator

from greenstep.core.frozen import frozen
from greenstep.core.link import LineSettings
from greenstep.core.plan.write_options import TalkLine

from .. import samples
from ..boards import FAN, BenchBoard, any_kind, board_of
from ..chip import DAMAGED, TIMED_OUT, Program, Spend, Take, Wish
from ..circuits import DtrResetRtsBoot
from ..crc16 import crc16
from ..faults import Faults
from ..resident import SimulatedResident

Steps = Generator[Wish, int, None]
_ACK, _NAK, _CAN = b"\x06", b"\x15", b"\x18\x18"


@frozen
class XmodemKind:
    """What a bootloader accepts: blocks with CRC, long blocks, a name first (YMODEM). Times in seconds."""

    title: str
    crc: bool = True
    long: bool = True
    named: bool = False
    flash_bytes: int = 131072
    listens_s: float = 3.0
    block_s: float = 0.004
    erase_s: float = 0.4
    refuses_first_end: bool = False
    acknowledges_end_twice: bool = False
    one_file: bool = False
    """Never calls for another file: it accepts only one."""
    menu: bytes = b"\r\nloader 1.2\r\nu uploads, g goes\r\n> "
    keys: tuple[str, str] = ("u", "g")
    """Which start the upload and the program."""
    begun: bytes = b"u\r\n"
    done: bytes = b""
    knock: str = ""
    """What must be heard before the menu is shown."""
    other_keys: bool = False
    """Whether the menu is shown again for any key that it does not know, and only then."""
    wrong: bytes = b""
    """What it says of a file that its own check finds damaged; empty if it checks none."""


KINDS = {
    "smoke-fan": XmodemKind("resident bootloader, XMODEM-1K"),
    "xmodem-sum": XmodemKind("resident bootloader, XMODEM with sums", crc=False, long=False, refuses_first_end=True),
    "xmodem-crc": XmodemKind("resident bootloader, XMODEM-CRC, 128 bytes only", long=False),
    "ymodem": XmodemKind("resident bootloader, YMODEM", named=True, refuses_first_end=True),
    "ymodem-twice": XmodemKind(
        "resident bootloader, YMODEM, acknowledges the end twice", named=True, acknowledges_end_twice=True
    ),
    "ymodem-once": XmodemKind("resident bootloader, YMODEM of one file", named=True, one_file=True),
}


class SimulatedXmodem(SimulatedResident):
    """One board; the file it received begins at the start of `flash`."""

    vector_bytes = 4

    def __init__(self, kind: XmodemKind, faults: Faults | None = None) -> None:
        super().__init__(faults, kind.flash_bytes, LineSettings(115200))
        self.kind = kind
        self.received = 0
        self.batch_ended = False
        """Whether an empty block came after the last file."""

    def loader(self) -> Program:
        """Every reset shows the menu for a while."""
        self.running = False
        self.settings = self.console
        yield Spend(0.01)
        upload, go = map(ord, self.kind.keys)
        knock = ord(self.kind.knock) if self.kind.knock else None
        if knock is None:
            self.send(self.kind.menu)
        while True:
            key = yield Take(self.kind.listens_s)
            if key in (TIMED_OUT, go):
                self.restart(self.program())
                return
            if key == knock or (self.kind.other_keys and key not in (upload, go, DAMAGED)):
                self.send(self.kind.menu)
            if key == upload:
                self.send(self.kind.begun)
                yield from self._transfer()
                right = not self.kind.wrong or self.is_whole(bytes(self.flash[: self.received]))
                self.send(
                    (self.kind.done if right else self.kind.wrong) + (b"" if self.kind.other_keys else self.kind.menu)
                )

    def is_whole(self, file: bytes) -> bool:
        """Whether the bootloader's own check finds the file right."""
        return True

    def _transfer(self) -> Steps:
        yield Spend(self.kind.erase_s)
        if not self.faults.dead_write:
            self.flash[:] = b"\xff" * len(self.flash)
        if self.kind.named and not (yield from self._name()):
            return
        first = yield from self._called()
        if first < 0:
            return
        number, at = 1, 0
        while True:
            if first == 0x04:
                if self.kind.refuses_first_end:
                    self.send(_NAK)
                    first = yield Take(10)
                    if first != 0x04:
                        continue
                self.send(_ACK * (2 if self.kind.acknowledges_end_twice else 1))
                self.received = at
                if self.kind.named and not self.kind.one_file:
                    self.batch_ended = (yield from self._name()) is False
                return
            if first == 0x18:
                return
            data = yield from self._block(first, number)
            if data is None:
                self.send(_NAK)
            elif isinstance(data, bool):
                self.send(_ACK)  # the one before, sent again
            elif not data:
                self.send(_CAN)
                return
            else:
                yield Spend(self.kind.block_s * len(data) / 128)
                self.put(at, data, onto_blank=False)
                at, number = at + len(data), number + 1
                self.send(_ACK)
            first = yield Take(3)
            for _ in range(8):
                if first != TIMED_OUT:
                    break
                self.send(_NAK)
                first = yield Take(3)
            else:
                return

    def _called(self) -> Generator[Wish, int, int]:
        """Call until a block begins."""
        for _ in range(20):
            self.send(b"C" if self.kind.crc else _NAK)
            first = yield Take(1.0 if self.kind.crc else 2.0)
            if first >= 0:
                return first
        return -1

    def _name(self) -> Generator[Wish, int, bool | None]:
        """Block 0, with a name or, at the end of a batch, without one; None if none comes."""
        first = yield from self._called()
        if first < 0:
            return None
        for _ in range(10):
            data = yield from self._block(first, 0)
            if isinstance(data, bytes) and data:
                self.send(_ACK)
                return data[0] != 0
            self.send(_NAK)
            first = yield Take(3)
        return None

    def _block(self, first: int, number: int) -> Generator[Wish, int, bytes | bool | None]:
        """The data; True for a repetition of the previous block, b"" for one out of order, None for a damaged one."""
        size = {0x01: 128, 0x02: 1024}.get(first)
        whole = (size or 128) + (4 if self.kind.crc else 3)
        rest = yield from self.several(whole, 1.0)
        if len(rest) < whole:
            return None
        if size is None or (size == 1024 and not self.kind.long):
            while (yield Take(0.2)) >= 0:  # let the rest of it pass
                pass
            return None
        data = bytes(max(value, 0) for value in rest[2 : 2 + size])
        guard = rest[2 + size :]
        wanted = list(crc16(data).to_bytes(2, "big")) if self.kind.crc else [sum(data) & 0xFF]
        if DAMAGED in rest or rest[0] ^ rest[1] != 0xFF or guard != wanted:
            return None
        if rest[0] == number & 0xFF:
            return data
        if rest[0] == (number - 1) & 0xFF:
            return True
        self.violation(f"block {rest[0]} where {number & 0xFF} was due")
        return b""


def _board(name: str) -> BenchBoard:
    settings: dict[str, str | tuple[TalkLine, ...]] = {
        "opening": (TalkLine("u uploads", 5.0, "u"),),
        "closing": (TalkLine("g goes", 5.0, "g"),),
    }
    if name.startswith("ymodem"):
        settings["block"] = "ymodem"
    return board_of(
        KINDS[name], SimulatedXmodem, any_kind(samples.plain_image), name, DtrResetRtsBoot(), FAN,
        chip="any", settings=tuple(settings.items()),
    )  # fmt: skip


BOARDS = tuple(map(_board, ("smoke-fan", "xmodem-sum", "xmodem-crc", "ymodem", "ymodem-once", "ymodem-twice")))
