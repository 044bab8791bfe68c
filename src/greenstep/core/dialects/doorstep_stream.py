"""The CRC-32 of two runs of bytes one after the other, from the CRC-32 of each; and four bytes from theirs.

A CRC is a remainder of polynomials over GF(2): putting n bytes behind others multiplies theirs by x to the 8n.
Bits are in the reflected order of IEEE 802.3, so the lowest bit stands for the highest power.


Writes of Doorstep, several on their way at once (docs/doorstep.md, "Several writes on their way")."""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterator, Sequence
from functools import cache
from itertools import pairwise
from typing import TYPE_CHECKING

from ..chips.part import Memory
from ..frozen import changing
from ..link import Deadline
from ..spans import Span
from .doorstep_frames import ANSWER, Ability, Facts, Kind, Status, write_question
from .errors import Silence
from .results import WriteBlock

if TYPE_CHECKING:
    from .doorstep import Doorstep


_POLYNOMIAL = 0xEDB88320
_ONE = 1 << 31
_ALL = 0xFFFFFFFF
_X = 1 << 30


def joined(first: int, second: int, second_bytes: int) -> int:
    """The CRC-32 of what has the CRC-32 `first`, followed by `second_bytes` bytes that have `second`."""
    return _product(first, _power(8 * second_bytes)) ^ second


def _power(exponent: int) -> int:
    """x to that, as a remainder."""
    result, square = _ONE, _X
    while exponent:
        if exponent & 1:
            result = _product(result, square)
        square = _product(square, square)
        exponent >>= 1
    return result


def _product(one: int, other: int) -> int:
    """The remainder of a product."""
    result, bit = 0, _ONE
    while bit:
        if one & bit:
            result ^= other
        other = other >> 1 ^ (_POLYNOMIAL if other & 1 else 0)
        bit >>= 1
    return result


def bytes_with_crc32(sum_: int) -> bytes:
    """The only four bytes that have this CRC-32: their register is run backwards, as long as they are."""
    state = sum_ ^ _ALL
    for _ in range(4):
        index = _by_high_byte()[state >> 24]
        state = ((state ^ _table()[index]) << 8 & _ALL) | index
    return (state ^ _ALL).to_bytes(4, "little")


@cache
def _table() -> tuple[int, ...]:
    """What each byte does to the register (IEEE 802.3, reflected)."""
    return tuple(_of_byte(value) for value in range(256))


def _of_byte(value: int) -> int:
    for _ in range(8):
        value = value >> 1 ^ (_POLYNOMIAL if value & 1 else 0)
    return value


@cache
def _by_high_byte() -> dict[int, int]:
    """Each entry of the table has a highest byte of its own."""
    return {entry >> 24: index for index, entry in enumerate(_table())}


_TRIES = 12
_LAST_BYTES = 128


@changing
class _Frame:
    """A write: its place, and when it was sent, as which number and in which turn; how often."""

    address: int
    data: bytes
    number: int = 0
    turn: int = 0
    times: int = 0

    @property
    def span(self) -> Span:
        return Span.of(self.address, len(self.data))


class Stream:
    """Blocks in frames. An answer tells that all older frames that have none were lost: answers come in order."""

    def __init__(self, dialect: Doorstep, memory: Memory, blocks: Sequence[WriteBlock]) -> None:
        self._dialect, self._link = dialect, dialect.link
        self._memory, self._blocks = memory, blocks
        self._turn = 0
        self._left_by_s = 0.0
        self._on_way: dict[int, _Frame] = {}
        self._waiting = deque(frames_of(blocks, dialect.facts))
        facts = dialect.facts
        self._least = max(facts.write_unit, facts.erase_unit if facts.abilities & Ability.ERASES_ITSELF else 64)
        self._most = facts.data_bytes
        # what comes while it is deaf is lost, whatever places it has
        self._places = facts.frames if facts.abilities & Ability.HEARS_WRITING else 1

    def run(self) -> Iterator[WriteBlock]:
        """Yields each block as soon as all of it is acknowledged. Raises DialectError."""
        open_bytes = Counter({block.address: len(block.data) for block in self._blocks})
        while self._waiting or self._on_way:
            while self._waiting and len(self._on_way) < self._places:
                self._send(self._next())
            frame = self._answered()
            if frame is None:
                continue
            for block in self._blocks_of(frame):
                open_bytes[block.address] -= block.span.shared(frame.span).size
                if not open_bytes[block.address]:
                    yield block

    def _next(self) -> _Frame:
        """The first that waits, or as much of it as a frame may be on this line."""
        frame = self._waiting.popleft()
        if len(frame.data) > self._most:
            self._waiting.appendleft(_Frame(frame.address + self._most, frame.data[self._most :]))
            frame = _Frame(frame.address, frame.data[: self._most])
        return frame

    def _blocks_of(self, frame: _Frame) -> list[WriteBlock]:
        return [block for block in self._blocks if block.span.meets(frame.span)]

    def _send(self, frame: _Frame) -> None:
        frame.number = frame.number or self._dialect.next_number()
        self._turn += 1
        frame.turn, frame.times = self._turn, frame.times + 1
        # the zero before it ends what was begun, and what came when the loader had no place for it
        sent = b"\x00" + write_question(frame.number, frame.address - self._dialect.facts.origin, frame.data)
        self._on_way[frame.number] = frame
        self._link.write(sent)
        self._left_by_s = max(self._left_by_s, self._link.now()) + self._link.settings.seconds(len(sent))

    def _answered(self) -> _Frame | None:
        """The next frame that is acknowledged; None if something had to be sent again. Raises DialectError."""
        size = sum(len(frame.data) for frame in self._on_way.values())
        unit_s = self._memory.program_s / self._memory.write_unit
        wait_s = max(0.0, self._left_by_s - self._link.now()) + self._dialect.patience_s + 4 * size * unit_s
        deadline = Deadline.after(self._link, wait_s)
        while (message := self._dialect.hear(deadline)) is not None:
            frame = self._on_way.get(message[1])
            if message[0] != Kind.WRITE | ANSWER or frame is None:
                continue
            if message[2] & Status.KEPT and frame.times == 1:
                self._with_retry([frame], wait_s)
                return None
            if not message[2] & Status.KEPT or not self._dialect.proves:  # else verify shows what it kept, and where
                self._dialect.must_be_done(Kind.WRITE, message, frame.address)
            del self._on_way[frame.number]
            self._with_retry([other for other in self._on_way.values() if other.turn < frame.turn], wait_s)
            return frame
        self._with_retry(list(self._on_way.values()), wait_s)
        return None

    def _with_retry(self, frames: Sequence[_Frame], waited_s: float) -> None:
        if not frames:
            return
        if self._dialect.trial_s is not None or any(frame.times >= _TRIES for frame in frames):
            raise Silence("answer to 'write'", waited_s)
        self._dialect.retries += 1
        if any(frame.times > 1 for frame in frames) and self._most > self._least:
            # a line that damages long frames may carry short ones
            self._most = max(self._least, self._most // 2 // self._least * self._least)
        for frame in sorted(frames, key=lambda frame: frame.turn, reverse=True):
            if len(frame.data) > self._most:
                del self._on_way[frame.number]
                self._waiting.appendleft(_Frame(frame.address, frame.data))
        for frame in frames:
            if frame.number in self._on_way:
                self._send(frame)


def frames_of(blocks: Sequence[WriteBlock], facts: Facts) -> list[_Frame]:
    """Blocks that follow each other share frames as large as the loader takes; the last frame is sent in smaller
    ones, so that little is left to be written when the last byte has come."""
    runs: list[list[WriteBlock]] = []
    for before, block in pairwise([None, *blocks]):
        assert block is not None
        if before is not None and before.address + len(before.data) == block.address:
            runs[-1].append(block)
        else:
            runs.append([block])
    most = facts.data_bytes // facts.write_unit * facts.write_unit
    if facts.abilities & Ability.ERASES_ITSELF and facts.erase_unit <= most:
        most = facts.data_bytes // facts.erase_unit * facts.erase_unit
    frames = []
    for run in runs:
        data = b"".join(block.data for block in run)
        frames += [_Frame(run[0].address + at, data[at : at + most]) for at in range(0, len(data), most)]
    if frames and facts.abilities & Ability.HEARS_WRITING:
        last = frames.pop()
        small = (
            facts.write_unit
            if facts.write_unit >= _LAST_BYTES
            else _LAST_BYTES // facts.write_unit * facts.write_unit
        )
        frames += [_Frame(last.address + at, last.data[at : at + small]) for at in range(0, len(last.data), small)]
    return frames
