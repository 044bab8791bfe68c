"""`nrf5-dfu`: the serial bootloader of Nordic's nRF5 SDK (infocenter, "DFU protocol", "serial transport").

SLIP frames. A packet goes first that says what comes, usually signed; then the program, in objects of a few KiB: each
is made, sent, and executed once its CRC-32 is that of the file so far. What an earlier upload has brought over is
asked for, and not sent again. In the end the board checks the hash in the first packet, and starts the program.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, ClassVar

from ..chips.part import Memory, Part
from ..errors import RefusedFault
from ..image import Image
from ..image.dfu_package import FORMAT
from ..link import Deadline, Link
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import drain, refuse_text
from .results import Examination, Identity, OneFitted, WriteBlock
from .slip import slip
from .spec import Asking, Attempt, Cost, Costs, Erasing, ProtocolCommand, Reading, Setting, Spec, Starting


class Command(ProtocolCommand):
    """DFU protocol, "Operation codes"."""

    CREATE = 0x01, "create object"
    NOTIFY = 0x02, "set notifications"
    CRC = 0x03, "get CRC"
    EXECUTE = 0x04, "execute object"
    SELECT = 0x06, "select object"
    MTU = 0x07, "get MTU"
    WRITE = 0x08, "write object"
    PING = 0x09, "ping"


RESULTS = {
    0x00: "invalid",
    0x01: "ok",
    0x02: "operation not supported",
    0x03: "invalid parameter",
    0x04: "too few resources",
    0x05: "invalid object, perhaps signed with another key",
    0x07: "type not supported",
    0x08: "not permitted",
    0x0A: "failed",
    0x0B: "refused",
}
"""DFU protocol, "Result codes"."""
_EXTENDED = {
    0x02: "the packet before the program is wrongly formed",
    0x03: "the packet before the program holds an unknown command",
    0x04: "the packet before the program is not valid",
    0x05: "the program's version is lower than that on the board",
    0x06: "it is for other hardware",
    0x07: "it needs another SoftDevice",
    0x08: "it is not signed",
    0x09: "the kind of hash is not supported",
    0x0A: "the hash is not right",
    0x0B: "the kind of signature is not supported",
    0x0C: "it could not be verified",
    0x0D: "too little room",
}
"""The same, "Extended error codes", behind result 0B."""
_OK, _NOT_PERMITTED, _EXTENDED_ERROR = 0x01, 0x08, 0x0B
_KINDS = {0x02: RefusalKind.UNSUPPORTED, 0x04: RefusalKind.BAD_ADDRESS, 0x07: RefusalKind.UNSUPPORTED}
_RESPONSE, _END = 0x60, b"\xc0"
_PACKET, _DATA = 1, 2
_LEAST_MTU, _MOST_MTU, _BLOCK = 11, 4096, 4096
_ERASE_LONGEST_S, _CHECK_LONGEST_S, _ACTIVATES_S = 1.0, 5.0, 2.0
_QUIET_S, _TRIES = 0.03, 4


class Nrf5Dfu(Dialect):
    """The conversation with one board."""

    name: ClassVar[str] = "nrf5-dfu"
    title: ClassVar[str] = "nRF5 serial DFU bootloader"
    document: ClassVar[str] = "Nordic infocenter, DFU protocol"
    decoder: ClassVar[str] = "nrf5_dfu"
    proof: ClassVar[str] = "the CRC-32 of each object, and the board's word on the hash of all"
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=slip(bytes([Command.PING, 1])),
            sounds=(rb"(\x60.[\x00-\x0b]\xc0)+",),
            attempts=(Attempt(0.05, 2), Attempt(0.2, 2), Attempt(0.6, 2)),
            wait_s=0.15,
            order=42,
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        reading=Reading.NONE,
        guards_writes=True,
        gives_up=False,
        tells_chip=False,
        start_answers=False,
        settings=(
            Setting("packet", "text", "", "the packet before the program, in hexadecimal; from the package if empty"),
        ),
        costs=Costs(block=_BLOCK),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._pings = 0
        self._chunk = 0
        self._packet = b""

    # --- frames

    def _send(self, command: Command, data: bytes = b"") -> int:
        """A frame; how many characters it had."""
        sent = slip(bytes([command]) + data)[1:]
        self.link.write(sent)
        return len(sent)

    def _response(self, command: Command, size: int, deadline: Deadline) -> bytes:
        """What follows result 1 in the answer to a command. Answers to other commands are late, and passed over.
        Raises ChipRefusal, Silence, Unexpected."""
        waiting_for, heard = f"answer to '{command.words}'", b""
        while True:
            while not heard.endswith(_END):
                more = self.link.read(1, deadline.left_s)
                if not more or (deadline.over and more != _END):  # on a line that is never quiet
                    if heard:
                        raise Unexpected(waiting_for, heard)
                    raise Silence(waiting_for, self.patience_s)
                heard += more
            frame = heard[:-1].replace(b"\xdb\xdc", _END).replace(b"\xdb\xdd", b"\xdb")
            heard = b""
            if not frame or frame[1:2] != bytes([command]):
                if frame and (frame[0] != _RESPONSE or not Command.known(frame[1] if len(frame) > 1 else 0)):
                    raise Unexpected(waiting_for, frame[:40])
                continue
            if frame[0] != _RESPONSE or len(frame) < 3:
                raise Unexpected(waiting_for, frame[:40])
            if frame[2] != _OK:
                raise self._refusal(command, frame[2:])
            if len(frame) != 3 + size:
                raise Unexpected(waiting_for, frame[:40])
            return frame[3:]

    @staticmethod
    def _refusal(command: Command, told: bytes) -> ChipRefusal:
        words = RESULTS.get(told[0], "not known")
        if told[0] == _EXTENDED_ERROR and len(told) > 1:
            words = _EXTENDED.get(told[1], f"{words}, {told[1]:02X}")
        return ChipRefusal(
            command.words, _KINDS.get(told[0], RefusalKind.BAD_DATA), told, None, f"{told[0]:02X}, {words},"
        )

    def _request(self, command: Command, data: bytes = b"", size: int = 0, longest_s: float = 0.0) -> bytes:
        self.link.discard()
        sent = self._send(command, data)
        wait_s = self.link.settings.seconds(sent + 2 * size + 8) + self.patience_s + longest_s
        return self._response(command, size, Deadline.after(self.link, wait_s))

    def _with_retry(self, command: Command, data: bytes = b"", size: int = 0, longest_s: float = 0.0) -> bytes:
        """The same where it may be repeated."""
        return self.exchange(lambda: self._request(command, data, size, longest_s), self._recover, _TRIES, refusals=2)

    def _ping(self) -> None:
        """One with a number of its own. Raises Silence, Unexpected."""
        self._pings = self._pings % 200 + 1
        self.link.write(_END)
        sent = self._send(Command.PING, bytes([self._pings]))
        deadline = Deadline.after(self.link, self.link.settings.seconds(sent + 8) + self.patience_s)
        while self._response(Command.PING, 1, deadline) != bytes([self._pings]):
            pass  # an earlier one's answer

    def _recover(self, heard: bytes) -> None:
        """End half a frame; then it must answer a ping with its number, behind which nothing old can come."""
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for attempt in range(_TRIES):
            try:
                self._ping()
                return
            except (Silence, Unexpected, ChipRefusal):
                drain(self.link, 2 * _QUIET_S)
                if attempt == _TRIES - 1:
                    raise

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """A ping, whose answer has its number."""
        self.link.discard()
        try:
            with self.waiting(self.probe_timeout(wait_s)):
                self._ping()
        except (Silence, Unexpected, ChipRefusal):
            drain(self.link, _QUIET_S, wait_s)
            return None
        return f"ping {self._pings} answered"

    def identify(self) -> Identity:
        """It tells how much it takes at once."""
        mtu = int.from_bytes(self._with_retry(Command.MTU, size=2), "little")
        if not _LEAST_MTU <= mtu <= _MOST_MTU:
            raise Unexpected("an MTU", mtu.to_bytes(2, "little"))
        self._chunk = (mtu - 1) // 2 - 1
        self._with_retry(Command.NOTIFY, b"\x00\x00")
        return Identity(None, "serial DFU bootloader", (("MTU", f"{mtu} bytes"),))

    def examine(self, part: Part) -> Examination:
        return Examination(part)

    def look_before(self, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> tuple[str, ...]:
        image = images.get("flash")
        self._packet = bytes.fromhex(self.setting("packet") or (image.header if image is not None else ""))
        return ()

    # --- objects

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """The packet, then the program, as far as they are not there yet."""
        data = b"".join(block.data for block in blocks)
        known = self._bring_packet()
        most, done, crc = self._selected(_DATA)
        if not known or done > len(data) or crc != zlib.crc32(data[:done]):
            done = 0
        if done and done % most:  # part of an object: it is made anew
            done -= done % most
        elif done and done == len(data):
            self._execute_last()
        elif done:
            self._execute(perhaps_done=True)
        waiting = list(blocks)
        while done < len(data):
            size = min(most, len(data) - done)
            self._bring(_DATA, data[: done + size], done, last=done + size == len(data))
            done += size
            while len(waiting) > 1 and waiting[0].end <= done:
                yield waiting.pop(0)
        yield from waiting

    def _selected(self, kind: int) -> tuple[int, int, int]:
        """The largest object of a kind, and how much of it all is there, with its CRC-32; the same twice, because
        nothing guards it."""
        for _ in range(_TRIES):
            told = [self._with_retry(Command.SELECT, bytes([kind]), 12) for _ in range(2)]
            most, done, crc = (int.from_bytes(told[0][at : at + 4], "little") for at in (0, 4, 8))
            if told[0] == told[1] and most:
                return most, done, crc
            self.retries += 1
        raise Unexpected(f"the same answer to '{Command.SELECT.words}'", told[1])

    def _bring_packet(self) -> bool:
        """Whether it was there already."""
        most, done, crc = self._selected(_PACKET)
        if len(self._packet) > most:
            raise ChipRefusal(Command.CREATE.words, RefusalKind.BAD_DATA, b"", None, f"no more than {most} bytes")
        there = done == len(self._packet) and crc == zlib.crc32(self._packet)
        if there:
            self._execute()
        else:
            self._bring(_PACKET, self._packet, 0)
        return there

    def _bring(self, kind: int, whole: bytes, begin: int, last: bool = False) -> None:
        """An object, from `begin` on, until its CRC is that of all so far; then it is executed."""
        for attempt in range(_TRIES):
            head = bytes([kind]) + (len(whole) - begin).to_bytes(4, "little")
            self._with_retry(Command.CREATE, head, longest_s=_ERASE_LONGEST_S)
            for at in range(begin, len(whole), self._chunk):
                self._send(Command.WRITE, whole[at : at + self._chunk])
            told = self._with_retry(Command.CRC, size=8, longest_s=self._under_way(whole[begin:]))
            if told == len(whole).to_bytes(4, "little") + zlib.crc32(whole).to_bytes(4, "little"):
                if last:
                    self._execute_last()
                else:
                    self._execute()
                return
            if attempt < _TRIES - 1:
                self.retries += 1
        said = f"{int.from_bytes(told[:4], 'little'):,} bytes with CRC-32 {told[:3:-1].hex().upper()}"
        raise ChipRefusal(Command.CRC.words, RefusalKind.BAD_DATA, told, begin, said)

    def _under_way(self, data: bytes) -> float:
        """How long the frames of so much data take."""
        frames = -(-len(data) // self._chunk)
        return self.link.settings.seconds(len(slip(data)) + 2 * frames)

    def _execute(self, perhaps_done: bool = False) -> None:
        """Repeated after silence: that it is no longer permitted then says that it has been done."""
        tries = int(perhaps_done)

        def once() -> bytes:
            nonlocal tries
            tries += 1
            try:
                return self._request(Command.EXECUTE, longest_s=_CHECK_LONGEST_S)
            except ChipRefusal as refusal:
                if tries > 1 and refusal.answer[0] == _NOT_PERMITTED:
                    return b""
                raise

        self.exchange(once, self._recover, _TRIES)

    def _execute_last(self) -> None:
        """The last one, after which the board judges the whole, resets itself and runs the program. If its answer is
        lost: a loader that is still there has not taken it, one that has gone leaves a doubt."""
        self.doubt = ""
        for again in (False, True):
            try:
                self._request(Command.EXECUTE, longest_s=_CHECK_LONGEST_S)
                return
            except ChipRefusal as refusal:
                if again and refusal.answer[0] == _NOT_PERMITTED:
                    said = "its answer was lost, and the loader is still there: it has refused what it was brought"
                    raise ChipRefusal(
                        Command.EXECUTE.words, RefusalKind.BAD_DATA, refusal.answer, None, said
                    ) from None
                raise
            except (Silence, Unexpected):
                self.retries += 1
            self.link.sleep(_ACTIVATES_S)
            drain(self.link, _QUIET_S)
            try:
                self._ping()
            except (Silence, Unexpected, ChipRefusal):
                break
        self.doubt = "the last answer was lost, and the loader has gone, as it does to run what it was brought"

    def start(self, address: int) -> str:
        """It does so by itself."""
        return "it starts what it was brought"

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """Only packages, which have the packet that must go first. Raises RefusedFault."""
        text = str(settings.get("packet") or "")
        try:
            bytes.fromhex(text)
        except ValueError:
            raise RefusedFault.of(
                "setting", "the packet is not written in hexadecimal", (text[:60],), ("--set packet=…",)
            ) from None
        if image.format != FORMAT and not text:
            raise RefusedFault.of(
                "not-signed",
                f"{image.name} is {image.format}, and this bootloader takes packages (a zip with a manifest)",
                (),
                ("upload the package of your build", "or give the packet that goes before it: --set packet=HEX"),
            )
        return image, ()

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(size + size // 64 * 2 + size // 128 + 12, 22, 3, 0.09)
