"""`pic-ds40001779`: the unified bootloader of Microchip's 8-bit parts of now (DS40001779), at the start of a flash.

A request is 55, a command, a length, a key where something is changed, an address, and data; nothing guards it but
that key. The answer begins with what the loader took the request for: so a damaged one shows, afterwards. What it was
taken for is then looked at: if the right row was not changed, another one was, and that is not green.

The first row is erased first and written last: while it is blank, the loader stays.

A PIC16 is addressed in words of 14 bits; lengths are in bytes all the same, two to a word. Here addresses are those
of its hex file, two to a word, and they are halved and doubled at the line (core/families/pic16.py).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..errors import RefusedFault
from ..families.pic16 import are_words_of_14_bits, as_in_chip, blank_as_ff, code_of_words, no_words
from ..families.pic18 import code_only
from ..image import Image
from ..link import Link
from ..quantities import show_address, show_bytes, show_size
from ..spans import Span
from .abilities import PROOF_BYTES, ChecksBackup, ProvesRate, TakesOver, Witnesses
from .dialect import Dialect
from .errors import ChipRefusal, DialectError, RefusalKind, Silence, Unexpected, UnexpectedErase
from .framing import Framing, Opened
from .line import drain, refuse_text
from .results import Examination, Identity, OneFitted, WriteBlock, refuse_another
from .spec import Asking, Attempt, CostRow, Costs, Erasing, ProtocolCommand, Setting, Spec, Starting
from .ways import prove_by_readings

START = 0x55
_EIGHT_BITS = 0xA5
"""An address that means nothing to this request: its echo shows whether all eight bits arrive."""
_KEY, _NO_KEY = b"\x55\xaa", b"\x00\x00"
_HEAD_BYTES, _VERSION_BYTES = 10, 16
_KEY_AT, _KEY_END = 4, 6
_DONE, _RANGE, _UNSUPPORTED = 0x01, 0xFE, 0xFF
STATUSES = {_DONE: "ok", _RANGE: "address out of range", _UNSUPPORTED: "not supported"}
_READ_BYTES, _PROOF_READ, _MOST_FILLER = 64, 8, 80
_QUIET_S, _TRIES, _OFFSET, _LOOKED_THROUGH, _FAR_ONE_IN = 0.03, 4, 0x400, 4096, 32


class Command(ProtocolCommand):
    """DS40001779, "Commands"."""

    VERSION = 0, "version"
    READ_FLASH = 1, "read flash", "size:2 address:4 data"
    WRITE_FLASH = 2, "write flash", "size:2 address:4 data"
    ERASE_FLASH = 3, "erase flash", "rows:2 at:4"
    READ_EEPROM = 4, "read EEPROM", "size:2 at:4"
    WRITE_EEPROM = 5, "write EEPROM", "size:2 at:4"
    READ_CONFIG = 6, "read configuration", "size:2 at:4"
    WRITE_CONFIG = 7, "write configuration", "size:2 at:4"
    CHECKSUM = 8, "checksum", "size:2 at:4"
    RESET = 9, "reset"


def _opened(sent: bytes) -> Opened:
    return (sent[1], sent[2:4] + sent[6:10]) if len(sent) >= 10 and sent[0] == 0x55 else None


def _answered(command: Command, sent: bytes, heard: bytes) -> str:
    """An answer begins with the request as it was understood; writing and erasing end with a status."""
    if heard[:10] != sent[:10]:
        return f"taken for {show_bytes(heard, 10)}"
    failed = command in (Command.WRITE_FLASH, Command.ERASE_FLASH) and heard[-1] != 1
    return STATUSES.get(heard[-1], show_bytes(heard[-1:])) if failed else ""


class PicDs40001779(Dialect, ChecksBackup, ProvesRate, TakesOver, Witnesses):
    """The conversation with one chip."""

    name: ClassVar[str] = "pic-ds40001779"
    title: ClassVar[str] = "PIC16 and PIC18 unified bootloader"
    document: ClassVar[str] = "Microchip DS40001779"
    decoder: ClassVar[Framing] = Framing(Command, _opened, digits=6, answered=_answered)
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=bytes([START, 0, 0, 0, 0, 0, _EIGHT_BITS, 0, 0, 0]),
            sounds=(rb"U{10}\xff.*",),  # a request of nothing but 55, as another's question may be, and its refusal
            attempts=(Attempt(0.05, 3), Attempt(0.2, 3), Attempt(0.6, 4)),
            wait_s=0.15,
            order=33,
            usb_vendor_id="04D8",
            measures_rate=True,
        ),
        erasing=Erasing.BY_UNIT,
        starting=Starting.RESET,
        start_answers=False,
        erases_alone=True,
        guards_writes=False,
        gives_up=True,
        erases_unguarded=True,
        tells_chip=False,
        settings=(
            Setting("offset", "number", _OFFSET, "where the program begins, as the loader was built; PIC16: a word"),
        ),
        costs=Costs(
            read_block=_READ_BYTES,
            write=CostRow(_HEAD_BYTES, _HEAD_BYTES + 1),
            read=CostRow(_HEAD_BYTES, _HEAD_BYTES),
            erase=CostRow(_HEAD_BYTES, _HEAD_BYTES + 1),
        ),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._version = b""
        self._unsure: tuple[Memory, EraseUnit | WriteBlock, Unexpected] | None = None
        """A change whose answer was that to another, or was damaged: which of the two is not known yet."""

    @property
    def _in_words(self) -> bool:
        return self.examined_part is not None and self.examined_part.core == "pic16"

    def _on_the_line(self, address: int) -> int:
        """An address as the loader counts it."""
        return address // 2 if self._in_words else address

    # --- requests

    @staticmethod
    def _head(command: Command, length: int, address: int, changes: bool) -> bytes:
        key = _KEY if changes else _NO_KEY
        return bytes([START, command]) + length.to_bytes(2, "little") + key + address.to_bytes(4, "little")

    def _said(self, head: bytes, data: bytes, size: int, longest_s: float = 0.0) -> tuple[bytes, bytes]:
        """What a request was taken for, and so many bytes behind that. Raises Silence, Unexpected."""
        command = Command.of(head[1])
        self.link.discard()
        self.link.write(head + data)
        wait_s = self.link.settings.seconds(len(head) + len(data) + _HEAD_BYTES + size) + self.patience_s + longest_s
        heard = self.link.read(_HEAD_BYTES + size, wait_s)
        if len(heard) < _HEAD_BYTES + size:
            if heard[:1] == bytes([START]) or not heard:
                raise Silence(f"answer to '{command.words}'", wait_s, heard)
            raise Unexpected(f"answer to '{command.words}'", heard + drain(self.link, _QUIET_S))
        return heard[:_HEAD_BYTES], heard[_HEAD_BYTES:]

    def _asked(self, command: Command, length: int, address: int, size: int) -> bytes:
        """What changes nothing, so that it may be repeated."""
        head = self._head(command, length, address, False)

        def once() -> bytes:
            taken, found = self._said(head, b"", size)
            if taken != head:
                raise Unexpected(f"answer to '{command.words}'", taken + found[:30])
            return found

        return self.exchange(once, self._recover, _TRIES)

    def _recover(self, heard: bytes) -> None:
        """Complete half a request by FF, which makes an address that no part has; then it must tell its version.
        Raises DialectError."""
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for attempt in range(_TRIES):
            self.link.write(b"\xff" * _MOST_FILLER)
            drain(self.link, self.link.settings.seconds(_MOST_FILLER) + 2 * _QUIET_S)
            head = self._head(Command.VERSION, 0, _EIGHT_BITS, False)
            try:
                taken, found = self._said(head, b"", _VERSION_BYTES)
            except (Silence, Unexpected):
                if attempt == _TRIES - 1:
                    raise
                continue
            if taken == head and found == self._version:
                return
        raise Unexpected("its version", b"")

    def _change(self, command: Command, length: int, address: int, data: bytes, longest_s: float) -> None:
        """A request that erases or writes, once. Raises ChipRefusal if it was not done; Unexpected if it was taken
        for another, or damaged on its way back."""
        head = self._head(command, length, address, True)
        taken, status = self._said(head, data, 1, longest_s)
        refused = status[0] in STATUSES and status[0] != _DONE
        if taken != head and taken[:_KEY_AT] + taken[_KEY_END:] == head[:_KEY_AT] + head[_KEY_END:]:
            raise _WrongKey(f"{show_bytes(head)} again", taken + status)  # without its key nothing is done
        if taken != head and not refused:
            raise Unexpected(f"{show_bytes(head)} again", taken + status)
        if status[0] != _DONE:
            kind = RefusalKind.BAD_ADDRESS if status[0] == _RANGE else RefusalKind.UNSUPPORTED
            said = f"{status[0]:02X}, {STATUSES.get(status[0], 'not known')},"
            raise ChipRefusal(command.words, kind, status, address, said)

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Its version, whose answer is longer than an echo."""
        self.link.discard()
        head = self._head(Command.VERSION, 0, _EIGHT_BITS, False)
        self.link.write(head)
        heard = self.link.read(_HEAD_BYTES + _VERSION_BYTES, wait_s + self.link.settings.seconds(36))
        if len(heard) == _HEAD_BYTES + _VERSION_BYTES and heard.startswith(head):
            self._version = heard[_HEAD_BYTES:]
            return f"version {self._version[1]}.{self._version[0]}"
        drain(self.link, _QUIET_S, wait_s)
        return None

    def identify(self) -> Identity:
        """Version and device id; in which order the rest stands is not sure, and it is only shown."""
        self._version = self._asked(Command.VERSION, 0, _EIGHT_BITS, _VERSION_BYTES)
        version = f"{self._version[1]}.{self._version[0]}"
        device = int.from_bytes(self._version[6:8], "little")
        details = (("loader", version), ("device id", f"{device:04X}"), ("told", self._version.hex(" ").upper()))
        return Identity(None, f"unified bootloader {version}", details)

    def examine(self, part: Part) -> Examination:
        self.examined_part = part
        told = int.from_bytes(self._version[6:8], "little")
        refuse_another(part, self.name, told, self.also_accepts)
        self._refuse_other_words(part)
        return Examination(part, (("flash", show_size(part.flash.size)),))

    def _refuse_other_words(self, part: Part) -> None:
        """A PIC16 and a PIC18 count addresses differently, and not every loader's device id is known. The loader's
        own code, at 0, shows which it is. Raises RefusedFault."""
        for _ in range(2):  # a reading has no check of its own
            try:
                code = self._asked(Command.READ_FLASH, _READ_BYTES, 0, _READ_BYTES)
            except DialectError:  # one that does not show itself: what it tells must do
                return
            found = are_words_of_14_bits(code)
            if found is None or found == self._in_words:
                return
        kind = "a PIC16: its words have 14 bits" if found else "no PIC16: its words have 16 bits"
        raise RefusedFault.of(
            "other-chip",
            f"the chip is another one, {kind}, and {part.title} was declared",
            (f"its loader begins with {show_bytes(code[:8])}",),
            (f"read what is printed on the chip, and name that: greenstep chips {'pic16' if found else 'pic18'}",),
            "certain",
        )

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        flash = part.flash
        prove_by_readings(
            lambda address: self.read(flash, address, _PROOF_READ), flash.usable_start, _PROOF_READ, size
        )

    def why_not_writable(self, memory: Memory) -> str:
        return "" if memory.is_flash else "at which addresses this loader has the EEPROM is not known here"

    # --- memory

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        if not self._in_words:
            return self._asked(Command.READ_FLASH, size, address, size)
        start, end = address & ~1, (address + size + 1) & ~1
        heard = self._asked(Command.READ_FLASH, end - start, start // 2, end - start)
        return blank_as_ff(heard)[address - start :][:size]

    def witnesses(self, memory: Memory, gaps: Sequence[Span]) -> Sequence[Span]:
        """The first row in each gap that is not blank: a damaged count of rows would have erased it too. Of what is
        farther away, one row in so many is looked at."""
        found = []
        for gap in gaps:
            every = list(gap.pieces(_READ_BYTES))
            near = _LOOKED_THROUGH // _READ_BYTES
            rows = (*every[:near], *every[near::_FAR_ONE_IN])
            row = next((row for row in rows if self.read(memory, row.start, row.size).strip(b"\xff")), None)
            if row is not None:
                found.append(row)
        return found

    def shown_of(self, memory: Memory, place: Span) -> bytes:
        """Nothing guards a reading: it counts when it comes out the same twice."""
        shown = self.read(memory, place.start, place.size)
        for _ in range(_TRIES):
            again = self.read(memory, place.start, place.size)
            if again == shown:
                break
            shown = again
        return shown

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Row by row, the program's first one first."""
        for done, unit in enumerate(units, 1):
            self._erase(memory, unit)
            yield done

    def _erase(self, memory: Memory, unit: EraseUnit) -> None:
        longest_s = memory.erase_time(unit.size).longest_s
        for attempt in range(_TRIES):
            try:
                self._change(Command.ERASE_FLASH, 1, self._on_the_line(unit.address), b"", longest_s)
                return
            except _WrongKey as error:
                self._once_more(attempt, error)
            except Unexpected as error:
                self._unsure = memory, unit, error
                self._once_more(attempt, error)
                self._look_whether_here()
                return
            except (Silence, ChipRefusal) as error:
                self._once_more(attempt, error)

    def _once_more(self, attempt: int, error: Silence | Unexpected | ChipRefusal) -> None:
        if attempt == _TRIES - 1 or self.fail_fast:
            raise error
        self.retries += 1
        self._recover(b"" if isinstance(error, ChipRefusal) else error.heard)

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        first = [block for block in blocks if block.address == memory.usable_start]
        for block in (*(block for block in blocks if block not in first), *first):
            self._write(memory, block)
            yield block

    def _write(self, memory: Memory, block: WriteBlock) -> None:
        longest_s = 4 * memory.program_s * len(block.data) / memory.write_unit
        at, data = self._on_the_line(block.address), as_in_chip(block.data) if self._in_words else block.data
        for attempt in range(_TRIES):
            try:
                self._change(Command.WRITE_FLASH, len(data), at, data, longest_s)
                return
            except (Silence, Unexpected, ChipRefusal) as error:
                elsewhere = isinstance(error, Unexpected) and not isinstance(error, _WrongKey)
                self._unsure = (memory, block, error) if elsewhere else None  # type: ignore[assignment]
                self._once_more(attempt, error)
                self._look_whether_here()
                there = self.read(memory, block.address, len(block.data))
                if there == block.data:
                    return
                if there.strip(b"\xff"):  # it was written with damaged data
                    for unit in memory.units_touched(block.address, len(block.data)):
                        self._erase(memory, unit)

    def _look_whether_here(self) -> None:
        """Whether a change whose answer was like another's was made where it was meant. Raises ErasedUnasked."""
        if self._unsure is None:
            return
        memory, place, error = self._unsure
        if isinstance(place, EraseUnit):
            elsewhere, verb = self._erased_elsewhere(memory, place, error.heard), "erase"
        else:
            there, blank = self.shown_of(memory, place.span), bytes([memory.erased]) * len(place.data)
            elsewhere, verb = there == blank != place.data, "write"
        self._unsure = None
        if elsewhere:
            raise UnexpectedErase(f"a request to {verb} {show_address(place.address)} was taken for another: {error}")

    def _erased_elsewhere(self, memory: Memory, unit: EraseUnit, told: bytes) -> bool:
        """Whether the rows that an answer names may have been erased rather than this one, which may have been blank
        before: they are blank, and are not this one. A row that there is not would have been refused."""
        blank = bytes([memory.erased]) * unit.size
        if self.shown_of(memory, unit.span) != blank:
            return True
        rows, at = int.from_bytes(told[2:4], "little"), int.from_bytes(told[6:10], "little")
        at *= 2 if self._in_words else 1
        if at == unit.address:
            at = unit.end if rows != 1 else memory.end
        at -= at % unit.size
        return memory.start <= at < memory.end and self.shown_of(memory, Span.of(at, unit.size)) == blank

    def take_over(self, before: Dialect) -> None:
        if isinstance(before, type(self)):
            self._unsure, self.examined_part = before._unsure, self.examined_part or before.examined_part
            self._look_whether_here()

    def start(self, address: int) -> str:
        self._change(Command.RESET, 0, 0, b"", 0.0)
        return f"{_DONE:02X} to reset"

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """Code only, and nothing below where the program begins. Raises RefusedFault."""
        words = part.core == "pic16"
        if words:
            image, notes = code_of_words(image)
        else:
            image, notes = code_only(image, part.flash.end, int(part.extra.get("config_bytes", 0)))
        offset = int(settings.get("offset", _OFFSET))
        begins = 2 * offset if words else offset
        if image.pieces and image.lowest < begins:
            where = (
                f"word {show_address(offset)}, {show_address(begins)} in the file" if words else show_address(begins)
            )
            raise RefusedFault.of(
                "hits-bootloader",
                f"{image.name} has code where the bootloader is: below {where}",
                (f"it begins at {show_address(image.lowest)}",),
                (f"build it for {where}", "--set offset=… if the loader was built for another place"),
            )
        if words:
            _refuse_no_words(image)
        return image, notes

    @classmethod
    def check_backup(cls, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> None:
        """A PIC16's backup has FFFF for a blank word; with 3FFF it is a compiler's file."""
        image = images.get("flash")
        if image is None or part.core != "pic16":
            return
        _refuse_no_words(image)
        if code_of_words(image)[0].pieces != image.pieces:
            raise RefusedFault.of(
                "vectors",
                f"{image.name} was not read from a PIC16 by this tool",
                ("blank words are 3FFF in it, or it has more than code",),
                ("greenstep upload writes it",),
            )

    # --- costs

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        return memory.layout[0][1] if memory.is_flash else 1

    @classmethod
    def writes_whole_blocks(cls, memory: Memory) -> bool:
        return memory.is_flash


def _refuse_no_words(image: Image) -> None:
    why, where = no_words(image)
    if why:
        tries = ("is it the image for this chip?",)
        raise RefusedFault.of("vectors", f"{image.name} is no program of a PIC16: {why}", (where,), tries)


class _WrongKey(Unexpected):
    """The request came back with another key: erased or written was nothing."""
