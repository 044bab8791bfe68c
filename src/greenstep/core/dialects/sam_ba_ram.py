"""What SAM-BA is given to run: a routine of our own for the chip's RAM, and the jobs that it does there.

The monitor itself can only write words, unguarded. So flash is programmed by this routine, which looks first whether
its job and what it is to write have arrived, each by its CRC-32. One routine serves all flash controllers: what they
differ in is data. Its instructions are those of ARMv6-M (ARM DDI 0419, "Thumb instruction set encoding"), which all
these chips run.


How SAM-BA moves bytes to and from RAM: by XMODEM with CRC over a UART, as they are over USB.

Which of the two it is, a chip shows when it is told to send: over USB the bytes come at once.
"""

from __future__ import annotations

import zlib
from binascii import crc_hqx

from ..frozen import frozen
from ..link import Deadline, Link
from .errors import Silence, Unexpected
from .line import drain, read_exactly

DONE, WRONG_DATA, CONTROLLER, WRONG_JOB = 1, 2, 3, 4
"""How a job ends: well; its data's CRC is another; the flash controller reports an error; its own CRC is another."""
JOB_BYTES = 128
"""A job, room behind it, and its CRC-32: one block of XMODEM."""
_CHECKED = JOB_BYTES - 4
ROOM_FOR_CODE = 0x600
_RESULT = 4
_STACK_BYTES = 0x100

_FIELDS = (
    "number", "result", "copies", "source", "target", "page", "count", "command_at", "command", "command_step",
    "width", "ready_at", "ready_mask", "error_mask", "address_at", "address_shift", "crc_size", "crc_at", "crc",
    "crc_found", "next",
)  # fmt: skip
"""The words of a job, in order."""
_AT = {name: 4 * index for index, name in enumerate(_FIELDS)}


def crc32(data: bytes) -> int:
    return zlib.crc32(data)


@frozen
class RamJob:
    """Addresses are the chip's. First, if `crc_size` is not 0, the CRC-32 of so many bytes at `crc_at` must be `crc`.
    Then, `count` times: `target` shifted right by `address_shift` goes into the register `address_at` (0: none);
    if `copies`, `page` bytes go from `source` to `target`; `command`, of `width` bytes, goes into `command_at`; until
    `ready_at` has `ready_mask`, it waits; then it must not have `error_mask`. `target` grows by `page`, `command` by
    `command_step`. `next` is the address of another job; 0 ends."""

    number: int = 0
    copies: int = 0
    source: int = 0
    target: int = 0
    page: int = 0
    count: int = 0
    command_at: int = 0
    command: int = 0
    command_step: int = 0
    width: int = 4
    ready_at: int = 0
    ready_mask: int = 0
    error_mask: int = 0
    address_at: int = 0
    address_shift: int = 0
    crc_size: int = 0
    crc_at: int = 0
    crc: int = 0
    next: int = 0

    def words(self) -> bytes:
        """As it lies in RAM."""
        values = (getattr(self, name, 0) for name in _FIELDS)
        words = b"".join(value.to_bytes(4, "little") for value in values).ljust(_CHECKED, b"\x00")
        return words + crc32(words).to_bytes(4, "little")

    def leaves(self, code: int) -> int:
        """The word that it leaves if it ends so."""
        return (self.number << 8 | code) & 0xFFFFFFFF


class _Code:
    """Halfwords with labels."""

    def __init__(self) -> None:
        self.halves: list[int] = []
        self._labels: dict[str, int] = {}
        self._branches: list[tuple[int, str, int | None]] = []

    def label(self, name: str) -> None:
        self._labels[name] = len(self.halves)

    def put(self, *halves: int) -> None:
        self.halves.extend(halves)

    def load(self, to: int, base: int, offset: int = 0) -> None:
        self.put(0x6800 | offset // 4 << 6 | base << 3 | to)

    def store(self, what: int, base: int, offset: int = 0) -> None:
        self.put(0x6000 | offset // 4 << 6 | base << 3 | what)

    def field(self, to: int, name: str) -> None:
        """A word of the job, which register 7 points to."""
        self.load(to, 7, _AT[name])

    def keep(self, what: int, name: str) -> None:
        self.store(what, 7, _AT[name])

    def move(self, to: int, value: int) -> None:
        self.put(0x2000 | to << 8 | value)

    def compare(self, register: int, value: int) -> None:
        self.put(0x2800 | register << 8 | value)

    def grow(self, register: int, value: int) -> None:
        self.put(0x3000 | register << 8 | value)

    def shrink(self, register: int, value: int) -> None:
        self.put(0x3800 | register << 8 | value)

    def add(self, to: int, one: int, other: int) -> None:
        self.put(0x1800 | other << 6 | one << 3 | to)

    def by(self, operation: int, to: int, other: int) -> None:
        """A data processing operation of two registers, by its number in the manual."""
        self.put(0x4000 | operation << 6 | other << 3 | to)

    def literal(self, to: int, index: int) -> None:
        """A word behind the code; resolved at the end."""
        self._branches.append((len(self.halves), f"literal {index}", None))
        self.put(0x4800 | to << 8)

    def branch(self, label: str, condition: int | None = None) -> None:
        self._branches.append((len(self.halves), label, condition))
        self.put(0)

    def finished(self, literals: tuple[int, ...]) -> bytes:
        if len(self.halves) % 2:
            self.put(0xBF00)
        pool = len(self.halves)
        for at, label, condition in self._branches:
            if label.startswith("literal "):
                where = pool + 2 * int(label.split()[1])
                self.halves[at] |= (where - ((at + 2) & ~1)) // 2
                continue
            distance = self._labels[label] - at - 2
            self.halves[at] = (
                0xE000 | distance & 0x7FF if condition is None else 0xD000 | condition << 8 | distance & 0xFF
            )
        code = b"".join(half.to_bytes(2, "little") for half in self.halves)
        return code + b"".join(word.to_bytes(4, "little") for word in literals)


_EQ, _NE = 0, 1
_EOR, _LSR, _TST, _CMP, _ORR, _MVN = 1, 3, 8, 10, 12, 15


def _routine(job_at: int, table_at: int) -> bytes:
    code = _Code()
    code.put(0xB5F0)  # push r4-r7, lr
    code.literal(7, 0)
    code.field(0, "result")  # one that has ended is not done again
    code.compare(0, 0)
    code.branch("leave", _NE)
    code.label("job")
    code.put(0x4600 | 7 << 3 | 0)  # mov r0, r7
    code.move(1, _CHECKED)
    code.move(6, 0)
    code.label("sum")
    code.literal(2, 1)
    code.move(3, 0)
    code.by(_MVN, 3, 3)
    code.label("crc")
    code.put(0x7800 | 0 << 3 | 4)  # ldrb r4, [r0]
    code.grow(0, 1)
    code.by(_EOR, 4, 3)
    code.put(0xB2C0 | 4 << 3 | 4)  # uxtb r4, r4
    code.put(0x0000 | 2 << 6 | 4 << 3 | 4)  # lsls r4, r4, 2
    code.put(0x5800 | 4 << 6 | 2 << 3 | 4)  # ldr r4, [r2, r4]
    code.put(0x0800 | 8 << 6 | 3 << 3 | 3)  # lsrs r3, r3, 8
    code.by(_EOR, 3, 4)
    code.shrink(1, 1)
    code.branch("crc", _NE)
    code.by(_MVN, 3, 3)
    code.compare(6, 0)
    code.branch("data", _NE)
    code.load(4, 7, _CHECKED)
    code.move(5, WRONG_JOB)
    code.by(_CMP, 3, 4)
    code.branch("end", _NE)
    code.field(0, "crc_at")
    code.field(1, "crc_size")
    code.move(6, 1)
    code.compare(1, 0)
    code.branch("sum", _NE)
    code.branch("pages")
    code.label("data")
    code.keep(3, "crc_found")
    code.field(4, "crc")
    code.move(5, WRONG_DATA)
    code.by(_CMP, 3, 4)
    code.branch("end", _NE)
    code.label("pages")
    code.field(6, "count")
    code.label("page")
    code.compare(6, 0)
    code.branch("next", _EQ)
    code.field(0, "address_at")
    code.compare(0, 0)
    code.branch("copy", _EQ)
    code.field(1, "target")
    code.field(2, "address_shift")
    code.by(_LSR, 1, 2)
    code.store(1, 0)
    code.label("copy")
    code.field(0, "copies")
    code.compare(0, 0)
    code.branch("command", _EQ)
    code.field(0, "source")
    code.field(1, "target")
    code.field(2, "page")
    code.label("word")
    code.load(3, 0)
    code.store(3, 1)
    code.grow(0, 4)
    code.grow(1, 4)
    code.shrink(2, 4)
    code.branch("word", _NE)
    code.keep(0, "source")
    code.label("command")
    code.field(0, "command_at")
    code.field(1, "command")
    code.field(2, "width")
    code.compare(2, 2)
    code.branch("half", _EQ)
    code.store(1, 0)
    code.branch("wait")
    code.label("half")
    code.put(0x8000 | 0 << 3 | 1)  # strh r1, [r0]
    code.label("wait")
    code.field(0, "ready_at")
    code.field(2, "ready_mask")
    code.label("poll")
    code.load(1, 0)
    code.by(_TST, 1, 2)
    code.branch("poll", _EQ)
    code.field(2, "error_mask")
    code.move(5, CONTROLLER)
    code.by(_TST, 1, 2)
    code.branch("end", _NE)
    code.field(0, "target")
    code.field(1, "page")
    code.add(0, 0, 1)
    code.keep(0, "target")
    code.field(0, "command")
    code.field(1, "command_step")
    code.add(0, 0, 1)
    code.keep(0, "command")
    code.shrink(6, 1)
    code.branch("page")
    code.label("next")
    code.move(5, DONE)
    code.field(0, "next")
    code.compare(0, 0)
    code.branch("end", _EQ)
    code.put(0x4600 | 0 << 3 | 7)  # mov r7, r0
    code.branch("job")
    code.label("end")
    code.literal(7, 0)
    code.field(0, "number")
    code.put(0x0000 | 8 << 6 | 0 << 3 | 0)  # lsls r0, r0, 8
    code.by(_ORR, 0, 5)
    code.keep(0, "result")
    code.label("leave")
    code.put(0xBDF0)  # pop r4-r7, pc
    return code.finished((job_at, table_at))


def _crc_table() -> bytes:
    """Reflected polynomial EDB88320: the CRC of each byte alone."""
    words = []
    for value in range(256):
        for _ in range(8):
            value = value >> 1 ^ (0xEDB88320 if value & 1 else 0)
        words.append(value)
    return b"".join(word.to_bytes(4, "little") for word in words)


@frozen
class Workshop:
    """Where in RAM the routine is, from `base` on: where `go` finds it, its jobs, and their data."""

    base: int

    @property
    def jobs(self) -> int:
        return self.base + ROOM_FOR_CODE + _STACK_BYTES

    @property
    def entry(self) -> int:
        """The routine's first instruction, as an address of Thumb code."""
        return self.base + 8 | 1

    @property
    def data(self) -> int:
        """Behind two jobs."""
        return self.jobs + 2 * JOB_BYTES

    @property
    def result(self) -> int:
        return self.jobs + _RESULT

    def content(self) -> bytes:
        """The stack pointer and the address of the first instruction, as the vectors of a program; the routine; the
        table of its CRC."""
        stack = self.jobs
        code = _routine(self.jobs, self.base + 0x100)
        head = stack.to_bytes(4, "little") + self.entry.to_bytes(4, "little")
        return (head + code).ljust(0x100, b"\x00") + _crc_table()


SOH, EOT, ACK, NAK, CAN, CALL = 0x01, 0x04, 0x06, 0x15, 0x18, 0x43
BLOCK = 128
_TRIES, _QUIET_S, _CALL_S = 5, 0.03, 1.2


def send(link: Link, data: bytes, patience_s: float) -> int:
    """To a chip that was told to receive: after its call, block by block. Returns how often something had to be
    repeated. Raises Silence, Unexpected."""
    deadline = Deadline.after(link, _CALL_S + patience_s)
    while link.read(1, deadline.left_s) != bytes([CALL]):
        if deadline.over:
            raise Silence("43 after 'send file'", _CALL_S + patience_s)
    repeated = 0
    for number, at in enumerate(range(0, len(data), BLOCK), 1):
        block = data[at : at + BLOCK].ljust(BLOCK, b"\x00")
        head = bytes([SOH, number & 0xFF, ~number & 0xFF])
        repeated += _until_acknowledged(
            link, head + block + crc_hqx(block, 0).to_bytes(2, "big"), f"block {number}", patience_s
        )
    return repeated + _until_acknowledged(link, bytes([EOT]), "end of file", patience_s)


def _until_acknowledged(link: Link, sent: bytes, name: str, patience_s: float) -> int:
    """Send until it is acknowledged. A call is one that was on its way."""
    for attempt in range(_TRIES):
        link.discard()
        link.write(sent)
        deadline = Deadline.after(link, link.settings.seconds(len(sent) + 1) + patience_s)
        while True:
            heard = link.read(1, deadline.left_s)
            if heard == bytes([ACK]):
                return attempt
            if heard != bytes([CALL]) or deadline.over:
                break
        if heard and heard != bytes([NAK]):
            raise Unexpected(f"answer to {name}", heard + drain(link, _QUIET_S))
        if not heard:
            raise Silence(f"answer to {name}", patience_s)
    raise Unexpected(f"ACK to {name}", bytes([NAK]))


def receive(link: Link, size: int, patience_s: float) -> bytes:
    """From a chip that was told to send, by XMODEM. Raises Silence, Unexpected."""
    data, number = b"", 1
    link.write(bytes([CALL]))
    while True:
        deadline = Deadline.after(link, link.settings.seconds(BLOCK + 5) + patience_s)
        head = link.read(1, deadline.left_s)
        if not head:
            raise Silence(f"block {number}", patience_s)
        if head == bytes([EOT]):
            link.write(bytes([ACK]))
            if len(data) < size:
                raise Unexpected(f"{size} bytes", data[:40])
            return data[:size]
        if head != bytes([SOH]):
            raise Unexpected(f"block {number}", head + drain(link, _QUIET_S))
        rest = read_exactly(link, 2 + BLOCK + 2, max(0.1, deadline.left_s), f"block {number}")
        block, check = rest[2:-2], rest[-2:]
        if rest[:2] != bytes([number & 0xFF, ~number & 0xFF]) or crc_hqx(block, 0).to_bytes(2, "big") != check:
            raise Unexpected(f"block {number}", rest[:40])
        data, number = data + block, number + 1
        link.write(bytes([ACK]))
