"""What the bootstrap loaders of all MSP430 have in common (SLAU319, SLAU550): the way in, and the password.

The password is what the interrupt vectors of the program in the chip are, 32 bytes. A wrong one erases the chip: so
none is sent but one that the person gave, and an upload without one erases everything first, which needs none.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar

from ..chips.part import EraseUnit, Memory, Part
from ..errors import RefusedFault
from ..image import Image
from ..link import Frame, Link
from ..quantities import count, show_address, show_size
from ..spans import Span, merged, shared, total, without
from .abilities import TakesOver
from .dialect import Dialect
from .errors import ChipRefusal, ErasedByRefusal, RefusalKind
from .results import Examination, OneFitted
from .spec import Setting

ENTERING = (
    "boot off; reset on; wait 10 ms; boot on; wait 1 ms; boot off; wait 1 ms; boot on; wait 1 ms; "
    "reset off; wait 1 ms; boot off; wait 20 ms"
)
"""SLAU319, "Bootloader entry sequence": TEST rises twice while RST is low, and is high when RST rises."""
BAUD = 9600
FRAME = Frame(8, "even", 1)
PASSWORD_AT, PASSWORD_BYTES = 0xFFE0, 32
SETTINGS = (
    Setting("old", "image", "", "the program that is in the chip: its vectors are the password; a wrong one erases"),
    Setting("password", "text", "", "the same as 64 digits"),
)
_BLANK = b"\xff" * PASSWORD_BYTES


def password_in(settings: Mapping[str, Any]) -> bytes | None:
    """The one that the person gave; None if there is none. Raises RefusedFault if it makes no sense."""
    text, old = str(settings.get("password") or "").replace(" ", ""), settings.get("old")
    if text:
        try:
            password = bytes.fromhex(text)
        except ValueError:
            password = b""
        if len(password) != PASSWORD_BYTES:
            raise RefusedFault.of(
                "setting", "the password is not 64 hexadecimal digits", (text,), ("--set password=…",)
            )
        return password
    if not isinstance(old, Image):
        return None
    if not old.touches(PASSWORD_AT, PASSWORD_BYTES):
        raise RefusedFault.of(
            "setting",
            f"{old.name} has no vectors at {show_address(PASSWORD_AT)}: they are the password",
            (),
            ("--set old=@FILE with the whole program that is in the chip",),
        )
    return old.cut(PASSWORD_AT, PASSWORD_BYTES, 0xFF)


class Msp430Dialect(Dialect, TakesOver):
    """The conversation with one chip, whichever of the two protocols it speaks."""

    frame: ClassVar[Frame] = FRAME
    answer_s: ClassVar[float] = 0.3

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._open = False
        self._refused: ChipRefusal | None = None
        """The password was refused: it is not sent again, because each time erases."""

    # --- what the protocols differ in

    @abstractmethod
    def _send_password(self, password: bytes) -> None:
        """Raises ChipRefusal if it is not the chip's."""

    @abstractmethod
    def _mass_erase(self, memory: Memory) -> None:
        """Everything, which needs no password."""

    @abstractmethod
    def _erase_main(self, memory: Memory) -> None:
        """The program's flash and nothing besides, which needs the password."""

    # --- the password

    def _unlock(self) -> None:
        """Before the first command that needs it. Raises RefusedFault, ChipRefusal."""
        if self._open:
            return
        if self._refused is not None:
            raise self._refused
        password = password_in(self.settings)
        if password is None:
            said = "no password was given (--set old=@FILE)"
            raise ChipRefusal("password", RefusalKind.LOCKED, b"", None, said)
        try:
            self._send_password(password)
        except ChipRefusal as refusal:
            if self._refusal_erases:
                raise ErasedByRefusal(refusal.said) from None
            self._refused = refusal
            raise
        self._open = True
        self._look_who_it_is()

    @property
    def _refusal_erases(self) -> bool:
        """Whether a wrong password erases, as far as that is known of this loader: it is told, where it may."""
        return True

    def _look_who_it_is(self) -> None:
        """What the chip tells of itself once it is open, compared with what was declared. Raises RefusedFault."""

    def examine(self, part: Part) -> Examination:
        """Nothing of it is asked for: a password is only sent when something needs it."""
        self.examined_part = part
        return Examination(part, (("flash", show_size(part.flash.size)),))

    # --- erasing

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        self.erase_all(memory)
        yield len(units)

    def erase_all(self, memory: Memory) -> None:
        """With a password the program's flash alone; without one everything, after which the password is blank."""
        if password_in(self.settings) is not None and not self._erased:
            self._unlock()
            self._erase_main(memory)
            return
        if not (self._erase_begun and self._is_blank()):
            self._erase_begun = True
            self._mass_erase(memory)
            self._erased, self._refused = True, None
            self._send_password(_BLANK)
            self._open = True
        self._look_who_it_is()

    _erased = False
    """Whether this conversation has erased everything: then the password is no longer the old one."""
    _erase_begun = False
    """Whether this conversation, or the one before it, has asked for that: it may end in a reset."""

    def take_over(self, before: Dialect) -> None:
        if isinstance(before, Msp430Dialect):
            self._erase_begun = before._erase_begun and not before._open

    def _is_blank(self) -> bool:
        """After an erase that was not answered: whether the password is that of a blank chip."""
        try:
            self._send_password(_BLANK)
        except ChipRefusal:
            return False
        self._open = self._erased = True
        return True

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """Without what lies outside of the program's flash; and nothing that shuts the loader off for good."""
        notes = []
        outside = Span.of(*part.extra["information"])
        left_out = merged(shared([piece.span for piece in image.pieces], [outside]))
        if left_out:
            where = ", ".join(str(span) for span in left_out)
            notes.append(f"left out: {where}, {count(total(left_out), 'byte')} of information memory")
            pieces = tuple(piece.part(span) for piece in image.pieces for span in without([piece.span], [outside]))
            image = replace(image, pieces=pieces)
        notes += cls._locks(part, image, even_if)
        if password_in(settings) is not None:
            notes.append("the password is sent: if it is not the chip's, that erases the chip")
        else:
            notes.append(cls._loses(part))
        return image, tuple(notes)

    @classmethod
    def _loses(cls, part: Part) -> str:
        return "an upload erases all of the chip, information memory too but for what is locked"

    @classmethod
    def _locks(cls, part: Part, image: Image, even_if: frozenset[str]) -> list[str]:
        """Raises RefusedFault for what would shut the loader off."""
        notes = []
        for place, value, does in part.extra.get("warns", ()):
            wanted = bytes.fromhex(value)
            held = image.cut(place, len(wanted) or 2, 0xFF)
            if image.touches(place, 1) and (held == wanted if wanted else held.strip(b"\xff")):
                notes.append(f"{show_address(place)} holds {held.hex(' ').upper()}: it {does}")
        for place, value in part.extra.get("shuts_off", ()):
            wanted = bytes.fromhex(value)
            if not image.touches(place, len(wanted)) or image.cut(place, len(wanted), 0xFF) != wanted:
                continue
            if {"protection", "lock-out"} <= even_if:
                return [*notes, "the image shuts the bootstrap loader off: written anyway"]
            raise RefusedFault.of(
                "would-lock",
                f"{image.name} would lock you out for good: with it the bootstrap loader is shut off",
                (f"{show_address(place)} holds {wanted.hex(' ').upper()}", "only a debug probe would help then"),
                (
                    "build it with another value there",
                    "if you mean it: --even-if protection --even-if lock-out",
                ),
            )
        return notes
