"""`nxp-mcu`: the MCU bootloader in the ROM of many Kinetis, of LPC55xx and of MCX (MCU Bootloader Reference Manual).

Every frame carries a CRC-16 and is acknowledged, but has no number: one that is sent again after a lost
acknowledgement would be taken for the next. So after any doubt the conversation begins anew by a ping, and what the
chip holds by then is read before more is written: most of these flashes must not be programmed twice. Layout and
sizes come from the chip.
"""

from __future__ import annotations

import re
from binascii import crc_hqx
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import partial
from typing import Any, ClassVar

from ..chips.catalogue import Catalogue
from ..chips.part import EraseUnit, Memory, Part
from ..errors import RefusedFault
from ..image import Image, Piece
from ..link import Deadline, Link
from ..quantities import show_address, show_size
from ..spans import Span, without
from .abilities import PROOF_BYTES, LoaderInFlash, ProvesRate, Unlocks
from .dialect import Answer as Anything
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import drain, read_exactly, refuse_text
from .nxp_packets import (
    ABORT,
    ACK,
    COMMAND,
    DATA,
    GENERIC,
    NAK,
    PING,
    PING_ANSWER,
    PROPERTY_ANSWER,
    READ_ANSWER,
    START,
    Answer,
    Command,
    Property,
    allowed_to_lock,
    command,
    framed,
    is_whole,
)
from .results import Examination, Fitted, Identity, WriteBlock
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, Spec, Starting
from .ways import in_runs, prove_by_readings

_PING_ASKED = bytes([START, PING])
_ACKED, _AGAIN = bytes([START, ACK]), bytes([START, NAK])
_PING_ANSWER_BYTES = 10
_QUIET_S, _TRIES = 0.03, 4
_BLOCK, _USUAL_PACKET, _MOST_UNITS = 4096, 32, 16
_PROOF_READ = 24
_FIELD_BYTES = 16
_ROMS_OWN = 20 * 1024
_OPEN = (0, 0x5AA55AA5)
"""Security states that are none: of Kinetis and MCX, and of the LPC55 generation, where C33CC33C is locked."""
_KINDS = {
    101: RefusalKind.BAD_DATA,
    102: RefusalKind.BAD_ADDRESS,
    10000: RefusalKind.UNSUPPORTED,
    10001: RefusalKind.LOCKED,
    10200: RefusalKind.BAD_ADDRESS,
}
_SAID = {
    1: "fail", 4: "invalid argument", 101: "alignment error", 102: "address error", 105: "command failure",
    10000: "unknown command", 10001: "security violation", 10002: "data phase aborted", 10200: "memory range invalid",
}  # fmt: skip


class NxpMcu(Dialect, LoaderInFlash, ProvesRate, Unlocks):
    """The conversation with one chip."""

    name: ClassVar[str] = "nxp-mcu"
    title: ClassVar[str] = "NXP MCU bootloader"
    document: ClassVar[str] = "NXP MCU Bootloader Reference Manual"
    decoder: ClassVar[str] = "nxp_mcu"
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=_PING_ASKED,
            answers=(bytes([START, PING_ANSWER]),),
            attempts=(Attempt(0.05, 3), Attempt(0.2, 3), Attempt(0.6, 6)),
            wait_s=0.1,
            order=24,
            measures_rate=True,
        ),
        erasing=Erasing.BY_UNIT,
        starting=Starting.RESET,
        start_answers=False,
        erases_alone=True,
        guards_writes=True,
        gives_up=False,
        tells_chip=False,
        costs=Costs(read_block=_BLOCK, erase=CostRow(20, 20, units=_MOST_UNITS)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._packet = _USUAL_PACKET
        self._version = ""
        self._device: int | None = None
        self._commands: int | None = None
        """One bit for each command that the chip has; None if it does not tell."""
        self._field_unit: EraseUnit | None = None
        """The sector of the configuration field, which `erase` has left to `write`."""

    # --- frames

    def _heard_kind(self, waiting_for: str, deadline: Deadline) -> int:
        """The type behind the next 5A. Raises Silence, Unexpected."""
        heard = b""
        while not deadline.over and len(heard) < 64:
            more = self.link.read(1, deadline.left_s)
            heard += more
            if more == bytes([START]):
                more = self.link.read(1, max(deadline.left_s, 0.05))
                if more and more[0] & 0xF0 == 0xA0:
                    return more[0]
                raise Unexpected(waiting_for, heard + more + drain(self.link, _QUIET_S))
        if heard:
            raise Unexpected(waiting_for, heard + drain(self.link, _QUIET_S))
        raise Silence(waiting_for, self.patience_s)

    def _say(self, kind: int, payload: bytes, name: str, longest_s: float = 0.0) -> None:
        """A frame until it is acknowledged: what is refused was not taken. Raises DialectError."""
        for attempt in range(_TRIES):
            self.link.discard()
            sent = framed(kind, payload)
            self.link.write(sent)
            deadline = Deadline.after(
                self.link, self.link.settings.seconds(len(sent) + 2) + self.patience_s + longest_s
            )
            answer = self._heard_kind(f"5A A1 after '{name}'", deadline)
            if answer == ACK:
                return
            if answer == ABORT:
                raise ChipRefusal(name, RefusalKind.BAD_DATA, bytes([START, answer]))
            if answer != NAK or attempt == _TRIES - 1 or self.trial_s is not None:
                raise Unexpected(f"5A A1 after '{name}'", bytes([START, answer]))
            self.retries += 1

    def _hear(self, kind: int, name: str, longest_s: float = 0.0) -> bytes:
        """The payload of a frame from the chip, acknowledged. Raises Silence, Unexpected."""
        waiting_for = f"answer to '{name}'"
        for attempt in range(_TRIES):
            deadline = Deadline.after(self.link, self.patience_s + longest_s)
            answer = self._heard_kind(waiting_for, deadline)
            wait_s = self.link.settings.seconds(4) + max(deadline.left_s, 0.05)
            head = bytes([START, answer]) + read_exactly(self.link, 4, wait_s, waiting_for)
            size = int.from_bytes(head[2:4], "little")
            if answer not in (COMMAND, DATA) or size > max(self._packet, 64):
                raise Unexpected(waiting_for, head + drain(self.link, _QUIET_S))
            wait_s = self.link.settings.seconds(size) + max(deadline.left_s, 0.05)
            frame = head + read_exactly(self.link, size, wait_s, waiting_for)
            if is_whole(frame):
                self.link.write(_ACKED)
                if answer != kind:
                    raise Unexpected(waiting_for, frame[:40])
                return frame[6:]
            if attempt == _TRIES - 1 or self.trial_s is not None:
                break
            self.retries += 1
            drain(self.link, _QUIET_S)
            self.link.write(_AGAIN)
        raise Unexpected(waiting_for, b"")

    def _answer(self, name: Command, tag: int, longest_s: float = 0.0) -> tuple[int, ...]:
        """The parameters of the chip's answer, after its status. Raises DialectError."""
        payload = self._hear(COMMAND, name.words, longest_s)
        answer = Answer.of(payload)
        if answer is None or not answer.parameters or answer.tag not in (tag, GENERIC):
            raise Unexpected(f"answer to '{name.words}'", payload[:40])
        if answer.tag == GENERIC and len(answer.parameters) > 1 and answer.parameters[1] != name:
            raise Unexpected(f"answer to '{name.words}'", payload[:40])
        self._must_succeed(name, answer.parameters[0])
        if answer.tag != tag:
            raise Unexpected(f"answer to '{name.words}'", payload[:40])
        return answer.parameters[1:]

    @staticmethod
    def _must_succeed(name: Command, status: int) -> None:
        """Raises ChipRefusal."""
        if status:
            said = _SAID.get(status, "")
            raise ChipRefusal(
                name.words, _KINDS.get(status, RefusalKind.BAD_DATA), status.to_bytes(4, "big"), None,
                f"status {status}{f', {said},' if said else ''}",
            )  # fmt: skip

    def _order(self, name: Command, *parameters: int, longest_s: float = 0.0) -> None:
        """A command that is answered by its status alone."""
        self._say(COMMAND, command(name, *parameters), name.words)
        self._answer(name, GENERIC, longest_s)

    def _property(self, number: int) -> tuple[int, ...]:
        """The values of a property; none if the chip does not know it."""

        def once() -> tuple[int, ...]:
            self._say(COMMAND, command(Command.GET_PROPERTY, number, 0), f"get property {number:02X}")
            return self._answer(Command.GET_PROPERTY, PROPERTY_ANSWER)

        try:
            return self._with_retry(once)
        except ChipRefusal:
            return ()

    def _with_retry(self, once: Callable[[], Anything]) -> Anything:
        """What may be repeated: it changes nothing, or does the same each time."""
        return self.exchange(once, self._recover, _TRIES)

    def _recover(self, heard: bytes) -> None:
        """Complete half a frame, and hear a ping answered, which ends whatever the chip was in. Raises Silence."""
        refuse_text("frame", heard + drain(self.link, 2 * _QUIET_S))
        for _ in range(_TRIES):
            self.link.write(bytes(self._packet + 8))
            drain(self.link, self.link.settings.seconds(self._packet + 8) + 2 * _QUIET_S)
            if self._pinged(self.patience_s):
                drain(self.link, _QUIET_S)
                return
        raise Silence("answer to ping", self.patience_s)

    def _pinged(self, wait_s: float) -> str:
        """The version in the answer to a ping; empty if there is none."""
        self.link.write(_PING_ASKED)
        deadline = Deadline.after(self.link, wait_s)
        heard = b""
        while not deadline.over:
            heard += self.link.read(1, deadline.left_s)
            at = heard.find(bytes([START, PING_ANSWER]))
            if at >= 0:
                answer = heard[at:] + self.link.read(_PING_ANSWER_BYTES - len(heard) + at, wait_s)
                if len(answer) == _PING_ANSWER_BYTES and _is_answer(answer):
                    return f"{chr(answer[5])}{answer[4]}.{answer[3]}.{answer[2]}"
                return ""
        return ""

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """A ping, whose answer carries a CRC; an echo has none."""
        self.link.discard()
        self._version = self._pinged(wait_s) or self._version
        return f"5A A7, version {self._version}" if self._version else None

    def identify(self) -> Identity:
        """Its version, and the number of the device where it has one."""
        if packet := self._property(Property.PACKET_SIZE):
            self._packet = max(16, min(1024, packet[0]))
        commands = self._property(Property.COMMANDS)
        self._commands = commands[0] if commands else None
        device = self._property(Property.DEVICE_ID)
        self._device = device[0] if device else None
        details = (("device id", f"{device[0]:08X}"),) if device else ()
        return Identity(None, f"version {self._version}", (("loader", self._version), *details))

    def examine(self, part: Part) -> Examination:
        """The flash as the chip describes it, the unique id, whether it is secured. Raises RefusedFault if that flash
        is not the part's, or its number is another family's."""
        self._refuse_another(part)
        start, size, sector = (
            self._property(number) for number in (Property.FLASH_START, Property.FLASH_SIZE, Property.SECTOR_SIZE)
        )
        if size and sector:
            part = _with_flash(part, start[0] if start else part.flash.start, size[0], sector[0])
        number = "".join(word.to_bytes(4, "little").hex().upper() for word in self._property(Property.UNIQUE_ID))
        state = self._property(Property.SECURITY)
        locked = ""
        if state and state[0] not in _OPEN:
            blank = ", as it also is while the configuration field is blank," if self._has_field(part) else ""
            locked = f"security is on{blank} ({state[0]:08X})"
        self.examined_part = part
        details = (("flash", show_size(part.flash.size)), ("packets", f"{self._packet} bytes"))
        return Examination(part, details, number, locked)

    @staticmethod
    def _has_field(part: Part) -> bool:
        return "configuration_field" in part.extra

    def _refuse_another(self, part: Part) -> None:
        """SIM_SDID of a Kinetis begins with the digits of its family: 27 for a KL27. Raises RefusedFault."""
        number = re.match(r"mkl?(\d\d)", part.name)
        if self._device is None or number is None or self._device in self.also_accepts:
            return
        told = f"{self._device:08X}"
        if told[:2] != number[1]:
            raise RefusedFault.of(
                "other-chip",
                f"the chip is another one: of family {told[:2]}, and a {part.title} was declared",
                (f"device id {told}",),
                ("read the name on the package: --chip", f"if you know better: --also-accept 0x{told}"),
                "certain",
            )

    def prove_rate(self, part: Part, size: int = PROOF_BYTES) -> None:
        flash = part.flash
        prove_by_readings(lambda address: self.read(flash, address, _PROOF_READ), flash.start, _PROOF_READ, size)

    # --- memory

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        return max(_BLOCK, memory.write_unit)

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        packets = -(-size // (memory.block or _USUAL_PACKET))
        busy_s = memory.program_s * -(-size // memory.write_unit)
        return Cost(22 + 2 + 2 + 6 * packets + size, 2 + 18 + 18 + 2 * packets, packets + 1, busy_s)

    @classmethod
    def cost_of_read(cls, memory: Memory, size: int) -> Cost:
        packets = -(-size // (memory.block or _USUAL_PACKET))
        return Cost(22 + 4 + 2 * packets, 2 + 18 + 18 + 6 * packets + size, packets + 2)

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Runs of sectors, each named by its first address and its size. A chip that starts while its configuration
        field is blank is secure: that sector is left to `write`."""
        done = 0
        self._field_unit = next((unit for unit in units if unit.address <= self._field < unit.end), None)
        if self._field_unit is not None:
            units = [unit for unit in units if unit is not self._field_unit]
        for run in in_runs(units, _MOST_UNITS):
            longest_s = len(run) * memory.erase_time(run[0].size).longest_s
            self._erase(run[0].address, run[-1].end - run[0].address, longest_s)
            done += len(run)
            yield done
        if self._field_unit is not None:
            yield done + 1

    def _erase(self, address: int, size: int, longest_s: float) -> None:
        self._with_retry(partial(self._order, Command.ERASE_REGION, address, size, 0, longest_s=longest_s))

    @property
    def _field(self) -> int:
        """Where the configuration field stands; below all addresses if there is none."""
        return int(self.part.extra.get("configuration_field", -1))

    def must_stay(self, part: Part) -> Piece | None:
        """The configuration field, without which the chip would be secure."""
        self.examined_part = part
        if self._field < 0:
            return None
        return Piece(self._field, self.read(part.flash, self._field, _FIELD_BYTES))

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """The configuration field right after its sector was erased, then all the rest."""
        unit, self._field_unit = self._field_unit, None
        written = Span(0, 0)
        if unit is not None:
            field = Span.of(self._field, _FIELD_BYTES)
            self._erase(unit.address, unit.size, memory.erase_time(unit.size).longest_s)
            for block in blocks:
                if Span.of(block.address, len(block.data)).covers(field):
                    at = field.start - block.address
                    self._write(memory, WriteBlock(field.start, block.data[at : at + _FIELD_BYTES]))
                    written = field
        for block in blocks:
            for span in without([Span.of(block.address, len(block.data))], [written]):
                at = span.start - block.address
                self._write(memory, WriteBlock(span.start, block.data[at : at + span.size]))
            yield block

    def _write(self, memory: Memory, block: WriteBlock) -> None:
        """One block; after trouble what of it the chip does not hold yet."""
        address, data = block.address, block.data
        for attempt in range(_TRIES):
            try:
                self._write_once(memory, address, data)
                return
            except (Silence, Unexpected) as error:
                if attempt == _TRIES - 1 or self.fail_fast:
                    raise
                self.retries += 1
                self._recover(error.heard)
            there = self.read(memory, address, len(data))
            unit = memory.write_unit
            done = next(
                (at for at in range(0, len(data), unit) if there[at : at + unit] != data[at : at + unit]), None
            )
            if done is None:
                return
            address, data = address + done, data[done:]

    def _write_once(self, memory: Memory, address: int, data: bytes) -> None:
        name = Command.WRITE_MEMORY
        self._say(COMMAND, command(name, address, len(data), 0, data_follows=True), name.words)
        self._answer(name, GENERIC)
        busy_s = 4 * memory.program_s * -(-self._packet // memory.write_unit)
        try:
            for at in range(0, len(data), self._packet):
                self._say(DATA, data[at : at + self._packet], name.words, busy_s)
        except ChipRefusal:  # it broke off, and says why
            self._answer(name, GENERIC, busy_s)
            raise
        self._answer(name, GENERIC, busy_s)

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        return self._with_retry(partial(self._read_once, address, size))

    def _read_once(self, address: int, size: int) -> bytes:
        name = Command.READ_MEMORY
        self._say(COMMAND, command(name, address, size, 0), name.words)
        told = self._answer(name, READ_ANSWER)
        if told[:1] != (size,):
            raise Unexpected(f"{size} bytes", b"")
        data = b""
        while len(data) < size:
            data += self._hear(DATA, name.words)
        self._answer(name, GENERIC)
        if len(data) != size:
            raise Unexpected(f"{size} bytes", data[:40])
        return data

    def unlock(self, part: Part) -> str:
        """Erase everything, which also ends the security; not every chip has such a command. Raises RefusedFault."""
        if self._commands is not None and not self._commands >> (Command.ERASE_AND_UNSECURE - 1) & 1:
            raise RefusedFault.of(
                "cannot-unlock",
                "no unlock here: this ROM has no command that ends the security",
                (f"its commands are {self._commands:08X}",),
                ("the program in it, or a debug probe with its key",),
            )
        longest_s = part.flash.mass_erase_time.longest_s
        self._with_retry(partial(self._order, Command.ERASE_AND_UNSECURE, longest_s=longest_s))
        return "erase all and unsecure: status 0"

    def start(self, address: int) -> str:
        """A reset."""
        self._order(Command.RESET)
        return "reset: status 0"

    # --- what an image may lock

    @classmethod
    def fit(
        cls, part: Part, images: dict[str, Image], settings: Mapping[str, Any], even_if: frozenset[str]
    ) -> Fitted:
        """Refuses what would secure a Kinetis or shut its loader off. Raises RefusedFault."""
        image, place = images.get("flash"), part.extra.get("configuration_field")
        if image is None or place is None:
            return Fitted(images)
        return Fitted(images, allowed_to_lock(part, image, int(place), even_if))


def _is_answer(answer: bytes) -> bool:
    return crc_hqx(answer[:8], 0) == int.from_bytes(answer[8:10], "little")


def _with_flash(part: Part, start: int, size: int, sector: int) -> Part:
    """The part with the flash that the chip describes, as far as an application may use it: its last pages may be the
    ROM's own. Raises RefusedFault."""
    flash = part.flash
    if start != flash.start or sector not in flash.erase_times or not flash.size <= size <= flash.size + _ROMS_OWN:
        fitting = [
            one.name
            for one in Catalogue.load().of_dialect(NxpMcu.name)
            if one.name[:5] == part.name[:5] and one.flash.size <= size <= one.flash.size + _ROMS_OWN
        ]
        raise RefusedFault.of(
            "other-chip",
            f"another chip than declared: its flash is not that of the {part.title}",
            (
                f"it has {show_size(size)} at {show_address(start)} in sectors of {show_size(sector)}",
                f"the {part.title} has {show_size(flash.size)} at {show_address(flash.start)}",
            ),
            (f"--chip {' or '.join(fitting[:3])}" if fitting else "read the name on the package: --chip",),
            "certain",
        )
    return replace(part.with_memory(replace(flash, layout=((flash.size // sector, sector),))), size_known=True)
