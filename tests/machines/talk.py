"""A conversation with a machine, message by message, without the dialect in between."""

from __future__ import annotations

import binascii

from .emulated import Machine

CHARACTER_US = 87


def framed(message: bytes) -> bytes:
    """A message as docs/doorstep.md has it: CRC, COBS, and a zero on both sides."""
    rest = message + binascii.crc32(message).to_bytes(4, "little")
    frame = bytearray(b"\x00")
    while True:
        run = rest[:254].partition(b"\x00")[0]
        frame += bytes([len(run) + 1]) + run
        if len(run) == len(rest):
            return bytes(frame + b"\x00")
        rest = rest[len(run) + (len(run) < 254) :]


def unframed(frame: bytes) -> bytes | None:
    """The message of a frame without its zeros; None if it is damaged."""
    message = bytearray()
    while frame:
        code, run = frame[0], frame[1 : frame[0]]
        if not code or len(run) < code - 1:
            return None
        frame = frame[code:]
        message += run + (b"\x00" if frame and code < 255 else b"")
    body, crc = bytes(message[:-4]), bytes(message[-4:])
    return body if len(crc) == 4 and binascii.crc32(body) == int.from_bytes(crc, "little") else None


class Talk:
    """One reset of a machine, and what is said after it. `seen` are its events but for characters."""

    def __init__(self, machine: Machine, flash: bytes, waits_us: int = 60_000) -> None:
        self.machine = machine
        machine.flash = flash
        machine.reset()
        self.now = 0
        self.seen: list[tuple[str, int]] = []
        self.heard = bytearray()
        self._pass(waits_us)

    def _pass(self, microseconds: int) -> None:
        self.now += microseconds
        for letter, value in self.machine.advance(self.now):
            if letter == "S":
                self.heard.append(value)
            else:
                self.seen.append((letter, value))

    def say(self, characters: bytes) -> None:
        for value in characters:
            self._pass(CHARACTER_US)
            self.machine.hear(value)

    def answers(self, number: int = 1, longest_us: int = 3_000_000) -> list[bytes]:
        """So many messages, or as many as come in time."""
        until = self.now + longest_us
        while self.now < until and len(self._whole()) < number:
            self._pass(200)
        found = self._whole()
        self.heard.clear()
        return found

    def _whole(self) -> list[bytes]:
        frames = bytes(self.heard).split(b"\x00")[:-1]
        return [message for frame in frames if (message := unframed(frame)) is not None]

    def ask(self, message: bytes, longest_us: int = 3_000_000) -> list[bytes]:
        self.heard.clear()
        self.say(framed(message))
        return self.answers(1, longest_us)

    def wait(self, microseconds: int) -> None:
        self._pass(microseconds)
