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
from functools import partial
from typing import Any, ClassVar

from ..chips import EraseUnit, Memory, Part
from ..errors import RefusedFault, StartFault, VerifyFault, WriteFault
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
_TRIES, _RESETS, _QUIET_S = 5, 3, 0.03
_LOOKS_EVERY_S = 4.0
_AROUND = 4
"""Length and CRC of a packet are in the server's buffer, too."""
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
            Setting(
                "image",
                "number",
                0,
                "image number: to a running program 0, 1 …; in recovery 0 or 1 is the first slot, 2 the second, "
                "3 and 4 those of the second image",
            ),
        ),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._number = 0
        self._buffer = _USUAL_BUFFER
        self._digest = b""
        self._matched = False
        self._slots: list[dict[str, Any]] = []

    # --- packets

    def _send(self, op: int, command: Command, body: bytes) -> int:
        """Send a packet. Returns its number."""
        self._number = (self._number + 1) & 0xFF
        self.link.write(in_lines(Packet(op, command, self._number, body)))
        return self._number

    def _receive(self, wanted: Mapping[int, tuple[int, Command]], wait_s: float) -> tuple[int, dict[str, Any]]:
        """The first answer to one of the packets, by (number) -> (op, command). Raises Silence, ChipRefusal."""
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
            if packet is None or wanted.get(packet.number) != (packet.op - 1, packet.command):
                continue
            values = decoded(packet.body)
            if values is not None:
                self._must_succeed(wanted[packet.number][1], values)
                return packet.number, values
        raise Silence(f"answer to '{next(iter(wanted.values()))[1].words}'", wait_s)

    def _once(self, op: int, command: Command, body: bytes) -> dict[str, Any]:
        """A packet and the answer with its number. Raises Silence, ChipRefusal."""
        self.link.discard()
        number = self._send(op, command, body)
        return self._receive({number: (op, command)}, self._usual_s(body))[1]

    def _usual_s(self, body: bytes) -> float:
        return self.link.settings.seconds(len(body) * 3 // 2 + 240) + self.patience_s

    def _again(
        self, op: int, command: Command, body: bytes, longest_s: float = 0.0, tries: int = _TRIES
    ) -> dict[str, Any]:
        """The same where it may be repeated: it does the same each time."""
        once = partial(self._slow_one if longest_s else self._once, op, command, body)
        return self.exchange(partial(once, longest_s) if longest_s else once, self._recover, tries)

    def _slow_one(self, op: int, command: Command, body: bytes, longest_s: float) -> dict[str, Any]:
        """A packet whose answer may take long, because a slot is erased first. Requests are answered in their order:
        if a later question is answered and this one was not, it was lost. Raises Silence, ChipRefusal."""
        self.link.discard()
        number = self._send(op, command, body)
        wanted = {number: (op, command)}
        deadline = Deadline.after(self.link, longest_s)
        wait_s = self._usual_s(body)
        while not deadline.over:
            try:
                answered, values = self._receive(wanted, wait_s)
            except Silence:
                self.link.write(b"\n")
                wanted[self._send(READ, Command.STATE, b"\xa0")] = (READ, Command.STATE)
                wait_s = _LOOKS_EVERY_S
                continue
            if answered == number:
                return values
            break
        raise Silence(f"answer to '{command.words}'", longest_s)

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
            told = self._again(READ, Command.PARAMETERS, b"\xa0", tries=2).get("buf_size", _USUAL_BUFFER)
            self._buffer = max(_LEAST_BUFFER, min(_MOST_BUFFER, int(told)))
        except (ChipRefusal, Silence):
            self._buffer = _USUAL_BUFFER
        said = "; ".join(_in_words(slot) for slot in self._slots) or "no image"
        return Identity(None, said, (("speaks", "running program" if self._runs else "serial recovery"),))

    @property
    def _runs(self) -> bool:
        """Whether a running program answers: recovery marks no image as active."""
        return any(slot.get("active") for slot in self._slots)

    @property
    def place(self) -> tuple[int, int]:
        """(image, slot) that an upload goes to. Recovery writes where the number says (0 and 1: the first slot)."""
        number = int(self.setting("image"))
        if self._runs:
            return number, 1
        return (0, 0) if number < 2 else ((number - 1) // 2, (number - 1) % 2)

    def _at(self, place: tuple[int, int]) -> dict[str, Any] | None:
        """What a slot holds; None if none is listed."""
        return next((slot for slot in self._slots if (slot.get("image", 0), slot.get("slot", 0)) == place), None)

    @property
    def _in_place(self) -> str:
        image, slot = self.place
        return f"slot {slot}" + (f" of image {image}" if image else "")

    def examine(self, part: Part) -> Examination:
        return Examination(part)

    # --- images

    @classmethod
    def fit(
        cls, part: Part, images: dict[str, Image], settings: Mapping[str, Any], even_if: frozenset[str]
    ) -> Fitted:
        """One signed image, whole and undamaged. Raises RefusedFault."""
        image = images.get("flash")
        if image is None or not image.pieces or image.end - image.lowest > part.flash.size:  # which the plan refuses
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
        at += "; encrypted: its hash is that of the plain program, and was not checked" if signed.encrypted else ""
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
        """Whether the slot that an upload goes to holds this image, or it is the one that runs, which the boot loader
        has summed. Recovery lists only images whose sum it has computed. A running program reads the hash from the
        image's own tags: that alone proves nothing, and leaves a doubt."""
        self._slots = _slots_of(self._again(READ, Command.STATE, b"\xa0"))
        there, self.doubt = self._at(self.place), ""
        if not data.strip(b"\xff"):
            self.doubt = "" if there else f"no image is listed in {self._in_place}; its bytes cannot be read"
            return False
        try:
            signed = read_signed(data)
        except SignedImageError:
            return False
        self._digest = signed.digest
        if not signed.right:
            return False
        if self._runs and self._active_is_ours():
            return True
        if there is None:
            return False
        told = there.get("hash")
        if told is None and there.get("version") == signed.version and not self._runs:
            self.doubt = f"this recovery lists {self._in_place} by its version only, {signed.version}, and no hash"
        if told != signed.digest:
            return False
        if self._runs and not self._matched:
            self.doubt = (
                f"{self._in_place} tells the hash that stands in the file, and has computed none: "
                "the boot loader does, at the start"
            )
            return False
        return True

    def sums_seen(self) -> tuple[str, ...]:
        return tuple(_in_words(slot) for slot in self._slots) or ("no slot holds an image",)

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """The slot that an upload would go to."""
        self.erase_all(memory)
        yield len(units)

    def erase_all(self, memory: Memory) -> None:
        image, slot = self.place
        self._again(WRITE, Command.ERASE, encoded({"slot": 2 * image + slot}), _ERASE_LONGEST_S)

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """The image from its beginning; the board says how far it has come, and is believed."""
        waiting = list(blocks)
        data = b"".join(block.data for block in blocks)
        answer: dict[str, Any] = {}
        self._matched, done = False, 0
        for again in (False, True):
            for answer in self._uploaded(data):
                while waiting and done + len(waiting[0].data) <= answer["off"]:
                    done += len(waiting[0].data)
                    yield waiting.pop(0)
            self._matched = answer.get("match") is True
            if self._matched:
                self.learned.append("this board sums what it wrote, and says that it matches")
            if answer.get("match") is not False:
                return
            self.retries += 1
            if again:
                raise VerifyFault.of(
                    "verify-differs",
                    f"the board has computed the hash of {self._in_place}, and it is not that of the image",
                    ("its answer to the last packet: match: false", "sent twice from the beginning"),
                    ("upload again; if it stays, the flash may be worn", "measure its supply while it writes"),
                    "certain",
                )

    def _uploaded(self, data: bytes) -> Iterator[dict[str, Any]]:
        """One upload from its beginning to its end; yields the answers."""
        at, longest_s, stuck = 0, _ERASE_LONGEST_S, 0
        while at < len(data):
            answer = self._sent_on(data, at, longest_s)
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
            yield answer

    def _sent_on(self, data: bytes, at: int, longest_s: float) -> dict[str, Any]:
        """The answer to one part of the image. What does not fit the buffer is dropped without a word: after each
        silence the part is smaller."""
        for _ in range(_TRIES - 1):
            try:
                return self._again(WRITE, Command.UPLOAD, self._chunk(data, at), longest_s, tries=1)
            except Silence as silence:
                if self.trial_s is not None:
                    raise
                self.retries += 1
                self._recover(silence.heard)
                self._buffer = max(_LEAST_BUFFER, self._buffer * 2 // 3)
        return self._again(WRITE, Command.UPLOAD, self._chunk(data, at), longest_s, tries=1)

    def _chunk(self, data: bytes, at: int) -> bytes:
        """As much as its buffer holds."""
        values: dict[str, Any] = {"off": at}
        if not at:
            values |= {"image": int(self.setting("image")), "len": len(data), "sha": hashlib.sha256(data).digest()}
        room = self._buffer - _AROUND - HEADER_BYTES - len(encoded({**values, "data": b""})) - 2
        return encoded({**values, "data": data[at : at + max(1, room)]})

    # --- starting

    def start(self, address: int) -> str:
        """In recovery a reset. To a running program: the image in the second slot is to be tried, a reset, and once
        it answers it is confirmed. Raises StartFault if another image runs then."""
        wish = self.setting("confirm")
        shown = self._digest.hex()[:8].upper()
        stays = "" if wish == "never" else " and is confirmed"
        if not (self._runs and self._digest):
            return self._reset()
        if self._active_is_ours():
            if wish != "never" and not any(slot.get("confirmed") for slot in self._slots if slot.get("active")):
                self._again(WRITE, Command.STATE, encoded({"confirm": True}))
                self.start_proves_image = True
                return f"image {shown}… runs{stays}"
            return self._reset()
        self._again(WRITE, Command.STATE, encoded({"hash": self._digest, "confirm": wish == "at-once"}))
        self._wait_for_swap()
        self.start_proves_image = True
        if wish == "when-it-runs":
            self._again(WRITE, Command.STATE, encoded({"confirm": True}))
        return f"image {shown}… runs{stays}"

    @property
    def proves_start(self) -> bool:
        """A reset is only acknowledged; that the new image is the active one was seen."""
        return self.start_proves_image

    def _reset(self) -> str:
        """Asked again if the answer does not come: it may have gone already."""
        for _ in range(_RESETS):
            try:
                self._once(WRITE, Command.RESET, b"\xa0")
                return "reset: rc 0"
            except Silence:
                self.link.write(b"\n")
        return "reset sent, and not answered"

    def _active_is_ours(self) -> bool:
        image = self.place[0]
        mine = (slot for slot in self._slots if slot.get("active") and slot.get("image", 0) == image)
        return any(slot.get("hash") == self._digest for slot in mine)

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
