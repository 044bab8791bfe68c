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

from ..chips.part import EraseUnit, Memory, Part
from ..errors import RefusedFault, StartFault, VerifyFault, WriteFault
from ..image import Image
from ..link import Deadline, Link
from ..quantities import count, show_address
from .abilities import Checksums, TellsSums
from .errors import ChipRefusal, Silence, Unexpected
from .results import Examination, Identity, OneFitted, WriteBlock
from .smp_exchange import FIRST, HEADER_BYTES, READ, TRIES, WRITE, Command, Packet, SmpExchange, encoded, in_lines
from .smp_images import Place, SignedImage, SignedImageError, Slots, place_in_words, read_signed
from .spec import Asking, Attempt, Cost, Costs, Erasing, Setting, Spec, Starting

_ERASE_LONGEST_S, _SWAP_LONGEST_S, _RESET_S = 60.0, 90.0, 1.0
_USUAL_BUFFER, _LEAST_BUFFER, _MOST_BUFFER = 256, 96, 4096
_RESETS = 3
_AROUND = 4
"""Length and CRC of a packet are in the server's buffer, too."""
_BLOCK = 128
_LOOK_UNIT = 32
"""Recovery may hold back what does not fill the flash's write unit, 32 bytes at most."""
_LOST_ONCE_IN = 4096


class Smp(SmpExchange, Checksums, TellsSums):
    """The conversation with one board."""

    name: ClassVar[str] = "smp"
    title: ClassVar[str] = "SMP server"
    document: ClassVar[str] = "SMP specification"
    decoder: ClassVar[str] = "smp"
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
        costs=Costs(block=_BLOCK),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._buffer = _USUAL_BUFFER
        self._signed: SignedImage | None = None
        self._matched = False
        self._checks_all: bool | None = None
        """Whether this recovery's check covers what follows the hash, the signature; None if it was not seen."""
        self._slots = Slots()

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """The state of the images; asking changes nothing. An echo is no answer."""
        self.link.write(b"\n")  # ends whatever line was begun
        try:
            with self.waiting(wait_s):
                self._slots = Slots.of(self.once(READ, Command.STATE, b"\xa0"))
        except Silence:
            return None
        except ChipRefusal as refusal:
            return f"refuses to tell its images: {refusal}"
        return count(len(self._slots.listed), "image")

    def identify(self) -> Identity:
        """What its slots hold, and how large its packets may be."""
        self._slots = Slots.of(self.again(READ, Command.STATE, b"\xa0"))
        try:
            told = self.again(READ, Command.PARAMETERS, b"\xa0", tries=2).get("buf_size", _USUAL_BUFFER)
            self._buffer = max(_LEAST_BUFFER, min(_MOST_BUFFER, int(told)))
        except (ChipRefusal, Silence):
            self._buffer = _USUAL_BUFFER
        said = "; ".join(self._slots.in_words) or "no image"
        return Identity(None, said, (("speaks", "running program" if self._slots.run else "serial recovery"),))

    @property
    def _place(self) -> Place:
        return self._slots.place_of(int(self.setting("image")))

    def examine(self, part: Part) -> Examination:
        return Examination(part)

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """One signed image, whole and undamaged. Raises RefusedFault."""
        if not image.pieces or image.end - image.lowest > part.flash.size:  # which the plan refuses
            return image, ()
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
        return image, (f"signed image, version {signed.version}{at}",)

    # --- memory

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        return 1

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """Whether the slot that an upload goes to holds this image, or it is the one that runs, which the boot loader
        has summed. Recovery lists only images whose sum it has computed. A running program reads the hash from the
        image's own tags: that alone proves nothing, and leaves a doubt. So do the bytes behind the hash, unless
        recovery was seen to check them."""
        self._slots = Slots.of(self.again(READ, Command.STATE, b"\xa0"))
        place, there = place_in_words(self._place), self._slots.at(self._place)
        self.doubt = self.shown = ""
        if not data.strip(b"\xff"):
            self.doubt = "" if there else f"no image is listed in {place}; its bytes cannot be read"
            return False
        try:
            self._signed = signed = read_signed(data)
        except SignedImageError:
            return False
        if not signed.right:
            return False
        told = there.get("hash") if there else None
        if self._slots.run:
            if self._matched and told == signed.digest:
                return True
            if self._active():
                return True
            if told == signed.digest:
                self.doubt = (
                    f"{place} tells the hash that stands in the file, and has computed none: "
                    "the boot loader does, at the start"
                )
            return False
        if there is not None and told is None and there.get("version") == signed.version:
            self.doubt = f"this recovery lists {place} by its version only, {signed.version}, and no hash"
        return told == signed.digest and self._covers(signed, len(data), place)

    def _covers(self, signed: SignedImage, size: int, place: str) -> bool:
        """Whether the check that the image has passed covers all `size` bytes."""
        unseen = size - (signed.length if self._checks_all else signed.hash_end)
        if not unseen:
            return True
        what = "behind its tags" if self._checks_all else "of its signature"
        early = "; this recovery lists an image before they have come" if self._checks_all is False else ""
        self.shown = f"all but {unseen:,} bytes of it"
        self.doubt = f"{place} has the right hash, and {unseen:,} bytes {what} are in no sum{early}"
        return False

    def sums_seen(self) -> tuple[str, ...]:
        return self._slots.in_words or ("no slot holds an image",)

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """The slot that an upload would go to."""
        self.erase_all(memory)
        yield len(units)

    def erase_all(self, memory: Memory) -> None:
        image, slot = self._place
        self.again(WRITE, Command.ERASE, encoded({"slot": 2 * image + slot}), _ERASE_LONGEST_S)

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """The image from its beginning; the board says how far it has come, and is believed."""
        waiting = list(blocks)
        data = b"".join(block.data for block in blocks)
        answer: dict[str, Any] = {}
        self._matched, self._checks_all, done = False, None, 0
        with suppress(SignedImageError):
            self._signed = read_signed(data)
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
                    f"the board has summed {place_in_words(self._place)}, and the hash is not that of the image",
                    ("its answer to the last packet: match: false", "sent twice from the beginning"),
                    ("upload again; if it stays, the flash may be worn", "measure its supply while it writes"),
                    "certain",
                )

    def _uploaded(self, data: bytes) -> Iterator[dict[str, Any]]:
        """One upload from its beginning to its end; yields the answers."""
        at, longest_s, stuck = 0, _ERASE_LONGEST_S, 0
        looks_at = self._look_before_end()
        while at < len(data):
            if looks_at and at >= looks_at - _LOOK_UNIT:
                self._look_whether_it_is_listed()
                looks_at = 0
            answer = self._sent_on(data, at, looks_at if at < looks_at else len(data), longest_s)
            told = answer.get("off")
            if not isinstance(told, int) or not 0 <= told <= len(data):
                raise Unexpected("how far the upload is", encoded(answer)[:40])
            stuck += told <= at  # going back now and then is how it makes good what was lost
            if stuck > TRIES // 2:  # it may hold back more than was thought
                looks_at = 0
            if stuck > TRIES + at // _LOST_ONCE_IN:
                raise WriteFault.of(
                    "restarted",
                    "the board loses what it was sent: it restarts while it is written",
                    (f"it went back {count(stuck, 'time')}, the last time from {at:,} to {told:,} bytes",),
                    ("measure its supply while it writes", "does a watchdog of its program reset it?"),
                )
            at, longest_s = told, _ERASE_LONGEST_S if not told else 0.0
            yield answer

    def _look_before_end(self) -> int:
        """Where to stop for a look, in recovery: the hash is there, and of what follows it something is missing.
        0 for no look."""
        signed = self._signed
        if signed is None or self._slots.run:
            return 0
        stop = -(-signed.hash_end // _LOOK_UNIT) * _LOOK_UNIT + _LOOK_UNIT
        return stop if stop < signed.length else 0

    def _look_whether_it_is_listed(self) -> None:
        """An image that is listed now is listed by its hash alone."""
        assert self._signed is not None
        try:
            slots = Slots.of(self.again(READ, Command.STATE, b"\xa0", tries=2))
        except (Silence, ChipRefusal):
            return
        there = slots.at(self._place)
        self._checks_all = there is None or there.get("hash", self._signed.digest) != self._signed.digest
        if not self._checks_all:
            self.learned.append("this recovery lists an image before its signature is complete")

    def _sent_on(self, data: bytes, at: int, end: int, longest_s: float) -> dict[str, Any]:
        """The answer to one part of the image. What does not fit the buffer is dropped without a word: after each
        silence the part is smaller."""
        for _ in range(TRIES - 1):
            try:
                return self.again(WRITE, Command.UPLOAD, self._chunk(data, at, end), longest_s, tries=1)
            except Silence as silence:
                if self.trial_s is not None:
                    raise
                self.retries += 1
                self.recover(silence.heard)
                self._buffer = max(_LEAST_BUFFER, self._buffer * 2 // 3)
        return self.again(WRITE, Command.UPLOAD, self._chunk(data, at, end), longest_s, tries=1)

    def _chunk(self, data: bytes, at: int, end: int) -> bytes:
        """As much as its buffer holds, at most up to `end`."""
        values: dict[str, Any] = {"off": at}
        if not at:
            values |= {"image": int(self.setting("image")), "len": len(data), "sha": hashlib.sha256(data).digest()}
        room = self._buffer - _AROUND - HEADER_BYTES - len(encoded({**values, "data": b""})) - 2
        return encoded({**values, "data": data[at : min(end, at + max(1, room))]})

    # --- starting

    def start(self, address: int) -> str:
        """In recovery a reset. To a running program: the image in the second slot is to be tried, a reset, and once
        it answers it is confirmed. Raises StartFault if another image runs then."""
        wish, signed = self.setting("confirm"), self._signed
        stays = "" if wish == "never" else " and is confirmed"
        if signed is None or not self._slots.run:
            return self._reset()
        there = self._active()
        if there is not None and (wish == "never" or there.get("confirmed")):
            return self._reset()
        if there is None:
            self.again(WRITE, Command.STATE, encoded({"hash": signed.digest, "confirm": wish == "at-once"}))
            self._wait_for_swap(signed)
        if there is not None or wish == "when-it-runs":
            self.again(WRITE, Command.STATE, encoded({"confirm": True}))
        self.start_proves_image = True
        return f"image {signed.digest.hex()[:8].upper()}… runs{stays}"

    @property
    def proves_start(self) -> bool:
        """A reset is only acknowledged; that the new image is the active one was seen."""
        return self.start_proves_image

    def _reset(self) -> str:
        """Asked again if the answer does not come: it may have gone already."""
        for _ in range(_RESETS):
            try:
                self.once(WRITE, Command.RESET, b"\xa0")
                return "reset: rc 0"
            except Silence:
                self.link.write(b"\n")
        return "reset sent, and not answered"

    def _active(self) -> Mapping[str, Any] | None:
        """The slot that runs, if it is the image of this upload."""
        return self._slots.active(self._place[0], self._signed.digest) if self._signed is not None else None

    def _wait_for_swap(self, signed: SignedImage) -> None:
        """A reset, and again only while the image still waits for one: a second would swap the images back."""
        deadline = Deadline.after(self.link, _SWAP_LONGEST_S)
        due = True
        while not deadline.over:
            with suppress(Silence):
                if due:
                    self.once(WRITE, Command.RESET, b"\xa0")
            self.link.sleep(_RESET_S)
            try:
                self._slots = Slots.of(self.once(READ, Command.STATE, b"\xa0"))
            except Silence:
                due = False
                continue
            if self._active():
                return
            due = self._slots.is_pending(signed.digest)
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
