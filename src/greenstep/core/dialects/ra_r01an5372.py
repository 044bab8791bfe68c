"""`ra-r01an5372`: the boot firmware in the ROM of Renesas' RA (R01AN5372, "Standard boot firmware").

Commands and data are packets with a length, a sum and an end mark. It is asked at 9600 baud and goes to the rate that
it is told. Areas, erase and write units come from the chip. The option-setting memory can lock the part for good:
what an image has there is left out, and what it has in the area of the security settings is looked at.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import pairwise
from typing import Any, ClassVar

from ..chips.part import DATA_FLASH, EraseUnit, Memory, Part
from ..errors import RefusedFault
from ..image import Image
from ..link import Deadline, Link
from ..quantities import count, show_address, show_bytes, show_size
from ..spans import Span, merged, shared, total, without
from .abilities import PROOF_BYTES, ChangesRate, Checksums, ProvesRate
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .framing import Framing, Opened, headed
from .line import drain, read_exactly, refuse_text
from .ra_packets import COMMAND, DATA, END, STATUSES, Area, Command, packet
from .results import Examination, Fitted, Identity, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, Setting, Spec, Starting
from .ways import in_runs, prove_by_readings

_KINDS = {0xC0: RefusalKind.UNSUPPORTED, 0xC3: RefusalKind.UNSUPPORTED, 0xD0: RefusalKind.BAD_ADDRESS}
_KINDS |= dict.fromkeys((0xDA, 0xDB, 0xDC), RefusalKind.LOCKED)
_DAMAGED, _NOT_THIS_RATE = (0xC1, 0xC2), 0xD4
_BOOT_CODES = (0xC3, 0xC6)
_DATA_BYTES, _MOST_UNITS, _LONGEST_CRC_S = 1024, 16, 2e-6
_QUIET_S, _TRIES, _PROOF_READ, _FIRST_BAUD = 0.03, 4, 14, 9600
_FLASH, _DATA_KINDS = 0, (0x01, 0x10)
"""Kinds of area: the program's; data flash, and data flash of parts with TrustZone."""
_SECURITY = Span(0x408, 0x43C)
"""RA4M1, RA2: security MPU settings in the program area; all FF leaves it off."""


def _opened(sent: bytes) -> Opened:
    """A packet with data goes on from the address of the command before it."""
    opened = headed(sent, b"\x01\x81", 3, 2)
    return (*opened[:2], "data") if opened is not None and sent.lstrip(b"\x00")[0] == 0x81 else opened


def _answered(command: Command, sent: bytes, heard: bytes) -> str:
    """The status of a packet that says that it failed, for a recording."""
    return STATUSES.get(heard[4], show_bytes(heard, 8)) if len(heard) > 4 and heard[3] & 0x80 else ""


class RaR01An5372(Dialect, ChangesRate, Checksums, ProvesRate):
    """The conversation with one chip."""

    name: ClassVar[str] = "ra-r01an5372"
    title: ClassVar[str] = "RA boot firmware"
    document: ClassVar[str] = "Renesas R01AN5372"
    decoder: ClassVar[Framing] = Framing(Command, _opened, "big", answered=_answered)
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=b"\x00",
            attempts=(Attempt(0.05, 2), Attempt(0.2, 2), Attempt(0.6, 2)),
            wait_s=0.2,
            order=28,
            measures_rate=True,
            at_baud=_FIRST_BAUD,
        ),
        erasing=Erasing.BY_UNIT,
        starting=Starting.RESET,
        erases_alone=True,
        guards_writes=True,
        gives_up=False,
        tells_chip=False,
        start_answers=False,
        settings=(
            Setting("id", "text", "", "the id code of the chip, 32 digits; FF in all bytes if it was never set"),
        ),
        costs=Costs(
            block=_DATA_BYTES,
            read=CostRow(14, 6),
            erase=CostRow(14, 7, units=_MOST_UNITS),
            prove=CostRow(14, 10, byte_s=_LONGEST_CRC_S / 4),
        ),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._met_as = self._most_baud = 0
        self._inverted: bool | None = None

    # --- packets

    def _hear(self, command: Command, longest_s: float) -> bytes:
        """The data behind the code of a data packet. Raises DialectError."""
        waiting_for = f"answer to '{command.words}'"
        wait_s = self.patience_s + longest_s
        deadline = Deadline.after(self.link, wait_s)
        heard = b""
        while not heard.endswith(bytes([DATA])):
            heard += self.link.read(1, deadline.left_s)
            if deadline.over or len(heard) > 16:
                raise Unexpected(waiting_for, heard) if heard else Silence(waiting_for, wait_s)
        size = int.from_bytes(read_exactly(self.link, 2, max(deadline.left_s, 0.1), waiting_for), "big")
        if not 0 < size <= _DATA_BYTES + 1:
            raise Unexpected(waiting_for, size.to_bytes(2, "big") + drain(self.link, _QUIET_S))
        rest_s = self.link.settings.seconds(size + 2) + max(deadline.left_s, 0.1)
        rest = read_exactly(self.link, size + 2, rest_s, waiting_for)
        if rest[-1] != END or (sum(rest[:-1]) + sum(size.to_bytes(2, "big"))) & 0xFF:
            raise Unexpected(waiting_for, rest[:40])
        code, data = rest[0], rest[1:-2]
        if code == command | 0x80:
            status = data[0] if data else 0
            if status in _DAMAGED:
                raise Unexpected(waiting_for, rest)
            kind = _KINDS.get(status, RefusalKind.BAD_DATA)
            raise ChipRefusal(
                command.words, kind, rest[:2], None, f"{status:02X}, {STATUSES.get(status, 'not known')},"
            )
        if code != command:
            raise Unexpected(waiting_for, rest[:40])
        return data

    def _request(self, command: Command, data: bytes = b"", longest_s: float = 0.0, answer: int = 1) -> bytes:
        """One command and its answer."""
        self.link.discard()
        sent = packet(COMMAND, command, data)
        self.link.write(sent)
        return self._hear(command, self.link.settings.seconds(len(sent) + answer + 6) + longest_s)

    def _with_retry(self, command: Command, data: bytes = b"", longest_s: float = 0.0, answer: int = 1) -> bytes:
        """The same where it may be repeated."""
        return self.exchange(lambda: self._request(command, data, longest_s, answer), self._recover, _TRIES)

    def _recover(self, heard: bytes) -> None:
        """Complete half a packet with zeros, which begin none; then an inquiry must be answered. Raises Silence."""
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for attempt in range(_TRIES):
            self.link.write(bytes(_DATA_BYTES + 8))
            drain(self.link, self.link.settings.seconds(_DATA_BYTES + 8) + 2 * _QUIET_S)
            try:
                self._request(Command.INQUIRY)
                return
            except ChipRefusal:
                return
            except (Silence, Unexpected):
                if attempt == _TRIES - 1:
                    raise

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Zeros until one comes back, then 55. An echo would send that back. What is heard and is none comes from a
        program: then nothing is waited for that may be late."""
        briefly_s, wait_s = wait_s, self.probe_timeout(wait_s) or self.patience_s
        self.link.discard()
        for _ in range(3):
            self.link.write(b"\x00")
            heard = self.link.read(1, wait_s / 2)
            if heard == b"\x00":
                break
            if heard:
                wait_s = min(wait_s, briefly_s)
        else:
            return self._inquired(wait_s)
        drain(self.link, _QUIET_S, 0.2)
        self.link.write(b"\x55")
        heard = self.link.read(1, wait_s)
        if heard and heard[0] in _BOOT_CODES:
            return f"00 to 00, {heard[0]:02X} to 55"
        drain(self.link, _QUIET_S, wait_s)
        return None

    def _inquired(self, wait_s: float) -> str | None:
        """A firmware that was asked before answers to commands only."""
        if self.asked % 2:
            return None
        try:
            with self.waiting(wait_s):
                self._request(Command.INQUIRY)
        except (Silence, Unexpected, ChipRefusal):
            return None
        return "00 to an inquiry"

    def identify(self) -> Identity:
        """Clocks and the number of areas. A chip with an id code wants that first."""
        try:
            told = self._with_retry(Command.SIGNATURE, answer=48)
        except ChipRefusal as refusal:
            if refusal.answer[1:2] != b"\xc3":
                raise
            self._authenticate()
            told = self._with_retry(Command.SIGNATURE, answer=48)
        self._met_as = told[8] if len(told) > 8 else 0
        most = self._most_baud = int.from_bytes(told[4:8], "big")
        name = bytes(byte for byte in told[24:40] if 32 < byte < 127).decode("ascii")
        details = (("product", name),) if name else ()
        return Identity(None, f"{self._met_as} areas, up to {most} baud", details)

    def _authenticate(self) -> None:
        """Raises RefusedFault if the setting is no id code; ChipRefusal if it is not the chip's."""
        text = str(self.setting("id")).replace(" ", "")
        try:
            code = bytes.fromhex(text) if text else b"\xff" * 16
        except ValueError:
            code = b""
        if len(code) != 16:
            raise RefusedFault.of("setting", "the id code is not 32 hexadecimal digits", (text,), ("--set id=…",))
        self._with_retry(Command.AUTHENTICATE, code)

    def examine(self, part: Part) -> Examination:
        """The code flash as the chip describes it, and how it computes its CRC."""
        areas = [area for number in range(self._met_as) if (area := self._area(number)) is not None]
        code = sorted((area for area in areas if area.kind == _FLASH), key=lambda area: area.start)
        part = _with_flash(part, code)
        own = sorted((area for area in areas if area.kind in _DATA_KINDS), key=lambda area: area.start)
        if own:
            part = _with_data_flash(part, own[0])
        self.examined_part = part
        self._calibrate(part.flash)
        data = sum(area.end + 1 - area.start for area in own)
        details = [("flash", show_size(part.flash.size))] + ([("data flash", show_size(data))] if data else [])
        return Examination(part, tuple(details))

    def _area(self, number: int) -> Area | None:
        told = self._with_retry(Command.AREA, bytes([number]), answer=32)
        if len(told) < 17:
            return None
        words = [int.from_bytes(told[at : at + 4], "big") for at in range(1, 17, 4)]
        return Area(told[0], *words)

    def _calibrate(self, flash: Memory) -> None:
        """Which CRC-32 it is, the document does not say here: what is read shows it, once; else it is not used."""
        try:
            told = int.from_bytes(self._crc(flash.start, 64), "big")
        except ChipRefusal:
            return
        held = zlib.crc32(self.read(flash, flash.start, 64))
        self._inverted = {held: True, held ^ 0xFFFFFFFF: False}.get(told)
        if self._inverted is False:
            self.learned.append("its CRC-32 is not inverted at the end")

    def offers_rate(self, baud: int) -> bool:
        """None above the highest that it has told, unless that makes no sense."""
        return baud <= self._most_baud or self._most_baud < _FIRST_BAUD

    def move_to_rate(self, part: Part, baud: int) -> None:
        try:
            self._with_retry(Command.BAUD, baud.to_bytes(4, "big"))
        except ChipRefusal as refusal:
            if refusal.answer[1:2] == bytes([_NOT_THIS_RATE]):
                return
            raise
        self.link.configure(replace(self.link.settings, baud=baud))
        self.link.sleep(0.001)
        self._with_retry(Command.INQUIRY)

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        flash = part.flash
        prove_by_readings(lambda address: self.read(flash, address, _PROOF_READ), flash.start, _PROOF_READ, size)

    # --- memory

    @staticmethod
    def _range(address: int, size: int) -> bytes:
        return address.to_bytes(4, "big") + (address + size - 1).to_bytes(4, "big")

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        data = self._with_retry(Command.READ, self._range(address, size), answer=size)
        if len(data) != size:
            raise Unexpected(f"{size} bytes", data[:40])
        return data

    def _crc(self, address: int, size: int) -> bytes:
        return self._with_retry(Command.CRC, self._range(address, size), size * _LONGEST_CRC_S, 4)

    def can_checksum(self) -> bool:
        return self._inverted is not None

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        if not memory.is_flash:  # whether it sums data flash the document does not say
            at = range(0, len(data), _DATA_BYTES)
            return all(
                self.read(memory, address + n, min(_DATA_BYTES, len(data) - n)) == data[n : n + _DATA_BYTES]
                for n in at
            )
        wanted = zlib.crc32(data) ^ (0 if self._inverted else 0xFFFFFFFF)
        return self._crc(address, len(data)) == wanted.to_bytes(4, "big")

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Runs of blocks."""
        done = 0
        for run in in_runs(units, _MOST_UNITS):
            longest_s = sum(memory.erase_time(unit.size).longest_s for unit in run)
            self._with_retry(Command.ERASE, self._range(run[0].address, run[-1].end - run[0].address), longest_s)
            done += len(run)
            yield done

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """Rows of blocks, each announced once."""
        waiting, tries = list(blocks), 0
        while waiting:
            try:
                for block in self._write_run(memory, self._run_of(waiting)):
                    waiting.pop(0)
                    tries = 0
                    yield block
            except (Silence, Unexpected) as error:
                tries += 1
                if tries == _TRIES or self.fail_fast:
                    raise
                self.retries += 1
                self._recover(error.heard)
                if self._written(memory, waiting[0]):
                    yield waiting.pop(0)

    @staticmethod
    def _run_of(blocks: Sequence[WriteBlock]) -> list[WriteBlock]:
        """The first blocks, as long as they follow each other; only the last may be shorter than a packet."""
        run = [blocks[0]]
        for before, block in pairwise(blocks):
            if len(before.data) < _DATA_BYTES or before.address + _DATA_BYTES != block.address:
                break
            run.append(block)
        return run

    def _write_run(self, memory: Memory, run: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        self._request(
            Command.WRITE, self._range(run[0].address, run[-1].address + len(run[-1].data) - run[0].address)
        )
        for block in run:
            sent = packet(DATA, Command.WRITE, block.data)
            self.link.write(sent)
            busy_s = 4 * memory.program_s * -(-len(block.data) // memory.write_unit)
            self._hear(Command.WRITE, self.link.settings.seconds(len(sent) + 7) + busy_s)
            yield block

    def _written(self, memory: Memory, block: WriteBlock) -> bool:
        """Whether it was written though its answer was lost: what is programmed must not be programmed again."""
        return self.read(memory, block.address, len(block.data)) == block.data

    def start(self, address: int) -> str:
        """It has no command that starts a program: only a reset with its pin high does."""
        return ""

    # --- images

    @classmethod
    def fit(
        cls, part: Part, images: dict[str, Image], settings: Mapping[str, Any], even_if: frozenset[str]
    ) -> Fitted:
        """Leaves the option-setting memory out, and refuses security settings. Raises RefusedFault."""
        image = images.get("flash")
        if image is None:
            return Fitted(images)
        notes = []
        outside = Span.of(*part.extra["options"])
        left_out = merged(shared([piece.span for piece in image.pieces], [outside]))
        if left_out:
            where = f"{', '.join(map(str, left_out))}, {count(total(left_out), 'byte')}"
            notes.append(f"left out: {where} of option-setting memory, which can lock the part for good")
        data = [memory for memory in part.memories if memory.name == DATA_FLASH]
        places = [outside, *(memory.span for memory in data)]
        kept = (piece.part(span) for piece in image.pieces for span in without([piece.span], places))
        image, whole = replace(image, pieces=tuple(kept)), image
        apart = tuple(
            piece.part(span)
            for memory in data
            for piece in whole.pieces
            for span in shared([piece.span], [memory.span])
        )
        held = image.cut(_SECURITY.start, _SECURITY.size, 0xFF)
        if part.extra.get("security_area") and held.strip(b"\xff"):
            if not {"protection", "lock-out"} <= even_if:
                raise RefusedFault.of(
                    "would-lock",
                    f"{image.name} would lock you out for good: it has security settings",
                    (f"at {show_address(_SECURITY.start)} stands {held[:16].hex(' ').upper()}",),
                    ("build it without them", "if you mean it: --even-if protection --even-if lock-out"),
                )
            notes.append("the image has security settings: written anyway")
        fitted = {**images, "flash": image}
        if apart:
            fitted[DATA_FLASH] = replace(image, pieces=apart)
            notes.append(f"data flash: {', '.join(str(piece.span) for piece in apart)}")
            if not image.pieces:
                del fitted["flash"]
        return Fitted(fitted, tuple(notes))

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(14 + 6 + size, 14, 2, memory.program_s * -(-size // memory.write_unit))


def _with_flash(part: Part, areas: Sequence[Area]) -> Part:
    """The part with the code flash that the chip describes. Raises RefusedFault if it cannot be its own."""
    flash = part.flash
    known = [area for area in areas if area.erase in flash.erase_times and area.end >= area.start]
    if not areas:
        return part
    size = sum(area.end + 1 - area.start for area in known)
    if len(known) < len(areas) or areas[0].start != flash.start or size > flash.size:
        shown = "; ".join(
            f"{show_address(a.start)}-{show_address(a.end)} in blocks of {show_size(a.erase)}" for a in areas
        )
        raise RefusedFault.of(
            "other-chip", f"another chip than declared: its flash is not that of the {part.title}", (shown,),
            ("is --chip right? `greenstep chips ra-r01an5372` lists the parts",),
        )  # fmt: skip
    layout = tuple(((area.end + 1 - area.start) // area.erase, area.erase) for area in known)
    unit = max(area.write for area in known)
    per_byte = flash.program_s / flash.write_unit
    sized = replace(flash, layout=layout, write_unit=max(1, unit), program_s=per_byte * max(1, unit))
    return replace(part.with_memory(sized), size_known=True)


def _with_data_flash(part: Part, area: Area) -> Part:
    """The part with the data flash that the chip describes, where that differs from the record's."""
    memory = next((one for one in part.memories if one.name == DATA_FLASH), None)
    if memory is None or not area.erase or area.erase not in memory.erase_times:
        return part
    layout = (((area.end + 1 - area.start) // area.erase, area.erase),)
    return part.with_memory(replace(memory, start=area.start, layout=layout, write_unit=max(1, area.write)))
