"""`nuvoton-isp`: the ISP loader in the LDROM of Nuvoton's NuMicro (ISP application notes).

Packets of 64 bytes both ways. Each answer tells the sum of the 64 bytes that the chip received and a number one above
the chip's own count, which goes up by two with each packet: so every byte is accounted for, and a late answer is
known by its number. An update erases all of the program's flash (APROM), begins at its start whatever address is
sent, and ends with a sum of what was written: after any doubt it begins anew. Nothing can be read back.

A packet has no start of its own: a chip that lacks a byte is brought to the start of one by single zeros, until it
answers.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar

from ..chips.part import Memory, Part
from ..errors import RefusedFault
from ..image import Image, Piece
from ..link import Deadline, Link
from ..quantities import count, show_address, show_size
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import drain, refuse_text
from .results import Examination, Identity, OneFitted, WriteBlock
from .spec import Asking, Attempt, Cost, Costs, Erasing, ProtocolCommand, Reading, Setting, Spec, Starting, sum_costs


class Command(ProtocolCommand):
    """ISP application notes, "Commands"."""

    DATA = 0x00, "data"
    UPDATE = 0xA0, "update APROM"
    READ_CONFIG = 0xA2, "read config"
    SYNC = 0xA4, "sync packet number"
    VERSION = 0xA6, "version"
    RUN = 0xAB, "run APROM"
    RESET = 0xAD, "reset"
    CONNECT = 0xAE, "connect"
    DEVICE_ID = 0xB1, "device id"


PACKET_BYTES = 64
_FIRST_BYTES, _DATA_BYTES = 48, 56
_BLOCK = 56
_ERASE_LONGEST_S, _PROGRAM_LONGEST_S = 2.0, 0.2
_WORD, _PAGE, _LEAST_FLASH, _MOST_FLASH = 4, 512, 4096, 1 << 20
_QUIET_S, _TRIES = 0.03, 4


def packet(command: int, number: int, data: bytes = b"") -> bytes:
    return (command.to_bytes(4, "little") + number.to_bytes(4, "little") + data).ljust(PACKET_BYTES, b"\x00")


class NuvotonIsp(Dialect):
    """The conversation with one chip."""

    name: ClassVar[str] = "nuvoton-isp"
    title: ClassVar[str] = "NuMicro ISP loader"
    document: ClassVar[str] = "Nuvoton ISP application notes"
    decoder: ClassVar[str] = "nuvoton_isp"
    answer_s: ClassVar[float] = 0.3
    proof: ClassVar[str] = "the sum of all that the bootloader wrote, 16 bits, read from the flash by itself"
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=packet(Command.CONNECT, 1),
            attempts=(Attempt(0.02, 5), Attempt(0.1, 5), Attempt(0.3, 8)),
            wait_s=0.06,
            order=48,
        ),
        erasing=Erasing.INSIDE_WRITE,
        erases_everything=True,
        starting=Starting.COMMAND,
        reading=Reading.NONE,
        guards_writes=True,
        gives_up=True,
        tells_chip=False,
        start_answers=False,
        settings=(Setting("device", "text", "", "device number that the chip must tell, as greet shows it"),),
        costs=Costs(block=_BLOCK),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._number = 1
        self._told_size = self._device = 0
        self._config = b"\xff" * 8

    # --- packets

    def _request(self, command: Command, data: bytes = b"", longest_s: float = 0.0) -> bytes:
        """A packet, and what its answer holds behind sum and number. Raises Silence, Unexpected."""
        self.link.discard()
        self._number = self._number + 2 & 0xFFFFFFFF
        sent = packet(command, self._number, data)
        self.link.write(sent)
        wait_s = self.link.settings.seconds(2 * PACKET_BYTES) + self.patience_s + longest_s
        return self._answer(command, sent, wait_s)

    def _answer(self, command: Command, sent: bytes, wait_s: float) -> bytes:
        """Late answers to earlier packets are known by their numbers, and passed over."""
        waiting_for = f"answer to '{command.words}'"
        deadline = Deadline.after(self.link, wait_s)
        number = int.from_bytes(sent[4:8], "little") + 1 & 0xFFFFFFFF
        while True:
            heard = self.link.read(PACKET_BYTES, deadline.left_s)
            if not heard:
                raise Silence(waiting_for, wait_s)
            told = int.from_bytes(heard[4:8], "little")
            if len(heard) == PACKET_BYTES and 0 < told < number and not deadline.over:
                continue
            if len(heard) < PACKET_BYTES or (heard[:2], told) != ((sum(sent) & 0xFFFF).to_bytes(2, "little"), number):
                raise Unexpected(waiting_for, heard[:40] + drain(self.link, _QUIET_S)[:40])
            return heard[8:]

    def _recover(self, heard: bytes) -> None:
        """Single zeros until the chip answers to a packet that they have completed; then it must know its number
        again. Raises Silence."""
        refuse_text("answer", heard + drain(self.link, 2 * _QUIET_S))
        for _ in range(_TRIES):
            for _ in range(PACKET_BYTES):
                self.link.write(b"\x00")
                if self.link.read(1, self.link.settings.seconds(2) + _QUIET_S):
                    break
            drain(self.link, self.link.settings.seconds(PACKET_BYTES) + _QUIET_S)
            try:
                self._sync()
                return
            except (Silence, Unexpected):
                drain(self.link, 2 * _QUIET_S)
        raise Silence("answer to 'sync packet number'", self.patience_s)

    def _sync(self) -> None:
        """Bring the chip's count to ours: it takes it from the packet's data. Raises Silence, Unexpected."""
        self._request(Command.SYNC, (self._number + 2 & 0xFFFFFFFF).to_bytes(4, "little"))

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """The connection, whose answer has the sum of what was sent."""
        self.link.discard()
        sent = packet(Command.CONNECT, 1)
        self.link.write(sent)
        deadline = Deadline.after(self.link, wait_s + self.link.settings.seconds(2 * PACKET_BYTES))
        heard = b""
        wanted = (sum(sent) & 0xFFFF).to_bytes(2, "little")
        while not deadline.over:
            heard += self.link.read(PACKET_BYTES, deadline.left_s)
            at = heard.find(wanted)
            if at >= 0 and heard[at + 4 : at + 8] == (2).to_bytes(4, "little") and len(heard) >= at + PACKET_BYTES:
                self._number = 1
                self._told_size = int.from_bytes(heard[at + 8 : at + 12], "little")
                drain(self.link, _QUIET_S, 0.2)
                return f"the sum {wanted[::-1].hex().upper()} to connect"
        return None

    def identify(self) -> Identity:
        """Its version, the number of the device, and the configuration words, by which it may be locked."""

        def asked(command: Command, data: bytes = b"") -> bytes:
            return self.exchange(lambda: self._request(command, data), self._recover, _TRIES)

        self.exchange(self._sync, self._recover, _TRIES)
        version = asked(Command.VERSION)[0]
        device = self._device = int.from_bytes(asked(Command.DEVICE_ID)[:4], "little")
        config = self._config = asked(Command.READ_CONFIG)[:8]
        words = " ".join(config[at : at + 4][::-1].hex().upper() for at in (0, 4))
        details = (("loader", f"{version:02X}"), ("device id", f"{device:08X}"), ("config", words))
        return Identity(None, f"ISP loader {version:02X}, device {device:08X}", details)

    def examine(self, part: Part) -> Examination:
        """The flash ends where data flash begins, if that is enabled (bit 0 of the first configuration word is 0);
        some loaders tell at the connection how much there is. Raises RefusedFault if that is more than the part
        has."""
        wanted, told = str(self.setting("device")).upper(), f"{self._device:08X}"
        if wanted and wanted.zfill(8) != told:
            raise RefusedFault.of(
                "other-chip",
                f"the chip is another one: it tells device {told}, and {wanted} was declared",
                (),
                ("is it the board that you mean?", f"--set device={told}, if this one is right"),
                "certain",
            )
        size = part.flash.size
        plausible = self._told_size % _PAGE == 0 and _LEAST_FLASH <= self._told_size <= _MOST_FLASH
        if plausible and self._told_size > size:
            raise RefusedFault.of(
                "other-chip",
                f"{show_size(self._told_size)} of flash, and no {part.title} has more than {show_size(size)}",
                (f"device {told}",),
                ("read the name on the package: --chip",),
            )
        if plausible:
            size = self._told_size
        data_at = int.from_bytes(self._config[4:8], "little") & 0xFFFFF
        if not self._config[0] & 1 and 0 < data_at < size:
            size = data_at // _PAGE * _PAGE
        if size < part.flash.size:
            part = part.with_memory(part.flash.resized(size))
        return Examination(replace(part, size_known=True), (("flash", show_size(size)),))

    # --- images

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """One run from the start of the flash, its gaps blank. Raises RefusedFault for what begins elsewhere."""
        if not image.pieces or image.end > part.flash.end:  # which the plan refuses
            return image, ()
        start, fill = part.flash.start, part.flash.erased
        if image.lowest > start and "vectors" not in even_if:
            raise RefusedFault.of(
                "takes-along",
                "this bootloader erases all of the program's flash and begins at its start, whatever address is sent",
                (f"{image.name} begins at {show_address(image.lowest)}: what is before it would be blank",),
                (
                    "upload the whole program, joined: greenstep image join",
                    "if nothing else counts: --even-if vectors",
                ),
            )
        end = min(-(-image.end // _WORD) * _WORD, part.flash.end)
        data = image.cut(start, end - start, fill)
        gaps = len(image.pieces) - 1 + (image.lowest > start)
        notes = ["all of the program's flash (APROM) is erased first: what is not in the image is gone"]
        if gaps:
            notes.append(f"{count(gaps, 'gap')} filled with {fill:02X}: it is written in one run")
        return replace(image, pieces=(Piece(start, data),)), tuple(notes)

    # --- memory

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """All of it from its beginning, and again from there after any doubt."""
        data = b"".join(block.data for block in blocks)
        while not sum(data) & 0xFFFF and len(data) < memory.size:  # a loader that tells no sum has zeros in its place
            data += bytes([memory.erased]) * _WORD
        yielded, tries = 0, 0
        while True:
            try:
                for done in self._sent(memory, data):
                    while yielded < len(blocks) and blocks[yielded].end - memory.start <= done:
                        yielded += 1
                        yield blocks[yielded - 1]
                return
            except (Silence, Unexpected) as error:
                tries += 1
                if tries == _TRIES:
                    raise
                self.retries += 1
                self._recover(error.heard)

    def _sent(self, memory: Memory, data: bytes) -> Iterator[int]:
        """How many bytes are acknowledged so far."""
        head = memory.start.to_bytes(4, "little") + len(data).to_bytes(4, "little")
        erase_s = _ERASE_LONGEST_S + memory.mass_erase_time.longest_s
        told = self._request(Command.UPDATE, head + data[:_FIRST_BYTES], erase_s)
        usual = self._config[:2] if len(data) <= _FIRST_BYTES else told[:2]
        yield min(len(data), _FIRST_BYTES)
        for at in range(_FIRST_BYTES, len(data), _DATA_BYTES):
            told = self._request(Command.DATA, data[at : at + _DATA_BYTES], _PROGRAM_LONGEST_S)
            if at + _DATA_BYTES < len(data):
                yield at + _DATA_BYTES
        self._check_whole(told[:2], usual, data)
        # a byte that came twice and is like the packet's last one leaves the sum as it is, and the packets shifted:
        # one more, with another end, shows that
        last = data[-1] if (len(data) - _FIRST_BYTES) % _DATA_BYTES == 0 else 0
        end = next(value for value in (0x5A, 0xA5) if value != last)
        self._request(Command.VERSION, bytes(_DATA_BYTES - 1) + bytes([end]))
        yield len(data)

    def _check_whole(self, told: bytes, usual: bytes, data: bytes) -> None:
        """The last answer carries a sum of all that was written, in loaders that tell one; others have there what
        they `usual`ly have. Raises ChipRefusal."""
        wanted = (sum(data) & 0xFFFF).to_bytes(2, "little")
        self.doubt = ""
        if told == wanted:
            self.learned.append("this bootloader sums what it wrote")
            return
        if told in (usual, b"\x00\x00"):
            self.doubt = (
                "each packet is acknowledged as it arrived, but this bootloader tells no sum of what it wrote"
            )
            return
        said = f"the sum {told[::-1].hex().upper()} in place of {wanted[::-1].hex().upper()}"
        raise ChipRefusal(Command.UPDATE.words, RefusalKind.BAD_DATA, told, None, said)

    def start(self, address: int) -> str:
        """It runs the program, and does not answer."""
        self._number += 2
        self.link.write(packet(Command.RUN, self._number))
        self.link.sleep(self.link.settings.seconds(PACKET_BYTES + 1))
        return "run APROM sent"

    def finish(self) -> None:
        self.start(0)

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return Cost(PACKET_BYTES, PACKET_BYTES, 1, memory.program_s * size / memory.write_unit)

    @classmethod
    def cost_of_writes(cls, part: Part, memory: Memory, blocks: Sequence[WriteBlock]) -> Cost:
        """All pages are erased first."""
        erasing = Cost(busy_s=memory.mass_erase_time.typical_s)
        return sum_costs(cls.cost_of_write(memory, len(block.data)) for block in blocks) + erasing
