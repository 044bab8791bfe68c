"""Simulated boards that speak SMP over a UART, from the published SMP specification. Boards: nrf52840, whose program
speaks it; nrf5340, in serial recovery.

| what | a running program | serial recovery |
|---|---|---|
| image state | both slots; `hash` is read from the image's tags, nothing is computed | only images whose hash and signature it has checked, or their hash alone; older ones list slot and version only |
| upload | to the second slot of `image`; its last answer may have `match`: the hash of all that it wrote is `sha` | `image` 0, 1: first slot; 2: second; 3, 4: those of image 1 |
| erases | the whole slot, before the first answer | the same |
| buffer | holds length, packet and CRC; a longer packet is dropped without a word | the same |
| reset | acknowledged, then the boot loader: it swaps if that is due and the second slot passes its check, else it erases the slot | the first slot is started, if it passes the check |
| over a reset | `pending` and `confirmed`; an image that is not confirmed is swapped back | nothing |
| status | `rc`, 0 is well | the same |

Which of the kinds of each a board has, where boards differ, are `matches`, `lists_hashes`, `checks_signature` and
`holds_back`. The signature of a made-up image is one that needs no key, and every byte of its tags is checked.
"""  # noqa: E501

from __future__ import annotations

import hashlib
import random
from base64 import b64decode, b64encode
from collections.abc import Generator
from typing import Any

from greenstep.core.frozen import frozen
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings

from ..application import START_UP_S, text_in
from ..boards import GATEWAY, BenchBoard, any_kind, board_of
from ..chip import TIMED_OUT, Program, SimulatedChip, Spend, Take, Wish
from ..circuits import CapacitorPulse, Circuit, DtrResetRtsBoot
from ..crc16 import crc16
from ..faults import Faults
from ..samples import body_of

Steps = Generator[Wish, int, None]
_ERASE_S, _WORD_S, _SWAP_S = 3.0, 40e-6, 4.0
_SLOT = 0x40000


@frozen
class SmpKind:
    """`program`: a running program speaks it, and takes the image into a second slot. `buffer` in bytes."""

    title: str
    program: bool
    buffer: int


KINDS = {
    "nrf52840": SmpKind("nRF52840, its program speaks SMP", True, 512),
    "nrf5340": SmpKind("nRF5340, serial recovery", False, 256),
}


class SimulatedSmp(SimulatedChip):
    """One board. `flash` is the first slot, `second` the other one."""

    def __init__(self, kind: SmpKind, faults: Faults | None = None) -> None:
        super().__init__()
        self.kind = kind
        self.faults = faults or Faults()
        self.flash = bytearray(b"\xff") * _SLOT
        self.second = bytearray(b"\xff") * _SLOT
        self.settings = self.console = LineSettings(115200)
        self.confirmed = True
        self.pending = ""
        self.matches = True
        self.lists_hashes = True
        self.checks_signature = True
        self.holds_back = 1
        """It programs whole units of so many bytes; what is left over must be sent again."""
        self.answers_parameters = True
        self.running = False
        self._upload: tuple[int, bytes] | None = None
        self._goes_to = 0
        self._at = 0
        self._resets = False

    # --- from reset

    def boot(self, boot_selected: bool) -> Program:
        self.running = False
        self._upload, self._at, self._resets = None, 0, False
        if self.kind.program:
            return self._started()
        if (boot_selected or self._checked(self.flash) is None) and not self.faults.no_boot:
            return self._server()
        return self._started()

    def _started(self) -> Program:
        """Swap if that is due; then the program, if there is a whole one."""
        self.settings = self.console if self.faults.console is None else LineSettings(self.faults.console)
        if self.kind.program and (self.pending or not self.confirmed):
            yield Spend(_SWAP_S)
            if self._checked(self.second) is None:
                self.second[:] = b"\xff" * _SLOT
                self.pending, self.confirmed = "", True
            else:
                self.confirmed = not self.pending or self.pending == "permanent"
                self.pending = ""
                self.flash, self.second = self.second, self.flash
        yield Spend(START_UP_S)
        if self._checked(self.flash) is None:
            return
        self.running = True
        text = self.faults.says.encode() or text_in(bytes(self.flash))
        speaks = self.kind.program and not self.faults.no_boot
        times = 3
        line = bytearray()
        if text:
            self.send(text + b"\r\n")
        while True:
            value = yield Take(0.5 if times else None)
            if value == TIMED_OUT:
                times -= 1
                if text and times:
                    self.send(text + b"\r\n")
                continue
            yield from self._letter(line, value, speaks)
            if self._resets:
                break
        yield Spend(0.3)
        self.restart(self.boot(False))

    def _server(self) -> Program:
        self.settings = self.console
        yield Spend(0.02)
        line = bytearray()
        while not self._resets:
            yield from self._letter(line, (yield Take()), True)
        yield Spend(0.3)
        self.restart(self._started())

    # --- lines

    _letters = b""

    def _letter(self, line: bytearray, value: int, speaks: bool) -> Steps:
        if value < 0:
            return
        line.append(value)
        if value != 0x0A:
            if len(line) > 127:
                line.clear()
            return
        whole = bytes(line[:-1])
        line.clear()
        if whole[:2] == b"\x06\x09":
            self._letters = whole[2:]
        elif whole[:2] == b"\x04\x14" and self._letters:
            self._letters += whole[2:]
        else:
            if (
                self.running
                and whole.rstrip(b"\r").isascii()
                and whole.rstrip(b"\r").decode().isprintable()
                and whole.strip()
            ):
                self.send(b"taken: " + whole.rstrip(b"\r") + b"\r\nnext? ")
            return
        if not speaks:
            return
        try:
            data = b64decode(self._letters, validate=True)
        except ValueError:
            self._letters = b""
            return
        if len(data) < 2 or len(data) - 2 < int.from_bytes(data[:2], "big"):
            return
        self._letters = b""
        packet, check = data[2:-2], int.from_bytes(data[-2:], "big")
        if len(packet) < 8 or crc16(packet) != check or len(packet) != 8 + int.from_bytes(packet[2:4], "big"):
            return
        if len(packet) + 4 > self.kind.buffer:
            self.violation(f"a packet of {len(packet)} bytes")
            return
        yield from self._packet(packet)

    def _answer(self, packet: bytes, values: dict[str, Any]) -> None:
        from cbor2 import dumps

        body = dumps(values)
        raw = bytes([packet[0] + 1, 0]) + len(body).to_bytes(2, "big") + packet[4:8] + body
        letters = b64encode((len(raw) + 2).to_bytes(2, "big") + raw + crc16(raw).to_bytes(2, "big"))
        for at in range(0, len(letters), 124):
            self.send((b"\x04\x14" if at else b"\x06\x09") + letters[at : at + 124] + b"\n")

    def _packet(self, packet: bytes) -> Steps:
        from cbor2 import CBORDecodeError, loads

        op, group, number = packet[0], int.from_bytes(packet[4:6], "big"), packet[7]
        try:
            values = loads(packet[8:])
        except (CBORDecodeError, ValueError):
            self._answer(packet, {"rc": 3})
            return
        if (group, number, op) == (0, 5, 2):
            self._answer(packet, {"rc": 0})
            self._resets = True
        elif (group, number, op) == (0, 6, 0):
            if not self.answers_parameters:
                return
            self._answer(packet, {"buf_size": self.kind.buffer, "buf_count": 4})
        elif (group, number) == (0, 0):
            self._answer(packet, {"r": values.get("d", "")})
        elif (group, number, op) == (1, 0, 0):
            self._answer(packet, {"images": self._images()})
        elif (group, number, op) == (1, 0, 2) and self.kind.program:
            self._answer(packet, self._mark(values))
        elif (group, number, op) == (1, 1, 2):
            yield from self._take(packet, values)
        elif (group, number, op) == (1, 5, 2):
            yield Spend(_ERASE_S * self.faults.slow_erase)
            slot = values.get("slot")
            if slot not in (0, 1):
                self._answer(packet, {"rc": 3})
                return
            (self.second if slot else self.flash)[:] = b"\xff" * _SLOT
            self._answer(packet, {"rc": 0})
        else:
            self.violation(f"group {group}, command {number}, op {op}")
            self._answer(packet, {"rc": 8})

    # --- images

    def _checked(self, slot: bytes | bytearray) -> bytes | None:
        """The hash of a whole image that passes the boot loader's check; else None."""
        digest = _told(slot)
        if digest is None:
            return None
        end = _program_end(slot)
        if hashlib.sha256(slot[:end]).digest() != digest:
            return None
        area = _area(digest)
        return digest if not self.checks_signature or slot[end : end + len(area)] == area else None

    def _target(self, image: int) -> bytearray:
        if self.kind.program:
            return self.second
        return self.second if image == 2 else self.flash

    def _images(self) -> list[dict[str, Any]]:
        found = []
        for slot, content in enumerate((self.flash, self.second)):
            digest = _told(content) if self.kind.program else self._checked(content)
            if digest is None:
                continue
            version = ".".join(
                str(part) for part in (content[20], content[21], int.from_bytes(content[22:24], "little"))
            )
            entry: dict[str, Any] = {"slot": slot, "version": version}
            if self.lists_hashes:
                entry["hash"] = digest
            if self.kind.program:
                pending = bool(slot and self.pending)
                entry |= {"bootable": True, "active": not slot, "confirmed": not slot and self.confirmed}
                entry |= {"pending": pending, "permanent": pending and self.pending == "permanent"}
            found.append(entry)
        return found

    def _mark(self, values: dict[str, Any]) -> dict[str, Any]:
        digest = values.get("hash")
        if digest is None or digest == _told(self.flash):
            self.confirmed = self.confirmed or bool(values.get("confirm"))
        elif digest == _told(self.second):
            self.pending = "permanent" if values.get("confirm") else "test"
        else:
            return {"rc": 5}
        return {"rc": 0, "images": self._images()}

    def _take(self, packet: bytes, values: dict[str, Any]) -> Steps:
        off, data = values.get("off"), values.get("data")
        if not isinstance(off, int) or not isinstance(data, bytes):
            self._answer(packet, {"rc": 3})
            return
        if not off:
            number = values.get("image", 0)
            if number not in ((0,) if self.kind.program else (0, 1, 2)):
                self._answer(packet, {"rc": 3})
                return
            self._goes_to = number
            if not isinstance(values.get("len"), int) or values["len"] > _SLOT:
                self.violation("an upload without its length, or too long")
                self._answer(packet, {"rc": 3})
                return
            target = self._target(self._goes_to)
            announced = values["len"], values.get("sha", b"")
            if self._upload == announced and self._at:
                self._answer(packet, {"rc": 0, "off": self._at})
                return
            yield Spend(_ERASE_S * self.faults.slow_erase)
            target[:] = b"\xff" * _SLOT
            self._upload, self._at = announced, 0
        if self._upload is None:  # it knows of none: it is at 0
            self._answer(packet, {"rc": 0, "off": 0})
            return
        target = self._target(self._goes_to)
        if off + len(data) < self._upload[0]:
            data = data[: len(data) // self.holds_back * self.holds_back]
        if off == self._at and off + len(data) <= self._upload[0]:
            yield Spend(len(data) / 4 * _WORD_S)
            if target is self.flash:
                self.put(off, data)
            elif not self.faults.dead_write:
                target[off : off + len(data)] = data
                for place in self.faults.worn & set(range(off, off + len(data))):
                    target[place] ^= 0x01
            self._at += len(data)
        answer: dict[str, Any] = {"rc": 0, "off": self._at}
        if self._at == self._upload[0] and self.kind.program and self.matches and self._upload[1]:
            answer["match"] = hashlib.sha256(target[: self._at]).digest() == self._upload[1]
        if self._at == self._upload[0]:
            self._upload, self._at = None, 0
        self._answer(packet, answer)


def _program_end(slot: bytes | bytearray) -> int:
    return int.from_bytes(slot[8:10], "little") + int.from_bytes(slot[12:16], "little")


def _told(slot: bytes | bytearray) -> bytes | None:
    """The hash as it stands among the tags; None if there are none."""
    if slot[:4] != bytes.fromhex("3DB8F396"):
        return None
    end = _program_end(slot)
    if end > len(slot) - 40 or slot[end : end + 2] != b"\x07\x69":
        return None
    return bytes(slot[end + 8 : end + 40])


def _area(digest: bytes) -> bytes:
    """All tags of a program with that hash: the hash and the signature of it."""
    signature = hashlib.sha512(b"made-up key" + digest).digest()
    tags = (0x10).to_bytes(2, "little") + (32).to_bytes(2, "little") + digest
    tags += (0x24).to_bytes(2, "little") + (64).to_bytes(2, "little") + signature
    return (0x6907).to_bytes(2, "little") + (len(tags) + 4).to_bytes(2, "little") + tags


def _program(text: str, size: int, seed: int) -> Image:
    """A signed image: `size` bytes of program behind a header of 512."""
    body = body_of(b"\x10\x20\x30\x40", text, max(64, size), random.Random(seed), 0xFF)
    head = bytes.fromhex("3DB8F396") + bytes(4) + (512).to_bytes(2, "little") + bytes(2)
    head += len(body).to_bytes(4, "little") + bytes(4) + bytes([1, seed & 0xFF, 0, 0]) + bytes(8)
    signed = head.ljust(512, b"\xff") + body
    data = signed + _area(hashlib.sha256(signed).digest())
    return Image("apiary-gateway.bin", (Piece(0, data),), None, "raw binary")


def _board(name: str, circuit: Circuit) -> BenchBoard:
    return board_of(KINDS[name], SimulatedSmp, any_kind(_program), name, circuit, GATEWAY)


BOARDS = (_board("nrf52840", CapacitorPulse("dtr")), _board("nrf5340", DtrResetRtsBoot("low")))
