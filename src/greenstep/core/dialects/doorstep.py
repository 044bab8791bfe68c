"""`doorstep`: the resident loaders that come with this tool, and any other that speaks their protocol
(docs/doorstep.md).

Each answer carries its question's number, so that a late one does no harm. Several writes are on their way at once.
What the flash holds is told by digests, and what may be started by a seal, which is broken before anything else
changes and written last.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..families.pic18 import code_only
from ..image import Image, Piece
from ..link import Deadline, Link
from ..quantities import count, show_address, show_engineering, show_size
from ..spans import Span, merged
from .abilities import PROOF_BYTES, ChangesRate, Checksums, ProvesRate, Seals, TellsClock
from .dialect import Dialect
from .doorstep_frames import (
    ANSWER,
    SEAL_BYTES,
    Ability,
    Facts,
    Kind,
    Status,
    facts_of,
    not_sealed,
    opened,
    part_as_told,
    question,
    seal_of,
    write_question,
)
from .doorstep_stream import Stream, bytes_with_crc32, joined
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import drain
from .results import Examination, Identity, OneFitted, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, Spec, Starting
from .ways import in_runs

_TRIES, _QUIET_S = 5, 0.02
_USUAL_SUM_S = 3e-6  # a byte
_FRAME_BYTES, _ANSWER_BYTES = 17, 10
_SLOWEST_SUM_CYCLES = 160  # a byte: of a loader that has no table
_MOST_ERASED = 16  # units in one question: so that progress shows
_LONGEST_DIGEST = 0x8000
_MOST_REFINED = 4
_USUAL_DATA, _USUAL_ANSWER = 512, 240
_TRIAL_S = 6.0  # docs/doorstep.md, "Rate": half a second to five, and then the loader is back at its own
_AT_NEW_RATE, _NEW_RATE_S = 4, 0.06


class Doorstep(Dialect, ChangesRate, Checksums, ProvesRate, Seals, TellsClock):
    """The conversation with one loader."""

    name: ClassVar[str] = "doorstep"
    title: ClassVar[str] = "Doorstep loader"
    document: ClassVar[str] = "docs/doorstep.md, version 1"
    decoder: ClassVar[str] = "doorstep"
    answer_s: ClassVar[float] = 0.15
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=b"\x00" + question(Kind.HELLO, 0),
            attempts=(Attempt(0.02, 6), Attempt(0.1, 6), Attempt(0.5, 6)),
            wait_s=0.08,
            order=43,
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        erases_alone=True,
        guards_writes=True,
        gives_up=True,
        is_told_rate=True,
        costs=Costs(
            read=CostRow(_FRAME_BYTES, _ANSWER_BYTES), erase=CostRow(_FRAME_BYTES, _ANSWER_BYTES, units=_MOST_ERASED)
        ),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._number = 0
        self._rest = b""
        self._facts: Facts | None = None
        self._baud = 0
        self._image: Image | None = None
        """What will be compared."""
        self._digests: dict[int, tuple[int, int]] = {}
        """What is known of the flash: by address, how many bytes have which CRC-32."""
        self._looks_ahead = True
        self._changed = False
        """Whether anything was written or erased in this conversation."""
        self._sealed_bytes = 0
        """How long the application is that an upload changes in places only."""

    @property
    def facts(self) -> Facts:
        """What the loader told. Raises LookupError before that."""
        if self._facts is None:
            raise LookupError("the loader has not told its facts yet")
        return self._facts

    def _sum_s(self, size: int) -> float:
        """The longest that a digest of so many bytes takes."""
        return size * _SLOWEST_SUM_CYCLES / max(1_000_000, self.facts.clock)

    # --- frames

    def next_number(self) -> int:
        self._number = self._number % 255 + 1
        return self._number

    def hear(self, deadline: Deadline) -> bytes | None:
        """The next whole answer; None if none comes in time. What is damaged passes."""
        while True:
            frame, zero, rest = self._rest.partition(b"\x00")
            if zero:
                self._rest = rest
                message = opened(frame)
                if message is not None and message[0] & ANSWER and len(message) >= 3:
                    return message
                continue
            if deadline.over:
                return None
            more = self.link.read(1, deadline.left_s) + self.link.discard()
            if len(self._rest) > 1 << 16:
                self._rest = b""
            self._rest += more

    def _request(self, kind: Kind, first: int, second: int, answer: int, busy_s: float) -> bytes:
        """A question and what stands in its answer behind the status. Raises Silence, ChipRefusal."""
        number = self.next_number()
        sent = b"\x00" + question(kind, number, first, second)
        self.link.write(sent)
        wait_s = self.link.settings.seconds(len(sent) + answer + _ANSWER_BYTES) + self.patience_s + busy_s
        deadline = Deadline.after(self.link, wait_s)
        while (message := self.hear(deadline)) is not None:
            if message[0] == kind | ANSWER and message[1] == number:
                self.must_be_done(kind, message, first)
                return message[3:]
        heard, self._rest = self._rest, b""
        raise Silence(f"answer to '{kind.words}'", wait_s, heard[:40])

    def _asked(self, kind: Kind, first: int = 0, second: int = 0, answer: int = 0, busy_s: float = 0.0) -> bytes:
        """The same where it may be repeated: every question does the same each time."""
        return self.exchange(lambda: self._request(kind, first, second, answer, busy_s), self._recover, _TRIES)

    def _recover(self, heard: bytes) -> None:
        """A zero ends what was begun; an answer that comes late is known by its number."""
        self.link.write(b"\x00")
        drain(self.link, _QUIET_S)

    @staticmethod
    def must_be_done(kind: Kind, message: bytes, address: int) -> None:
        """Raises ChipRefusal."""
        if not message[2]:
            return
        status = Status(message[2] & 3)
        placed = kind in (Kind.WRITE, Kind.ERASE, Kind.READ, Kind.DIGEST)
        refused = RefusalKind.BAD_ADDRESS if placed else RefusalKind.UNSUPPORTED
        kept = RefusalKind.BAD_DATA if status & Status.KEPT else refused
        said = f"{message[2]:02X}, {status.words},"
        raise ChipRefusal(kind.words, kept, message[2:3], address if placed else None, said)

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        wait = self.probe_timeout(wait_s)
        try:
            with self.waiting(wait):
                told = self._request(Kind.HELLO, 0, 0, 60, 0.0)
        except (Silence, ChipRefusal):
            return None
        return self._learnt(told)

    def clock_hz(self) -> float | None:
        return float(self.facts.clock)

    def _learnt(self, told: bytes) -> str | None:
        try:
            self._facts = facts_of(told)
        except ValueError:
            return None
        if not self._baud:
            self._baud = self.link.settings.baud
        return f"version {self._facts.version}, {self._facts.family_name}"

    def identify(self) -> Identity:
        """The loader's facts."""
        told = self._asked(Kind.HELLO, 0, 0, 60)
        if self._learnt(told) is None:
            raise Unexpected("the loader's facts", told)
        facts = self.facts
        details = (
            ("loader", f"Doorstep {facts.version}"),
            ("clock", show_engineering(facts.clock, "Hz")),
            ("application", "whole" if facts.whole else "none, or not whole"),
        )
        return Identity(facts.part, f"{facts.family_name} {facts.part:X}", details)

    def examine(self, part: Part) -> Examination:
        """The flash as the loader tells it."""
        facts = self.facts
        self.examined_part = part = part_as_told(part, facts)
        region = str(facts.region)
        details = (("flash", show_size(part.flash.size)), ("for the application", region))
        return Examination(part, details, facts.unique_id.hex().upper())

    def look_before(self, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> tuple[str, ...]:
        """Nothing against it: what the images cover is what will be compared. If they leave out where the application
        begins, they change one that is there."""
        self._image = image = images.get("flash")
        facts = self.facts
        if image is not None and not image.covers(facts.region.start, 1):
            seal = self.read(part.flash, facts.region.end, SEAL_BYTES) if facts.whole else b""
            self._sealed_bytes = int.from_bytes(seal[:4], "little")
        return ()

    def why_not_writable(self, memory: Memory) -> str:
        return "" if memory.is_flash else "this loader has flash only"

    # --- rates

    def offers_rate(self, baud: int) -> bool:
        return baud == self._baud or self.facts.rate_setting(baud) is not None

    def move_to_rate(self, part: Part, baud: int) -> None:
        """To a rate, which the loader leaves again unless it is asked something at it. Raises DialectError."""
        setting = self.facts.rate_setting(baud)
        if setting is None:
            raise Silence(f"loader's {baud} baud", 0.0)
        before = self.link.settings
        self._asked(Kind.RATE, setting)
        self.link.sleep(before.seconds(4))
        self.link.configure(replace(before, baud=baud))
        for _ in range(_AT_NEW_RATE):
            self._forget()
            with self.waiting(_NEW_RATE_S), suppress(Silence):
                self._request(Kind.HELLO, 0, 0, 60, 0.0)
                return
        self.link.configure(replace(before, baud=self._baud))
        deadline = Deadline.after(self.link, _TRIAL_S)
        while not deadline.over:
            self._forget()
            with self.waiting(self.answer_s), suppress(Silence):
                self._request(Kind.HELLO, 0, 0, 60, 0.0)
                return
        raise Silence(f"answer at {self._baud} baud again", _TRIAL_S)

    def _forget(self) -> None:
        """What came at another rate, or before a reset, was no frame."""
        self.link.discard()
        self._rest = b""

    def was_reset(self) -> None:
        self._forget()
        self._digests.clear()

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        """Digests of places without a meaning, and writes outside of the region, which are refused: both are as long
        as can be, and damage shows."""
        facts = self.facts
        each = facts.data_bytes
        for number in range(-(-size // each)):
            self._refused_write(facts, number, each)
        each = facts.answer_bytes // 4 * 4
        for number in range(-(-size // each)):
            place = facts.begin + number % max(1, (facts.end - facts.begin) // each) * each
            self._asked(Kind.DIGEST, place, 4 | each // 4 << 16, each)

    def _refused_write(self, facts: Facts, number: int, size: int) -> None:
        """A write to where nothing may be written, with data that no line carries by chance."""
        data = bytes((at * 167 + number * 91 + (at >> 3)) & 0xFF for at in range(size))

        def once() -> bool:
            mark = self.next_number()
            sent = b"\x00" + write_question(mark, facts.top, data)
            self.link.write(sent)
            wait_s = self.link.settings.seconds(len(sent) + _ANSWER_BYTES) + self.patience_s
            deadline = Deadline.after(self.link, wait_s)
            while (message := self.hear(deadline)) is not None:
                if message[0] == Kind.WRITE | ANSWER and message[1] == mark:
                    if message[2] != Status.REFUSED:
                        raise Unexpected("a refusal", message)
                    return True
            raise Silence("answer to 'write'", wait_s)

        self.exchange(once, self._recover, _TRIES)

    # --- memory

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        """Where the loader does not read: digests of four bytes each, which no other four bytes have."""
        if not self.facts.abilities & Ability.READS:
            return self._read_by_digests(address, size)
        data = self._asked(Kind.READ, self._from_origin(address), size, size)
        if len(data) != size:
            raise Unexpected(f"{size} bytes", data[:40])
        return data

    def _read_by_digests(self, address: int, size: int) -> bytes:
        first, data = max(self.facts.origin, min(address, address + size - 4)), b""
        end = first + -(-(address + size - first) // 4) * 4
        shift = max(0, end - self.facts.origin - self.facts.top)  # the last four must lie in the flash
        first, end = first - shift, end - shift
        for at in range(first, end, self.facts.digests * 4):
            number = min(self.facts.digests, (end - at) // 4)
            data += b"".join(bytes_with_crc32(sum_) for sum_ in self._digests_of(at, 4, number))
        return data[address - first :][:size]

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        return 1

    def _from_origin(self, address: int) -> int:
        return address - self.facts.origin

    def _digests_of(self, address: int, each: int, number: int) -> list[int]:
        busy_s = self._sum_s(each * number)
        told = self._asked(Kind.DIGEST, self._from_origin(address), each | number << 16, 4 * number, busy_s)
        if len(told) != 4 * number:
            raise Unexpected(count(number, "digest"), told[:40])
        return [int.from_bytes(told[at : at + 4], "little") for at in range(0, len(told), 4)]

    def _look_ahead(self) -> None:
        """Before anything is written: the digests of all that the image covers, in one answer each run; then of every
        unit of a few that differ. What is the same has the image's own digests."""
        self._looks_ahead = False
        image, unit = self._image, self.facts.erase_unit
        for span in merged(piece.span for piece in image.pieces) if image else ():
            first, last = -(-span.start // unit) * unit, span.end // unit * unit
            units = min((last - first) // unit, 0x7FFF)
            each = min(-(-units // self.facts.digests) * unit, _LONGEST_DIGEST)
            number = min((last - first) // each, self.facts.digests) if units > 1 else 0
            cells = list(Span.of(first, each * number).pieces(each)) if number else []
            told = dict(zip(cells, self._digests_of(first, each, number), strict=True)) if cells else {}
            differing = [cell for cell in cells if told[cell] != self._of_image(cell)]
            for cell in cells:
                if cell not in differing:
                    self._digests.update(
                        (piece.start, (piece.size, self._of_image(piece))) for piece in cell.pieces(unit)
                    )
                elif each == unit or len(differing) > _MOST_REFINED:
                    self._digests[cell.start] = each, told[cell]
                else:
                    fine = self._digests_of(cell.start, unit, each // unit)
                    self._digests.update((cell.start + at * unit, (unit, sum_)) for at, sum_ in enumerate(fine))

    def _of_image(self, span: Span) -> int:
        assert self._image is not None
        return zlib.crc32(self._image.cut(span.start, span.size, 0xFF))

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        if self._looks_ahead:
            self._look_ahead()
        at, end = address, address + len(data)
        starts = sorted(start for start in self._digests if address < start < end)
        while at < end:
            size, sum_ = self._digests.get(at, (0, 0))
            if not size or at + size > end:
                following = next((start for start in starts if start > at), end)
                size = min(following - at, _LONGEST_DIGEST)
                sum_ = self._digests_of(at, size, 1)[0]
                self._digests[at] = size, sum_
            if sum_ != zlib.crc32(data[at - address : at - address + size]):
                return False
            at += size
        return True

    def _changes(self) -> None:
        """What was known of the flash holds no longer."""
        self._changed = True
        self._digests.clear()
        self._looks_ahead = False

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Runs of units; where the loader knows no erasing by itself, blank bytes are written."""
        self._changes()
        if not self.facts.abilities & Ability.ERASES_WHEN_ASKED:
            blank = [Piece(unit.address, bytes([memory.erased]) * unit.size) for unit in units]
            yield from (at for at, _ in enumerate(Stream(self, memory, blank).run(), 1))
            return
        done = 0
        for run in in_runs(units, _MOST_ERASED):
            busy_s = sum(memory.erase_time(unit.size).longest_s for unit in run)
            busy_s += memory.program_s * 8 + memory.erase_time(run[0].size).longest_s  # and the seal
            size = run[-1].end - run[0].address
            self._asked(Kind.ERASE, self._from_origin(run[0].address), size, 0, busy_s)
            done += len(run)
            yield done

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """Blocks that follow each other share a frame, and as many frames are on their way as the loader holds."""
        self._changes()
        if not self.facts.abilities & Ability.ERASES_ITSELF:
            for _ in self.erase(memory, memory.units_of([block.span for block in blocks])):
                pass
        yield from Stream(self, memory, blocks).run()

    # --- the seal

    def seal(self, part: Part, image: Image) -> str:
        """Seal what the application's region holds up to the end of the image. Raises DialectError."""
        region = self.facts.region
        if not image.pieces or image.end <= region.start:
            return ""
        if not image.covers(region.start, 1) and not self._sealed_bytes:
            return f"not sealed, and so not started: nothing begins at {show_address(region.start)}"
        end = min(max(image.end, region.start + self._sealed_bytes), region.end)
        length, sum_ = end - region.start, self._sum_up_to(image, end)
        if not self._changed and self.facts.whole and self._is_sealed(length, sum_):
            return f"sealed already: {length:,} bytes, crc32 {sum_:08X}"
        busy_s = self._sum_s(2 * length) + 4 * part.flash.erase_time(self.facts.erase_unit).longest_s
        try:
            self._asked(Kind.SEAL, length, sum_, 4, busy_s)
        except ChipRefusal as refusal:
            raise not_sealed(refusal, sum_) from refusal
        return f"sealed: {length:,} bytes, crc32 {sum_:08X}"

    def _is_sealed(self, length: int, sum_: int) -> bool:
        """Whether that very seal stands there: to write it again wears it, and for a moment there would be none."""
        return self._digests_of(self.facts.region.end, SEAL_BYTES, 1) == [zlib.crc32(seal_of(length, sum_))]

    def _sum_up_to(self, image: Image, end: int) -> int:
        """The CRC-32 from the region's start to `end`: of the image's bytes, and of what stands between them."""
        at, sum_ = self.facts.region.start, 0
        for piece in image.pieces:
            data = piece.part(Span(at, end)).data if piece.end > at else b""
            start = max(piece.address, at)
            if not data:
                continue
            while at < start:
                size = min(start - at, _LONGEST_DIGEST)
                sum_ = joined(sum_, self._digests_of(at, size, 1)[0], size)
                at += size
            sum_ = zlib.crc32(data, sum_)
            at += len(data)
        while at < end:  # the rest of an application that was changed in places
            size = min(end - at, _LONGEST_DIGEST)
            sum_ = joined(sum_, self._digests_of(at, size, 1)[0], size)
            at += size
        return sum_

    def start(self, address: int) -> str:
        self._asked(Kind.START)
        return "00 to start"

    # --- costs

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """A PIC18's hex file holds more than code, which a loader does not write."""
        if part.core != "pic18":
            return image, ()
        image, notes = code_only(image, part.flash.end, int(part.extra.get("config_bytes", 0)))
        return image, notes

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        return memory.layout[0][1]

    @classmethod
    def read_block(cls, memory: Memory) -> int:
        return memory.block or _USUAL_ANSWER

    @classmethod
    def writes_whole_blocks(cls, memory: Memory) -> bool:
        return True

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(-(-_FRAME_BYTES * size // _USUAL_DATA) + size)

    @classmethod
    def cost_of_verify(cls, part: Part, memory: Memory, spans: Sequence[Span]) -> Cost:
        size = sum(span.size for span in spans)
        return Cost(_FRAME_BYTES, _ANSWER_BYTES + 4, 1, size * _USUAL_SUM_S)
