"""`stm8-um0560`: the UART bootloader in the ROM of STM8 (ST UM0560).

It speaks as that of the STM32 does: a code and its complement, frames that end in an XOR, each acknowledged. It can
read memory, write RAM and go. Erasing and writing flash are done by routines of the maker's, which the loader wants
in RAM first, and which differ from loader to loader: the person has to give that file.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from functools import reduce
from operator import xor
from typing import Any, ClassVar, cast

from ..chips.part import EraseUnit, Memory, Part
from ..clock.uarts import Divided, Mode, UartRules
from ..errors import RefusedFault
from ..image import Image
from ..link import Deadline, Frame, Link
from ..quantities import show_size
from .abilities import PROOF_BYTES
from .errors import ChipRefusal, DialectError, RefusalKind, Silence, Unexpected
from .results import Examination, Fitted, Identity, WriteBlock
from .spec import Attempt, Cost, CostRow, Costs, Setting, Starting
from .stm32_rom import BLOCK, READ_REQUEST, Command, StLoader
from .ways import prove_by_readings

ROUTINES_AT = 0xA0
"""UM0560, "RAM erase/write routines": where the loader wants them."""
_BLOCK, _LARGEST_ROUTINES = 128, 1024
_TRIES, _MOST_BUSY = 3, 400
_BUSY, _ACKED = b"\xaa", b"\x79"
_NO_PARITY = Frame(8, "none", 1)
_WANTED = "erasing and writing need the maker's routines for this loader: --set routines=@FILE"


def _divide(clock_hz: float, baud: int) -> Divided | None:
    """Reference manual RM0016, "UART": baud = f / n, n of 16 bits and at least 16."""
    divisor = round(clock_hz / baud)
    return Divided(clock_hz / divisor, f"divider {divisor}") if 16 <= divisor <= 0xFFFF else None


class Stm8Um0560(StLoader):
    """The conversation with one chip."""

    name: ClassVar[str] = "stm8-um0560"
    title: ClassVar[str] = "STM8 ROM bootloader"
    document: ClassVar[str] = "ST UM0560"
    uart: ClassVar[UartRules | None] = UartRules(
        "stm8",
        "STM8 UART",
        "fMASTER, 16 MHz after reset divided by 8; the loader runs it at 16 MHz",
        'ST RM0016, "UART"; tolerance computed from half a bit',
        (Mode("divider", _divide, lambda divided, frame: 0.5 / (frame.data_bits + 2.5)),),
    )
    spec = replace(
        StLoader.spec,
        asking=replace(
            StLoader.spec.asking,
            answers=(),
            sounds=(rb"[\x79\x1f]{1,4}\x05.\x00\x11\x21\x31\x43.*",),
            attempts=(Attempt(0.02, 2), Attempt(0.1, 2), Attempt(0.3, 3)),
            wait_s=0.15,
            order=9,
            usb_vendor_id="",
        ),
        starting=Starting.COMMAND,
        gives_up=True,
        tells_chip=False,
        settings=(
            Setting("routines", "image", "", "the maker's erase and write routines for this loader"),
            Setting(
                "reply",
                "text",
                "auto",
                "whether each character of the loader is sent back to it, without parity; auto: on the L parts",
                ("auto", "yes", "no"),
            ),
        ),
        costs=Costs(block=_BLOCK, read_block=BLOCK, read=CostRow(9, 3, 3)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._routines_there = False
        self._plain = link

    @property
    def _replies(self) -> bool:
        """Whether the UART is in reply mode (UM0560, "UART modes"): then it has no parity, and each character that
        the loader sends must come back to it."""
        said = str(self.setting("reply"))
        declared = self.declared
        return said == "yes" or (said == "auto" and declared is not None and bool(declared.extra.get("reply")))

    def _acknowledged(
        self, command: Command, refused: RefusalKind, sent: int, busy_s: float = 0.0, address: int | None = None
    ) -> None:
        """AA is neither yes nor no: it is still busy."""
        for _ in range(_MOST_BUSY):
            try:
                super()._acknowledged(command, refused, sent, busy_s, address)
                return
            except Unexpected as error:
                if error.heard[:1] != _BUSY:
                    raise
                if error.heard.strip(_BUSY) == _ACKED:
                    return
                if error.heard.strip(_BUSY):
                    raise
        raise Silence(f"end of '{command.words}'", busy_s)

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """As an STM32's, which has a command for its id besides."""
        if self._replies:
            self.link = cast(Link, _Replying(self._plain))
            self.link.configure(replace(self.link.settings, frame=_NO_PARITY))
        answer = super().ask(wait_s)
        if answer is None:
            return None
        try:
            listed = self._with_retry(lambda: self._listing(Command.GET))
        except DialectError:
            return None
        return None if Command.ID in listed[1:] else f"{answer}, and no command for an id"

    def identify(self) -> Identity:
        """`get`: it tells its version, and no number of the chip."""
        answer = self._with_retry(lambda: self._listing(Command.GET))
        self.commands = frozenset(answer[1:])
        self.version = f"{answer[0] >> 4}.{answer[0] & 15}"
        codes = " ".join(f"{code:02X}" for code in sorted(self.commands))
        return Identity(None, f"loader {self.version}", (("loader", self.version), ("commands", codes)))

    def examine(self, part: Part) -> Examination:
        """A refused read shows a chip that is protected."""
        details = (("flash", show_size(part.flash.size)),)
        try:
            self._read(part.flash.start, 1)
        except ChipRefusal as refusal:
            return Examination(part, details, locked=str(refusal))
        return Examination(part, details)

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        """By small readings of the flash, twice: which RAM the loader leaves alone is not known."""
        prove_by_readings(lambda address: self._read(address, READ_REQUEST), part.flash.start, READ_REQUEST, size)

    def look_before(self, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> tuple[str, ...]:
        """Without the routines nothing is begun. Raises RefusedFault."""
        if self._routines is None:
            raise RefusedFault.of(
                "needs-routines",
                "this loader cannot write flash by itself",
                ("it reads, writes RAM and goes; erasing and writing are the maker's routines in RAM",),
                ("give the maker's file for this loader: --set routines=@FILE", "or write it by its SWIM pin"),
            )
        return ()

    # --- the maker's routines

    @property
    def _routines(self) -> bytes | None:
        image = self.setting("routines")
        if not isinstance(image, Image):
            return None
        return image.cut(image.lowest, image.end - image.lowest, 0)

    def _bring_routines(self) -> None:
        """Into RAM, and read back. Raises DialectError."""
        if self._routines_there:
            return
        routines = self._routines
        if routines is None or len(routines) > _LARGEST_ROUTINES:
            said = _WANTED if routines is None else f"routines of {len(routines)} bytes are too large"
            raise ChipRefusal(Command.WRITE.words, RefusalKind.UNSUPPORTED, b"", ROUTINES_AT, said)
        for at in range(0, len(routines), _BLOCK):
            piece = routines[at : at + _BLOCK]
            for attempt in range(_TRIES):
                self._write_ram(ROUTINES_AT + at, piece)
                if self._read(ROUTINES_AT + at, len(piece)) == piece:
                    break
                self.retries += 1
                if attempt == _TRIES - 1:
                    raise Silence("routines in RAM as they were sent", self.patience_s)
        self._routines_there = True

    def _write_ram(self, address: int, data: bytes) -> None:
        """The same each time, so it may be repeated."""
        body = bytes([len(data) - 1]) + data
        frame = body + bytes([reduce(xor, body)])

        def once() -> None:
            self._command(Command.WRITE)
            self._address(Command.WRITE, address)
            self.link.write(frame)
            self._acknowledged(Command.WRITE, RefusalKind.BAD_DATA, len(frame), address=address)

        self.exchange(once, self._recover, _TRIES, 1)

    def was_reset(self) -> None:
        self._routines_there = False

    # --- memory

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        self._bring_routines()
        yield from super().erase(memory, units)

    def erase_all(self, memory: Memory) -> None:
        """By sectors: the code for all would take the EEPROM too."""
        for _ in self.erase(memory, memory.units_of([memory.usable])):
            pass

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        self._bring_routines()
        yield from super().write(memory, blocks)

    @classmethod
    def fit(
        cls, part: Part, images: dict[str, Image], settings: Mapping[str, Any], even_if: frozenset[str]
    ) -> Fitted:
        return Fitted(images, () if isinstance(settings.get("routines"), Image) else (_WANTED,))

    @classmethod
    def cost_of_erase(cls, memory: Memory, units: Sequence[EraseUnit]) -> Cost:
        """Sectors have numbers of one byte."""
        cost = super().cost_of_erase(memory, units)
        return replace(cost, sent=max(0, cost.sent - len(units)))


class _Replying:
    """A link that sends back whatever is heard, character by character: the loader waits for each."""

    def __init__(self, inner: Link) -> None:
        self._inner = inner

    def __getattr__(self, name: str) -> Any:
        return getattr(self._inner, name)

    def read(self, size: int, timeout_s: float) -> bytes:
        deadline, heard = Deadline.after(self._inner, timeout_s), b""
        while len(heard) < size and (one := self._inner.read(1, deadline.left_s)):
            self._inner.write(one)
            heard += one
        return heard
