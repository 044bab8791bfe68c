"""`smp`: boards that speak SMP over a UART (the published SMP specification): a running program with it, or the
serial recovery of their bootloader.

A running program takes the image into its second slot; it is tried at the next reset, and stays if it is confirmed.
In serial recovery it goes to the first slot at once. Each answer carries its question's number, so that a late one
does no harm, and says how far the upload is, which is believed. What a slot holds is told by the hash of its image:
no byte can be read back.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Any, ClassVar

from ..chips import EraseUnit, Memory, Part
from ..errors import RefusedFault, StartFault, WriteFault
from ..image import Image
from ..link import Deadline, Frame, Link
from ..quantities import count, show_address
from .cost import Cost
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import drain
from .results import Examination, Fitted, Identity, WriteBlock
from .smp_frames import FIRST, HEADER_BYTES, READ, WRITE, Command, Packet, in_lines, letters_of, packet_of
from .smp_images import SignedImageError, read_signed
from .spec import Asking, Attempt, Erasing, Setting, Spec, Starting

_ERASE_LONGEST_S, _SWAP_LONGEST_S, _RESET_S = 60.0, 90.0, 1.0
_USUAL_BUFFER, _LEAST_BUFFER, _MOST_BUFFER = 256, 96, 4096
_TRIES, _QUIET_S = 5, 0.03
_BLOCK = 128
_LOST_ONCE_IN = 4096
_NOT_KNOWN = 8
_SAID = {
    1: "unknown", 2: "no memory", 3: "invalid", 4: "time-out", 5: "no entry", 6: "bad state", 7: "too large",
    8: "not supported", 9: "corrupt", 10: "busy", 11: "denied",
}  # fmt: skip
_KINDS = {3: RefusalKind.BAD_DATA, 9: RefusalKind.BAD_DATA, 11: RefusalKind.LOCKED}


def encoded(values: Mapping[str, Any]) -> bytes:
    from cbor2 import dumps  # takes its time to load

    return dumps(values)


def decoded(body: bytes) -> dict[str, Any] | None:
    """The map; None if it is none."""
    from cbor2 import CBORDecodeError, loads

    try:
        values = loads(body)
    except (CBORDecodeError, ValueError):
        return None
    return values if isinstance(values, dict) else None


class Smp(Dialect):
    """The conversation with one board."""

    name: ClassVar[str] = "smp"
    title: ClassVar[str] = "SMP server"
    document: ClassVar[str] = "SMP specification"
    frame: ClassVar[Frame] = Frame(8, "none", 1)
    decoder: ClassVar[str] = "greenstep.core.trace.decoders.smp:narrate"
    answer_s: ClassVar[float] = 0.5
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=in_lines(Packet(READ, Command.STATE, 0, b"\xa0")),
            answers=(FIRST,),
            attempts=(Attempt(0.05, 3), Attempt(0.4, 3), Attempt(1.0, 4)),
            wait_s=0.3,
            order=38,
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        erases_alone=True,
        guards_writes=True,
        gives_up=False,
        tells_chip=False,
        shows_sums_only=True,
        settings=(
            Setting(
                "confirm",
                "text",
                "when-it-runs",
                "the new image stays: when-it-runs and answers, at-once, or never by this tool",
                ("when-it-runs", "at-once", "never"),
            ),
        ),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._number = 0
        self._buffer = _USUAL_BUFFER
        self._digest = b""
        self._slots: list[dict[str, Any]] = []

    # --- packets

    def _once(self, op: int, command: Command, body: bytes, longest_s: float = 0.0) -> dict[str, Any]:
        """A packet and the answer with its number. Raises Silence, ChipRefusal."""
        self._number = (self._number + 1) & 0xFF
        self.link.discard()
        sent = in_lines(Packet(op, command, self._number, body))
        self.link.write(sent)
        wait_s = self.link.settings.seconds(len(sent) + 200) + self.patience_s + longest_s
        deadline = Deadline.after(self.link, wait_s)
        letters, line, begun = b"", b"", False
        while not deadline.over:
            more = self.link.read(1, deadline.left_s)
            line += more
            if more != b"\n":
                continue
            found, line = letters_of(line, begun), b""
            if found is None:
                continue
            letters = letters + found if begun else found
            try:
                packet = packet_of(letters)
            except ValueError:
                letters, begun = b"", False
                continue
            begun = packet is None
            if packet is None or packet.number != self._number or packet.op != op + 1 or packet.command != command:
                continue
            values = decoded(packet.body)
            if values is not None:
                self._must_succeed(command, values)
                return values
        raise Silence(f"answer to '{command.words}'", wait_s)

    def _again(self, op: int, command: Command, body: bytes, longest_s: float = 0.0) -> dict[str, Any]:
        """The same where it may be repeated: it does the same each time."""
        return self.exchange(lambda: self._once(op, command, body, longest_s), self._recover, _TRIES)

    def _recover(self, heard: bytes) -> None:
        """An end of line ends whatever was begun; an answer that comes late is known by its number."""
        self.link.write(b"\n")
        drain(self.link, _QUIET_S)

    @staticmethod
    def _must_succeed(command: Command, values: Mapping[str, Any]) -> None:
        """Raises ChipRefusal."""
        error = values.get("err")
        status = error.get("rc", 1) if isinstance(error, dict) else values.get("rc", 0)
        if status:
            kind = RefusalKind.UNSUPPORTED if status == _NOT_KNOWN else _KINDS.get(status, RefusalKind.UNSUPPORTED)
            raise ChipRefusal(
                command.words,
                kind,
                bytes([int(status) & 0xFF]),
                None,
                f"rc {status}, {_SAID.get(status, 'not known')},",
            )

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """The state of the images; asking changes nothing. An echo is no answer."""
        self.link.write(b"\n")  # ends whatever line was begun
        try:
            with self.waiting(wait_s):
                self._slots = _slots_of(self._once(READ, Command.STATE, b"\xa0"))
        except Silence:
            return None
        except ChipRefusal as refusal:
            return f"refuses to tell its images: {refusal}"
        return f"{len(self._slots)} image{'' if len(self._slots) == 1 else 's'}"

    def identify(self) -> Identity:
        """What its slots hold, and how large its packets may be."""
        self._slots = _slots_of(self._again(READ, Command.STATE, b"\xa0"))
        try:
            told = self._again(READ, Command.PARAMETERS, b"\xa0").get("buf_size", _USUAL_BUFFER)
            self._buffer = max(_LEAST_BUFFER, min(_MOST_BUFFER, int(told)))
        except ChipRefusal:
            self._buffer = _USUAL_BUFFER
        said = "; ".join(_in_words(slot) for slot in self._slots) or "no image"
        return Identity(None, said, (("speaks", "running program" if self._runs else "serial recovery"),))

    @property
    def _runs(self) -> bool:
        """Whether a running program answers: recovery marks no image as active."""
        return any(slot.get("active") for slot in self._slots)

    def examine(self, part: Part) -> Examination:
        return Examination(part)

    # --- images

    @classmethod
    def fit(
        cls, part: Part, images: dict[str, Image], settings: Mapping[str, Any], even_if: frozenset[str]
    ) -> Fitted:
        """One signed image, whole and undamaged. Raises RefusedFault."""
        image = images.get("flash")
        if image is None or not image.pieces:
            return Fitted(images)
        data = image.cut(image.lowest, image.end - image.lowest, part.flash.erased)
        try:
            signed = read_signed(data)
        except SignedImageError as error:
            raise RefusedFault.of(
                "not-signed",
                f"{image.name} is no signed image, and this board takes no other",
                (str(error),),
                ("upload the signed file of your build", "is --chip right?"),
            ) from None
        if not signed.right:
            raise RefusedFault.of(
                "not-signed",
                f"{image.name} is damaged: its hash is not that of its program",
                (f"it tells {signed.digest.hex()[:16].upper()}…",),
                ("build and sign it again", "was it changed after it was signed?"),
            )
        at = f"; written for {show_address(image.lowest)}" if image.lowest else ""
        return Fitted(images, (f"signed image, version {signed.version}{at}",))

    # --- memory

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        return _BLOCK

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        return 1

    def can_checksum(self) -> bool:
        return True

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """Whether a slot reports the hash of this image; of blank bytes, whether the slot that an upload would go to
        is empty."""
        self._slots = _slots_of(self._again(READ, Command.STATE, b"\xa0"))
        if not data.strip(b"\xff"):
            return not any(slot.get("slot", 0) == (1 if self._runs else 0) for slot in self._slots)
        try:
            signed = read_signed(data)
        except SignedImageError:
            return False
        self._digest = signed.digest
        return signed.right and any(slot.get("hash") == signed.digest for slot in self._slots)

    def sums_seen(self) -> tuple[str, ...]:
        return tuple(_in_words(slot) for slot in self._slots) or ("no slot holds an image",)

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """The slot that an upload would go to."""
        self.erase_all(memory)
        yield len(units)

    def erase_all(self, memory: Memory) -> None:
        self._again(WRITE, Command.ERASE, encoded({"slot": 1 if self._runs else 0}), _ERASE_LONGEST_S)

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """The image from its beginning; the board says how far it has come, and is believed."""
        waiting = list(blocks)
        data = b"".join(block.data for block in blocks)
        at, done, longest_s, stuck = 0, 0, _ERASE_LONGEST_S, 0
        while at < len(data):
            answer = self._again(WRITE, Command.UPLOAD, self._chunk(data, at), longest_s)
            told = answer.get("off")
            if not isinstance(told, int) or not 0 <= told <= len(data):
                raise Unexpected("how far the upload is", encoded(answer)[:40])
            stuck += told <= at  # going back now and then is how it makes good what was lost
            if stuck > _TRIES + at // _LOST_ONCE_IN:
                raise WriteFault.of(
                    "restarted",
                    "the board loses what it was sent: it restarts while it is written",
                    (f"it went back {count(stuck, 'time')}, the last time from {at:,} to {told:,} bytes",),
                    ("measure its supply while it writes", "does a watchdog of its program reset it?"),
                )
            at, longest_s = told, _ERASE_LONGEST_S if not told else 0.0
            while waiting and done + len(waiting[0].data) <= at:
                done += len(waiting[0].data)
                yield waiting.pop(0)

    def _chunk(self, data: bytes, at: int) -> bytes:
        """As much as its buffer holds."""
        values: dict[str, Any] = {"off": at}
        if not at:
            values |= {"image": 0, "len": len(data), "sha": hashlib.sha256(data).digest()}
        room = self._buffer - HEADER_BYTES - len(encoded({**values, "data": b""})) - 2
        return encoded({**values, "data": data[at : at + max(1, room)]})

    # --- starting

    def start(self, address: int) -> str:
        """In recovery a reset. To a running program: the image in the second slot is to be tried, a reset, and once
        it answers it is confirmed. Raises StartFault if another image runs then."""
        wish = self.setting("confirm")
        waits = self._runs and self._digest and not self._active_is_ours()
        if not waits:
            self._once(WRITE, Command.RESET, b"\xa0")
            return "reset: rc 0"
        self._again(WRITE, Command.STATE, encoded({"hash": self._digest, "confirm": wish == "at-once"}))
        self._wait_for_swap()
        if wish == "when-it-runs":
            self._again(WRITE, Command.STATE, encoded({"confirm": True}))
        shown = self._digest.hex()[:8].upper()
        return f"image {shown}… runs{'' if wish == 'never' else ' and is confirmed'}"

    def _active_is_ours(self) -> bool:
        return any(slot.get("active") and slot.get("hash") == self._digest for slot in self._slots)

    def _wait_for_swap(self) -> None:
        """A reset, and again only while the image still waits for one: a second would swap the images back."""
        deadline = Deadline.after(self.link, _SWAP_LONGEST_S)
        due = True
        while not deadline.over:
            with suppress(Silence):
                if due:
                    self._once(WRITE, Command.RESET, b"\xa0")
            self.link.sleep(_RESET_S)
            try:
                self._slots = _slots_of(self._once(READ, Command.STATE, b"\xa0"))
            except Silence:
                due = False
                continue
            if self._active_is_ours():
                return
            due = any(slot.get("pending") and slot.get("hash") == self._digest for slot in self._slots)
            if not due:
                break
        raise StartFault.of(
            "not-swapped",
            "after the reset the new image does not run",
            self.sums_seen(),
            ("is it signed with the key that the board's bootloader has?", "does it speak SMP itself?"),
            "likely",
        )

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        letters = -(-size * 4 // 3)
        return Cost(letters + letters // 40, 20, 1, memory.program_s * size / memory.write_unit)

    @classmethod
    def cost_of_verify(cls, part: Part, memory: Memory, spans: Sequence[Any]) -> Cost:
        return Cost(24, 200, 1)


def _slots_of(answer: Mapping[str, Any]) -> list[dict[str, Any]]:
    images = answer.get("images")
    return [slot for slot in images if isinstance(slot, dict)] if isinstance(images, list) else []


def _in_words(slot: Mapping[str, Any]) -> str:
    digest = slot.get("hash")
    marks = [mark for mark in ("active", "confirmed", "pending", "permanent") if slot.get(mark)]
    shown = f"hash {digest.hex()[:8].upper()}…" if isinstance(digest, bytes) else "no hash"
    return ", ".join((f"slot {slot.get('slot', 0)}: version {slot.get('version', '?')}", shown, *marks))
