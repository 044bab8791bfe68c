"""`ti-swra466`: the loader in the ROM of TI's radio chips: CC13xx and CC26xx (SWRA466), CC2538 (SWRU333).

They differ in how memory is read and erased, and each refuses the other's way: so it shows which of them answers. The
number of sectors, which the chip tells, shows which generation. Every packet carries a sum, everything can be read
back, and the chip computes CRC-32 over any range.

The image itself decides whether this loader can ever be entered again: by its configuration area at the end of the
flash. One that shuts it off is refused.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import partial
from itertools import pairwise
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..errors import RefusedFault
from ..image import Image
from ..link import Link
from ..quantities import show_address, show_size
from ..spans import Span
from .abilities import PROOF_BYTES, Checksums, ProvesRate, WritesAlong
from .errors import ChipRefusal, DialectError, Silence, Unexpected
from .framing import Framing
from .results import Examination, Identity, OneFitted, WriteBlock
from .spec import Cost, CostRow, Costs, Erasing, Setting, Spec, Starting
from .ti_packets import DATA_BYTES, FRAMING, NAK, SUCCESS, Command, TiPackets, asking, big, ends_apart
from .ways import prove_by_readings

SECTORS_AT = 0x4003002C
"""CC13xx, CC26xx: FLASH, "FLASH_SIZE": sectors in the low byte."""
_DIE_AT, _DIE = 0x400D3014, 0xB964
"""CC2538: FLASH_CTRL_DIECFG0: the chip's number in the high half, the flash size in bits 6:4."""
_DIE_KIB = {1: 128, 2: 256, 3: 384, 4: 512}
_FLASH_SIZES = tuple(f"{kib}K" for kib in _DIE_KIB.values())
_ADDRESS_AT = 0x500012F0
"""CC13xx, CC26xx: FCFG1, the IEEE address, low word first."""
_READ_BYTES = 252
_CRC_S = 1.0 / (352 * 1024)
"""Seconds a byte: less than 1 s for 352 KiB."""
_PROOF_READ = 8
_MOST_BLOCKS = 63  # so that the low byte of a whole number of packets is never zero
_MOST_PAGES = 16
_CCFG_BYTES, _FIRST_SECTORS = 88, 0x20
_PROGRAM_LONGEST_S = 0.1


class TiSwra466(TiPackets, Checksums, ProvesRate, WritesAlong):
    """The conversation with one chip."""

    name: ClassVar[str] = "ti-swra466"
    title: ClassVar[str] = "TI radio chips' ROM loader"
    document: ClassVar[str] = "TI SWRA466, SWRU333"
    decoder: ClassVar[Framing] = FRAMING
    spec: ClassVar[Spec] = Spec(
        asking=asking(22),
        erasing=Erasing.BY_UNIT,
        starting=Starting.RESET,
        start_answers=False,
        erases_alone=True,
        guards_writes=True,
        gives_up=False,
        settings=(
            Setting(
                "flash-size",
                "text",
                "auto",
                "CC2538: size of the flash, where the chip does not tell it",
                ("auto", *_FLASH_SIZES),
            ),
        ),
        costs=Costs(
            block=DATA_BYTES,
            read_block=_READ_BYTES,
            write=CostRow(3, 2),
            erase=CostRow(12, 7, 2),
            prove=CostRow(17, 8, byte_s=_CRC_S),
        ),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._first_kind: bool | None = None
        """Whether it is a CC13xx or CC26xx rather than a CC2538; None before it was asked."""
        self._inverted: bool | None = None
        """Whether its CRC-32 is inverted at the end; None if it agrees with neither way."""
        self._high_first = False
        """Whether the words that it reads come high byte first."""
        self._whole_units = False

    # --- identification

    def is_mine(self) -> bool:
        """A word read in the way of either kind; the other's way is refused. Raises DialectError."""
        for first_kind in (True, False):
            self._first_kind = first_kind
            address, way = (SECTORS_AT, b"\x01\x01") if first_kind else (_DIE_AT, b"\x04")
            try:
                word = self._ask_for(Command.READ, big(address) + way, 4, address)
            except ChipRefusal:
                self._first_kind = None
                continue
            except DialectError:
                self._first_kind = None
                raise
            # the documents do not say in which order a word comes; these two have a side that is known
            self._high_first = not word[0] if first_kind else word[:2] == _DIE.to_bytes(2, "big")
            return True
        return False

    def identify(self) -> Identity:
        """Its own number, and the number of sectors, by which the generation is known."""
        if self._first_kind is None and not self.is_mine():
            raise Unexpected("a chip that reads its memory", b"")
        number = self._with_retry(Command.CHIP_ID, answer=4)
        details = (("chip id", number.hex().upper()),)
        if self._first_kind:
            sectors = self._register(SECTORS_AT) & 0xFF
            return Identity(sectors, f"{sectors} sectors of flash", details)
        die = self._register(_DIE_AT)
        said = f"CC2538, die {die:08X}" if die >> 16 == _DIE else "speaks as a CC2538 does"
        return Identity(_DIE, said, details)

    def examine(self, part: Part) -> Examination:
        """The size of the flash, the address that the chip has in the air, and how it computes its CRC."""
        self.examined_part = part
        self._calibrate(part)
        if self._first_kind:
            low, high = self._register(_ADDRESS_AT), self._register(_ADDRESS_AT + 4)
            return Examination(part, (("flash", show_size(part.flash.size)),), f"{high:08X}{low:08X}")
        die = self._register(_DIE_AT)
        told = str(self.setting("flash-size"))
        if told != "auto":
            size = int(told[:-1]) * 1024
        else:
            size = _DIE_KIB.get(die >> 4 & 7, 0) * 1024 if die >> 16 == _DIE else 0
        if not 0 < size <= part.flash.size:
            return Examination(part)
        self.examined_part = part = replace(part.with_memory(part.flash.resized(size)), size_known=True)
        return Examination(part, (("flash", show_size(size)),))

    def _calibrate(self, part: Part) -> None:
        """The documents do not say whether the CRC is inverted at the end: what is read shows it, once."""
        start, size = part.flash.start, _READ_BYTES
        held = zlib.crc32(self.read(part.flash, start, size))
        try:
            told = self._crc(start, size)
        except ChipRefusal:
            self._inverted = None
            return
        self._inverted = {held: True, held ^ 0xFFFFFFFF: False}.get(told)
        if self._inverted is False:
            self.learned.append("its CRC-32 is not inverted at the end")

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        flash = part.flash
        prove_by_readings(
            lambda address: self.read(flash, address, _PROOF_READ), flash.start, _PROOF_READ, size, _PROOF_READ
        )

    # --- reading

    def _register(self, address: int) -> int:
        """A word. Its low byte is not zero where a register that has a size in it tells the order."""
        return int.from_bytes(self._read_words(address, 1), "big" if self._high_first else "little")

    def _read_words(self, address: int, words: int) -> bytes:
        """Words, from an address that is a multiple of 4, their bytes in the chip's order on the line."""
        if self._first_kind:
            return self._read_once(big(address) + bytes([1, words]), 4 * words, address)
        return b"".join(self._read_once(big(address + 4 * word) + b"\x04", 4, address) for word in range(words))

    def _read_once(self, rest: bytes, size: int, address: int) -> bytes:
        return self._repeat(lambda: self._ask_for(Command.READ, rest, size, address))

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        if self._first_kind:
            return self._read_once(big(address) + bytes([0, size]), size, address)
        start = address & ~3
        words = -(-(address + size - start) // 4)
        data = self._read_words(start, words)
        if self._high_first:
            data = b"".join(data[at : at + 4][::-1] for at in range(0, len(data), 4))
        return data[address - start :][:size]

    # --- checksums

    def can_checksum(self) -> bool:
        return self._inverted is not None

    def _crc(self, address: int, size: int) -> int:
        rest = big(address, size, 0) if self._first_kind else big(address, size)
        busy_s = size * _CRC_S
        return int.from_bytes(self._repeat(lambda: self._ask_for(Command.CRC32, rest, 4, address, busy_s)), "big")

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        wanted = zlib.crc32(data) ^ (0 if self._inverted else 0xFFFFFFFF)
        return self._crc(address, len(data)) == wanted

    # --- erasing and writing

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """The last unit of the flash first, if it is among them: without what is there the ROM takes the flash for
        empty, and its loader stays whatever happens in between."""
        waiting = list(units)
        if waiting and waiting[-1].end == memory.end:
            waiting.insert(0, waiting.pop())
        done = 0
        for run in self._runs(waiting):
            self._repeat(partial(self._erase_once, memory, run))
            done += len(run)
            yield done

    def _runs(self, units: Sequence[EraseUnit]) -> list[list[EraseUnit]]:
        """CC13xx and CC26xx erase one sector at a time; a CC2538 several pages in a row."""
        runs = [[unit] for unit in units[:1]]
        for before, unit in pairwise(units):
            if self._first_kind or before.end != unit.address or len(runs[-1]) >= _MOST_PAGES:
                runs.append([])
            runs[-1].append(unit)
        return runs

    def _erase_once(self, memory: Memory, run: Sequence[EraseUnit]) -> None:
        first = run[0]
        longest_s = len(run) * memory.erase_time(first.size).longest_s
        if not self._first_kind:
            self._request(Command.ERASE, big(first.address, run[-1].end - first.address))
            self._must_succeed(Command.ERASE, self._status(longest_s), first.address)
            return
        # an address inside the sector that ends in a byte like no other: see `ends_apart`
        inside = next(at for at in range(0x2D, 0xF0) if ends_apart(bytes([Command.ERASE]) + big(first.address + at)))
        for offset in (0,) if self._whole_units else (inside, 0):
            self._request(Command.ERASE, big(first.address + offset))
            status = self._status(longest_s)
            if status == SUCCESS:
                return
            if offset:
                self._whole_units = True  # this ROM wants the sector's first address
        self._must_succeed(Command.ERASE, status, first.address)

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """Rows of blocks, each announced once. What was announced and sent is the same when it is sent again."""
        waiting, tries = list(blocks), 0
        while waiting:
            run = self._announced(waiting)
            done = 0
            try:
                for _ in self._write_run(run, memory):
                    done += 1
                    tries = 0
                    yield run[done - 1]
            except (Silence, Unexpected, ChipRefusal) as error:
                tries += 1
                if (
                    tries > 3
                    or self.fail_fast
                    or (isinstance(error, ChipRefusal) and error.answer[-1:] != bytes([NAK]))
                ):
                    raise
                self.retries += 1
                self._recover(getattr(error, "heard", b""))
            del waiting[:done]

    @staticmethod
    def _announced(blocks: Sequence[WriteBlock]) -> list[WriteBlock]:
        """As many blocks in a row as one command announces: so many that its last byte is like no other."""
        run = [blocks[0]]
        for before, block in pairwise(blocks[:_MOST_BLOCKS]):
            if before.address + len(before.data) != block.address or len(before.data) != DATA_BYTES:
                break
            run.append(block)
        for number in range(len(run), 0, -1):
            size = sum(len(block.data) for block in run[:number])
            if ends_apart(bytes([Command.DOWNLOAD]) + big(run[0].address, size)):
                return run[:number]
        return run[:1]

    def _write_run(self, run: Sequence[WriteBlock], memory: Memory) -> Iterator[None]:
        size = sum(len(block.data) for block in run)
        start = run[0].address
        self._request(Command.DOWNLOAD, big(start, size))
        self._must_succeed(Command.DOWNLOAD, self._status(), start)
        for block in run[:-1]:
            began_s = self.link.now()
            self._request(Command.SEND_DATA, block.data, longest_s=_PROGRAM_LONGEST_S)
            self._let_program(len(block.data), memory, self.link.now() - began_s)
            yield
        self._request(Command.SEND_DATA, run[-1].data, longest_s=_PROGRAM_LONGEST_S)
        self._must_succeed(Command.SEND_DATA, self._status(_PROGRAM_LONGEST_S), run[-1].address)
        yield

    def _let_program(self, size: int, memory: Memory, took_s: float) -> None:
        """It programs after it has acknowledged, and its UART holds few characters meanwhile: at fast rates and with
        quick adapters the next packet must wait. What an answer takes on its way counts."""
        way_s = took_s - self.link.settings.seconds(size + 3 + 2)
        self.link.sleep(max(0.0, memory.program_s * size / memory.write_unit - way_s))

    # --- what an image may shut off

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """Refuses an image after which the loader is out of reach, or whose program the ROM does not start. Raises
        RefusedFault."""
        if not part.size_known or "ccfg" in part.extra:
            return image, ()
        after = _After(part, image)
        return image, _way_back(after, even_if) if after.rewritten else ()

    def look_before(self, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> tuple[str, ...]:
        """The same with the size that the chip reports, and what is in it. Raises RefusedFault."""
        image = images.get("flash")
        if image is None or self.restores:
            return ()
        after = _After(part, image, partial(self.read, part.flash))
        if after.rewritten:
            _way_back(after, even_if)
        return _starts(after, even_if)

    def why_not_writable(self, memory: Memory) -> str:
        """Parts whose configuration area is not in the flash: without writing that, no program of theirs starts. And
        a flash of unknown size: what it ends with decides whether the loader is ever reached again."""
        if self._first_kind is False and self.examined_part is not None and not self.examined_part.size_known:
            return "where its lock page lies depends on its size, which it does not tell"
        if self.examined_part is None or "ccfg" not in self.part.extra:
            return ""
        place = show_address(int(self.part.extra["ccfg"]))
        return f"the configuration area of the {self.part.title} lies apart, at {place}, and is not written here"

    @classmethod
    def written_along(cls, part: Part, memory: Memory) -> Span | None:
        return None if "ccfg" in part.extra else _last_unit(part)

    # --- costs

    @classmethod
    def cost_of_read(cls, memory: Memory, size: int) -> Cost:
        words = -(-size // 4)
        return Cost(11, 4 + size, 1) if not memory.start else Cost(10 * words, 8 * words, words)


def _last_unit(part: Part) -> Span:
    return part.flash.units_touched(part.flash.end - 1, 1)[0].span


class _After:
    """What stands in the flash once an image is written: the image, blank in the rest of the units that it touches,
    and elsewhere what the chip holds, if that can be `read`."""

    def __init__(self, part: Part, image: Image, read: Callable[[int, int], bytes] | None = None) -> None:
        self.part, self.image, self._read = part, image, read
        self.rewritten = any(piece.span.meets(_last_unit(part)) for piece in image.pieces)
        """Whether the unit with the configuration is erased and written."""

    def bytes_at(self, address: int, size: int) -> bytes | None:
        """None if they are the chip's, and are not known."""
        units = self.part.flash.units_touched(address, size)
        if any(piece.span.meets(unit.span) for unit in units for piece in self.image.pieces):
            return self.image.cut(address, size, 0xFF)
        return None if self._read is None else self._read(address, size)

    def word_at(self, address: int) -> int | None:
        held = self.bytes_at(address, 4)
        return None if held is None else int.from_bytes(held, "little")


def _way_back(after: _After, even_if: frozenset[str]) -> tuple[str, ...]:
    """How the loader is entered once this image runs, in words. Raises RefusedFault if it cannot be, unless that is
    allowed twice.

    CC13xx, CC26xx: the word BL_CONFIG, 30h into the configuration area, is C5 in its lowest byte if the loader is
    enabled and C5 in its highest if its pin is; between them that pin and its level. CC2538: bit 4 of one byte. An
    image that touches the unit where they stand and leaves them out leaves them blank, which is off.
    """
    part, image = after.part, after.image
    end = part.flash.end
    if image.end > end:
        return ()
    if part.extra.get("lock_page"):
        place, size = end - 0x29, 1
        value = image.cut(place, size, 0xFF)[0]
        open_, pin, high = bool(value & 0x10), f"PA{value & 7}", bool(value & 8)
    else:
        place, size = end - _CCFG_BYTES + 0x30, 4
        value = int.from_bytes(image.cut(place, size, 0xFF), "little")
        open_ = value & 0xFF == 0xC5 and value >> 24 == 0xC5
        pin, high = f"DIO{value >> 8 & 0xFF}", bool(value >> 16 & 1)
    if open_:
        return (f"with this image the bootloader is entered by {pin} {'high' if high else 'low'} at reset",)
    if {"protection", "lock-out"} <= even_if:
        return ("the image shuts the bootloader off: written anyway",)
    left_out = "" if image.covers(place, size) else ", because the image leaves it out and its sector is erased"
    raise RefusedFault.of(
        "would-lock",
        f"{image.name} would lock you out for good: once it runs, the bootloader is shut off",
        (
            f"its configuration at {show_address(place)} is {value:0{2 * size}X}{left_out}",
            "only a debug probe would help then",
        ),
        (
            "build it with the ROM bootloader and its backdoor pin enabled",
            "if you mean it: --even-if protection --even-if lock-out",
        ),
    )


def _starts(after: _After, even_if: frozenset[str]) -> tuple[str, ...]:
    """Whether the ROM starts the program. Raises RefusedFault if not, unless that is allowed.

    IMAGE_VALID_CONF, 44h into the configuration area: 00000000 on CC13x0 and CC26x0; on later ones the address of the
    program's vectors, 0 by default. CC2538: 00000000 at FD8h of the lock page, the address in the next word.
    """
    part = after.part
    end = part.flash.end
    place = end - 0x28 if part.extra.get("lock_page") else end - _CCFG_BYTES + 0x44
    told = after.word_at(place)
    if told is None:
        return ()
    vectors: int | None = told
    if part.extra.get("lock_page"):
        vectors = after.word_at(place + 4) if told == 0 else None
    elif part.ident == _FIRST_SECTORS:
        vectors = 0 if told == 0 else None
    why = ""
    if vectors is None or not part.flash.span.covers(Span.of(vectors, 8)):
        why = f"the word that marks a valid image, at {show_address(place)}, is {told:08X}"
    else:
        stack, entry = (after.word_at(vectors + at) or 0 for at in (0, 4))
        in_ram = any(ram.start < stack <= ram.start + ram.size for ram in part.ram)
        if not in_ram or not entry & 1 or not part.flash.span.covers(Span.of(entry & ~1, 2)):
            why = f"at {show_address(vectors)} stand {stack:08X} {entry:08X}: no stack and entry of a program"
    if not why:
        return ()
    if "vectors" in even_if:
        return (f"{why}: written anyway",)
    raise RefusedFault.of(
        "vectors",
        f"the ROM would not start {after.image.name}: it would stay in its bootloader",
        (why,),
        (
            "upload the whole image, with the configuration area (CCFG) that your build makes",
            "if you know better: --even-if vectors",
        ),
    )
