"""`xmodem`: any resident bootloader that accepts a file by XMODEM, XMODEM-CRC, XMODEM-1K or YMODEM.

The receiver begins: C asks for blocks with a CRC, NAK for blocks with a checksum. What a bootloader must be told
before and after are texts in the board's settings. Nothing can be read back: that the receiver accepted each block
with its checksum is no proof of what it wrote.
"""

from __future__ import annotations

from binascii import crc_hqx
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar

from ..chips.part import Memory, Part
from ..errors import RefusedFault, WriteFault
from ..image import Image, Piece
from ..link import Deadline, Link
from ..plan.write_options import TalkLine
from ..quantities import count, show_address, show_bytes, show_heard
from .abilities import Cancels
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import refuse_text, say_last
from .results import Examination, Identity, OneFitted, WriteBlock
from .spec import Asking, Attempt, Cost, Costs, Erasing, Reading, Setting, Spec, Starting, sum_costs

# Forsberg, "XMODEM/YMODEM Protocol Reference": control characters
SOH, STX, EOT, ACK, NAK, CAN, WITH_CRC = 0x01, 0x02, 0x04, 0x06, 0x15, 0x18, 0x43
SHORT, LONG = 128, 1024

_QUIET_S, _BRIEF_S = 0.05, 0.4
_MOST_ACKS = 3
"""Of one end of transfer."""
_NEXT_CALL_S = 1.2
_JUDGED_S = 5.0
_MOST_SENT = 64 << 20
_TRIES = 10
_LONG_TRIES = 3


class Xmodem(Dialect, Cancels):
    """One transfer to one bootloader."""

    name: ClassVar[str] = "xmodem"
    title: ClassVar[str] = "XMODEM receiver"
    document: ClassVar[str] = "XMODEM/YMODEM Protocol Reference"
    decoder: ClassVar[str] = "xmodem"
    answer_s: ClassVar[float] = 1.2
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=b"", sounds=(rb"C{2,}",), attempts=(Attempt(0.0, 2), Attempt(0.0, 2)), wait_s=3.5, order=0
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        reading=Reading.NONE,
        guards_writes=True,
        gives_up=False,
        tells_chip=False,
        start_answers=False,
        settings=(
            Setting("opening", "talk", (), "texts to expect and send until the transfer begins"),
            Setting("closing", "talk", (), "texts to expect and send to start the application"),
            Setting(
                "block",
                "text",
                "auto",
                "block size; auto is 1024 with CRC, else 128",
                ("auto", "128", "1024", "ymodem"),
            ),
            Setting("taken", "text", "", "text by which the bootloader says that it has taken the file"),
            Setting("refused", "text", "", "text by which it says that it has not"),
            Setting("pad", "number", 0x1A, "value that fills the last block: 0x1A, or 0xFF for flash"),
        ),
        costs=Costs(block=SHORT),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._crc = True
        self._name = ""
        self._size = 0
        self._heard_before = b""
        self._welcomed = False
        self._sent: Counter[int] = Counter()

    @property
    def patience_s(self) -> float:
        """A receiver that received nothing valid says so after ten seconds at the latest."""
        return 12.0

    # --- the beginning

    def ask(self, wait_s: float) -> str | None:
        """Send the opening texts, then listen for the receiver's call. Asking sends nothing else."""
        self._welcomed = False
        said = self._turns(self.setting("opening"))
        if said is None:
            return None
        call = self._call(wait_s)
        if call is None or self.link.settings.frame.data_bits < 8:  # a call survives seven bits, a block does not
            return None
        self._crc = call == WITH_CRC
        return f"{call:02X}, wants blocks with {'a CRC' if self._crc else 'a sum'}"

    def is_heard_in(self, data: bytes) -> bool:
        """By the texts of its opening: the letter with which it calls is in any text."""
        texts = [turn.expect.encode() for turn in self.setting("opening") if turn.expect]
        return any(text in data for text in texts)

    def _call(self, wait_s: float) -> int | None:
        """The character with which a receiver asks for the first block, on its own: a C within a text does not
        count. It may stand behind a prompt, on the same line: then after a pause."""
        brief = self.brief and not self._welcomed
        deadline = Deadline.after(self.link, min(wait_s, _BRIEF_S) if brief else wait_s)
        line, since_s = b"", self.link.now()
        while not deadline.over:
            heard = self.link.read(1, deadline.left_s)
            paused = self.link.now() - since_s > _QUIET_S + self.link.settings.seconds(1)
            since_s = self.link.now()
            if heard in (b"C", b"\x15") and (paused or not line.strip(b"C\x15")):
                more = self.link.read(1, _QUIET_S)
                if not more or more in (b"C", b"\x15"):
                    return heard[0]
                heard += more
            line = b"" if heard.endswith((b"\n", b"\r")) else (line + heard)[-80:]
        return None

    def _turns(self, turns: Sequence[TalkLine]) -> str | None:
        """Work through texts to expect and send. Returns what was heard last, or None if a text did not come."""
        heard = b""
        last = next((turn for turn in reversed(turns) if turn.send is not None), None)
        for turn in turns:
            wanted = turn.expect.encode()
            brief = self.brief and not self._welcomed  # once it has answered, it is given its time
            deadline = Deadline.after(self.link, min(turn.within_s, _BRIEF_S) if brief else turn.within_s)
            heard, self._heard_before = self._heard_before, b""
            while wanted not in heard:
                if deadline.over:
                    self._heard_before = heard[-len(wanted) :] if brief else b""
                    return None
                heard += self.link.read(1, deadline.left_s)
            self._welcomed = self._welcomed or bool(wanted)
            if turn.send is not None:
                if turn is last:
                    self.may_have_erased = (
                        "the bootloader was told to receive a program, and may have erased the old one"
                    )
                self.link.write(turn.send.encode())
        return heard.decode("ascii", "replace").strip()

    def identify(self) -> Identity:
        """It reports nothing about itself except how it wants its blocks."""
        return Identity(None, "takes XMODEM with " + ("a CRC" if self._crc else "a sum"))

    def examine(self, part: Part) -> Examination:
        return Examination(part)

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """One unbroken run: the protocol has no addresses."""
        _refuse_another_kind(part, image)
        notes = []
        if image.lowest:
            notes.append(f"sent from {show_address(image.lowest)} on; the bootloader decides where it goes")
        if len(image.pieces) > 1:
            fill = part.flash.erased
            _refuse_far(image)
            whole = image.cut(image.lowest, image.end - image.lowest, fill)
            notes.append(
                f"{count(len(image.pieces) - 1, 'gap')} filled with {fill:02X}: the protocol knows no addresses"
            )
            image = replace(image, pieces=(Piece(image.lowest, whole),))
        return image, tuple(notes)

    # --- blocks

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(5 + size, 1, 1, memory.program_s * size / SHORT)

    @classmethod
    def cost_of_writes(cls, part: Part, memory: Memory, blocks: Sequence[WriteBlock]) -> Cost:
        """Long blocks as far as they go."""
        size = sum(len(block.data) for block in blocks)
        long, rest = divmod(size, LONG)
        costs = [cls.cost_of_write(memory, LONG)] * long + [cls.cost_of_write(memory, SHORT)] * -(-rest // SHORT)
        return sum_costs(costs) + Cost(1, 1, 1)

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        data = b"".join(block.data for block in blocks)
        self._sent.clear()
        waiting = list(blocks)
        start, at, number = waiting[0].address, 0, 1
        wish = self.setting("block")
        if wish == "ymodem":
            self._announce(len(data))
        long_fails = 0 if wish in ("ymodem", "1024") or (wish == "auto" and self._crc) else _LONG_TRIES
        while at < len(data):
            size = LONG if long_fails < _LONG_TRIES and len(data) - at >= LONG else SHORT
            block = data[at : at + size].ljust(size, bytes([self.setting("pad")]))
            tries = _LONG_TRIES if size == LONG and not at and wish == "auto" else _TRIES
            try:
                self._block(number, block, start + at, tries)
            except ChipRefusal as refusal:
                if size == LONG and not at and refusal.answer == bytes([NAK]):  # plain XMODEM has no long blocks
                    long_fails = _LONG_TRIES
                    continue
                raise
            self._sent[size] += 1
            at, number = at + size, number + 1
            while waiting and waiting[0].address + len(waiting[0].data) <= start + at:
                yield waiting.pop(0)
        self._end(start + len(data))
        self._see_it_taken()
        if wish == "ymodem" and self._calls_again():
            self._block(0, bytes(SHORT), start + len(data), _TRIES)

    def _see_it_taken(self) -> None:
        """Some bootloaders judge the file when it is complete, and say so. Raises WriteFault."""
        taken, refused = (self.setting(name).encode() for name in ("taken", "refused"))
        self.doubt = "each block acknowledged as it arrived; what was written cannot be read back"
        if not taken:
            return
        deadline, heard = Deadline.after(self.link, _JUDGED_S), b""
        while not deadline.over and taken not in heard:
            heard += self.link.read(1, deadline.left_s)
            if refused and refused in heard:
                heard += self.link.read(80, _QUIET_S)
                raise WriteFault.of(
                    "file-refused",
                    "the bootloader has received the file, and does not take it",
                    (f"heard {show_heard(heard.strip())}",),
                    (
                        "is it the file that your build made for this board, undamaged?",
                        "signed as the board wants it?",
                    ),
                    "certain",
                )
        self._heard_before = heard[heard.find(taken) + len(taken) :] if taken in heard else heard
        self.doubt = f'the bootloader said "{taken.decode()}"; what was written cannot be read back'
        if taken not in heard:
            self.doubt = (
                f'all blocks are acknowledged, but the bootloader did not say "{taken.decode()}": '
                f"heard {show_heard(heard) if heard else 'nothing'}"
            )

    def blocks_sent(self) -> str:
        """Long ones, and short ones for the rest."""
        return ", ".join(
            f"{count(self._sent[size], 'block')} of {size}" for size in (LONG, SHORT) if self._sent[size]
        )

    def _calls_again(self) -> bool:
        """Whether the receiver calls for another file. Its file is complete when its EOT is acknowledged: some accept
        no more, and what they send then is their own output; some acknowledge it once more before they call."""
        deadline = Deadline.after(self.link, _NEXT_CALL_S)
        heard, acknowledged = b"", 0
        while not deadline.over and len(heard) < 4:
            one = self.link.read(1, deadline.left_s)
            if one == bytes([ACK]) and not heard and acknowledged < _MOST_ACKS:
                acknowledged += 1
                continue
            heard += one
            if heard == b"C":
                more = self.link.read(1, _QUIET_S)
                if not more or more == b"C":
                    return True
                heard += more
        self._heard_before = heard
        return False

    @property
    def guards_weakly(self) -> bool:
        return not self._crc

    def _announce(self, size: int) -> None:
        """YMODEM's block 0: name, NUL, size in decimal. Then the receiver calls again."""
        head = b"firmware.bin\x00%d" % size
        self._block(0, head.ljust(SHORT, b"\x00"), 0, _TRIES)
        if self._call(self.patience_s) is None:
            raise Silence("43 after the name", self.patience_s)

    def _block(self, number: int, data: bytes, address: int, tries: int) -> None:
        """Send one block until it is acknowledged. Raises ChipRefusal, Silence, Unexpected."""
        head = bytes([SOH if len(data) == SHORT else STX, number & 0xFF, ~number & 0xFF])
        guard = crc_hqx(data, 0).to_bytes(2, "big") if self._crc else bytes([sum(data) & 0xFF])
        self._until_acknowledged(head + data + guard, f"block {number}", address, tries)

    def _end(self, address: int) -> None:
        """Send EOT until it is acknowledged; some receivers refuse the first on purpose."""
        self._until_acknowledged(bytes([EOT]), "end of transfer", address, _TRIES)

    def _until_acknowledged(self, sent: bytes, name: str, address: int, tries: int) -> None:
        answer, deadline = 0, Deadline.after(self.link, 0.0)
        for attempt in range(tries):
            stale = self.link.discard()  # earlier calls, which would be taken for answers
            if bytes([CAN, CAN]) in stale:
                raise ChipRefusal(name, RefusalKind.BAD_DATA, bytes([CAN, CAN]), address)
            self.link.write(sent)
            deadline = Deadline.after(self.link, self.link.settings.seconds(len(sent)) + self.patience_s)
            answer = self._answer(name, deadline)
            if answer == ACK:
                if attempt and sent != bytes([EOT]):
                    self._let_pass(name, address, deadline)
                return
            if attempt or sent != bytes([EOT]):
                self.retries += 1
        # one of the tries may have been accepted, its answer still on its way: a shorter block of
        # the same number would then pass for a repetition of this one
        if ACK not in self._let_pass(name, address, deadline):
            raise ChipRefusal(name, RefusalKind.BAD_DATA, bytes([answer]), address)

    def _let_pass(self, name: str, address: int, deadline: Deadline) -> bytes:
        """Wait out the answers to the same block sent before: an ACK has no number, and a late one would be taken for
        the next block's. Empty if a program talks."""
        heard = b""
        while not deadline.over:
            heard += self.link.read(1, deadline.left_s)
        if bytes([CAN, CAN]) in heard:
            raise ChipRefusal(name, RefusalKind.BAD_DATA, bytes([CAN, CAN]), address)
        return b"" if heard.strip(bytes([ACK, NAK, WITH_CRC])) else heard

    def _answer(self, name: str, deadline: Deadline) -> int:
        """ACK or NAK. A receiver that got nothing valid asks again by itself, so anything else is waited out."""
        heard = b""
        while not deadline.over:
            one = self.link.read(1, deadline.left_s)
            heard += one
            if one == bytes([CAN]):
                if self.link.read(1, 0.5) == bytes([CAN]):
                    raise ChipRefusal(name, RefusalKind.BAD_DATA, bytes([CAN, CAN]))
            elif one and one[0] in (ACK, NAK):
                return one[0]
            elif heard == b"CC":  # one call may have been on its way when we began; a second one is a refusal
                return NAK
            if len(heard) > 40:
                refuse_text(f"answer to {name}", heard)
        if heard:
            raise Unexpected(f"answer to {name}", heard)
        raise Silence(f"answer to {name}", self.patience_s)

    # --- the end

    def start(self, address: int) -> str:
        """Send the closing texts; without any, bootloaders of this kind start the application themselves."""
        turns = self.setting("closing")
        said = self._turns(turns)
        if said is None:
            raise Silence(f'"{turns[0].expect}"', turns[0].within_s)
        sent = "".join(turn.send or "" for turn in turns)
        return f"told {show_heard(sent.encode())}" if sent else ""

    def cancel(self) -> None:
        """The sender may cancel too."""
        self.finish()

    def finish(self) -> None:
        """End a transfer that was begun and not used."""
        say_last(self.link, bytes([CAN, CAN, CAN]))


def _refuse_far(image: Image) -> None:
    """Raises RefusedFault if filling the gaps would send far more than any such chip holds."""
    if image.end - image.lowest <= _MOST_SENT:
        return
    raise RefusedFault.of(
        "does-not-fit",
        f"{image.name} has pieces far apart, and the protocol has no addresses: the gaps would be sent too",
        (
            f"from {show_address(image.lowest)} to {show_address(image.end - 1)}",
            f"it holds {image.size_bytes:,} bytes",
        ),
        ("is there a stray record in the file? greenstep image show", "cut it: greenstep image cut"),
        "certain",
    )


def _refuse_another_kind(part: Part, image: Image) -> None:
    """Some bootloaders take files of one kind only, known by their first bytes. Raises RefusedFault."""
    wanted, called = part.extra.get("begins", ("", ""))
    head = image.cut(image.lowest, 4, 0)
    if wanted and head != bytes.fromhex(wanted):
        raise RefusedFault.of(
            "not-signed",
            f"{image.name} is no {called}, and this bootloader takes no other",
            (f"it begins with {show_bytes(head)}, a {called} with {show_bytes(bytes.fromhex(wanted))}",),
            ("upload the file that your build makes for it", "is --chip right?"),
        )
