"""`propeller-2`: the loader in the ROM of the P2X8C4M64P (Parallax, "P2 hardware documentation", booting).

Lines of text; each `>` lets the chip measure the rate anew. A program goes into RAM in Base64, and is run when its
longs sum to "Prop": a long that makes them do so is put behind it.
"""

from __future__ import annotations

import base64
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar

from ..chips.part import Memory, Part
from ..image import Image, Piece
from ..link import Deadline, Link
from .abilities import PROOF_BYTES, ProvesRate
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import drain, send_on
from .ram import LOST, filled_from
from .results import Examination, Identity, OneFitted, WriteBlock
from .spec import Asking, Attempt, Cost, Costs, Erasing, Reading, Spec, Starting

CHECK, TEXT = b"> Prop_Chk 0 0 0 0 ", b"> Prop_Txt 0 0 0 0 "
"""For any chip: the four numbers are masks and values that a chip's pins must have."""
_VERSION = b"\r\nProp_Ver "
_SUM = 0x706F7250
"""'Prop'"""
_ANSWER_BYTES = len(_VERSION) + 3
_LINE, _BLOCK = 72, 1728
"""Bytes of a line of Base64, and of a block of such lines."""
_SUM_LONGEST_S, _QUIET_S, _AHEAD_S, _TRIES = 0.2, 0.03, 0.1, 4


def in_text(data: bytes) -> bytes:
    """Lines of Base64, each behind a `>`."""
    return b"".join(b">" + base64.b64encode(data[at : at + _LINE]) for at in range(0, len(data), _LINE))


def sum_of_longs(data: bytes) -> int:
    """Of a multiple of four bytes, lowest first, in 32 bits."""
    return sum(int.from_bytes(data[at : at + 4], "little") for at in range(0, len(data), 4)) & 0xFFFFFFFF


class Propeller2(Dialect, ProvesRate):
    """The conversation with one chip."""

    name: ClassVar[str] = "propeller-2"
    title: ClassVar[str] = "Propeller 2 loader"
    document: ClassVar[str] = "Parallax P2 documentation"
    decoder: ClassVar[str] = "propeller_2"
    proof: ClassVar[str] = "the chip's word that the longs sum to what they must (32 bits)"
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=CHECK + b"\r",
            sounds=(rb"Prop_Ver [A-Z]",),
            attempts=(Attempt(0.02, 2), Attempt(0.03, 2), Attempt(0.05, 2)),
            wait_s=0.1,
            order=29,
            measures_rate=True,
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        reading=Reading.NONE,
        guards_writes=True,
        gives_up=True,
        tells_chip=False,
        start_answers=False,
        into_ram=True,
        speaks_text=True,
        costs=Costs(block=_BLOCK),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._version = ""

    def _check(self, wait_s: float) -> str:
        """The letter of its version; empty if none was heard in time."""
        self.link.discard()
        self.link.write(CHECK + b"\r")
        deadline = Deadline.after(self.link, wait_s + self.link.settings.seconds(len(CHECK) + 16))
        heard = b""
        while not deadline.over:
            heard += self.link.read(1, deadline.left_s)
            _, found, rest = heard.partition(_VERSION)
            if found and rest[1:] == b"\r\n" and rest[:1].isalpha():
                return rest[:1].decode()
        return ""

    def ask(self, wait_s: float) -> str | None:
        self._version = self._check(self.probe_timeout(wait_s) or self.patience_s)  # some answer late
        return f'"Prop_Ver {self._version}"' if self._version else None

    def identify(self) -> Identity:
        return Identity(None, f"loader version {self._version}", (("version", self._version),))

    def examine(self, part: Part) -> Examination:
        return Examination(part)

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        """Which version it is, asked again and again. Raises Silence."""
        for _ in range(-(-size // _ANSWER_BYTES)):
            if self._check(self.patience_s) != self._version:
                raise Silence("its version", self.patience_s)

    # --- loading

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """All in one go; then the chip tells whether the sum is right, and if so has begun to run it."""
        waiting = list(blocks)
        for attempt in range(_TRIES):
            sent_by = send_on(self.link, self.link.now(), TEXT)
            for block in blocks:
                sent_by = send_on(self.link, sent_by, in_text(block.data))
                if len(waiting) > 1 and block is waiting[0]:
                    self.link.sleep(max(0.0, sent_by - _AHEAD_S - self.link.now()))
                    yield waiting.pop(0)
            send_on(self.link, sent_by, b" ?")
            try:
                self._told(sent_by)
                break
            except ChipRefusal:
                if attempt == _TRIES - 1:
                    raise
                self.retries += 1
                if not self._check(self.patience_s):
                    raise
        yield waiting.pop()

    def _told(self, sent_by: float) -> None:
        """Raises ChipRefusal, Silence, Unexpected."""
        wait_s = max(0.0, sent_by - self.link.now()) + _SUM_LONGEST_S + self.patience_s
        deadline = Deadline.after(self.link, wait_s)
        heard = self.link.read(1, deadline.left_s)
        while heard.startswith(b"\r"):  # the answer to a question that seemed unanswered
            heard += self.link.read(_ANSWER_BYTES - 1, deadline.left_s)
            if not heard.startswith(_VERSION) or not heard.endswith(b"\r\n"):
                break
            heard = self.link.read(1, deadline.left_s)
        if not heard:
            raise Silence("word about the sum", wait_s)
        if heard == b"!":
            raise ChipRefusal("Prop_Txt", RefusalKind.BAD_DATA, heard, None, 'the sum is not right: "!"')
        if heard != b".":
            raise Unexpected("word about the sum", heard + drain(self.link, _QUIET_S))

    def start(self, address: int) -> str:
        """The chip already started itself once the checksum matched."""
        return "it runs as soon as the sum is right"

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """From 0, and with a long that makes the sum."""
        if image.end > part.flash.end:  # which the plan refuses
            return image, ()
        image, notes = filled_from(image, part.flash, 4)
        data = image.cut(0, image.end, 0)
        if sum_of_longs(data) == _SUM:
            return image, (*notes, LOST)
        last = (_SUM - sum_of_longs(data) & 0xFFFFFFFF).to_bytes(4, "little")
        image = replace(image, pieces=(Piece(0, data + last),))
        return image, (*notes, "a long is put behind it that makes the sum", LOST)

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(size * 4 // 3 + -(-size // _LINE))

    @classmethod
    def cost_of_writes(cls, part: Part, memory: Memory, blocks: Sequence[WriteBlock]) -> Cost:
        size = sum(len(block.data) for block in blocks)
        return cls.cost_of_write(memory, size) + Cost(len(TEXT) + 2, 1, 1)

    def blocks_sent(self) -> str:
        """In one go."""
        return "one load, one answer"
