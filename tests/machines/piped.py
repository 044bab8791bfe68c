"""A machine in another process, which lets time pass as it is told (loaders/machines/host/machine.c)."""

from __future__ import annotations

import struct
import subprocess

FLASH_BYTES = 0x40000
_ORDER = struct.Struct("<BI")


class Piped:
    """One machine. Times are whole microseconds since its last reset."""

    def __init__(self, command: list[str]) -> None:
        self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        assert self._process.stdin is not None and self._process.stdout is not None
        self._in, self._out = self._process.stdin, self._process.stdout

    def _order(self, letter: str, value: int = 0, data: bytes = b"") -> None:
        self._in.write(_ORDER.pack(ord(letter), value) + data)

    def _read(self, size: int) -> bytes:
        self._in.flush()
        data = self._out.read(size)
        if len(data) < size:
            raise RuntimeError(f"the machine ended: {self._process.wait()}")
        return data

    def reset(self) -> None:
        self._order("R")

    def hear(self, value: int) -> None:
        """A character has come whole."""
        self._order("C", value)

    def advance(self, to_us: int) -> list[tuple[str, int]]:
        """Let time pass. Returns what happened, each by its letter and a number."""
        self._order("A", to_us)
        events = []
        while True:
            letter, value = _ORDER.unpack(self._read(_ORDER.size))
            if letter == ord("E"):
                return events
            events.append((chr(letter), value))

    def cut_in(self, changes: int) -> None:
        """The supply fails in the middle of that change of the flash, counted from 1; 0: never."""
        self._order("P", changes)

    @property
    def flash(self) -> bytes:
        self._order("D")
        return self._read(FLASH_BYTES)

    @flash.setter
    def flash(self, content: bytes) -> None:
        self._order("L", 0, content.ljust(FLASH_BYTES, b"\xff"))

    def close(self) -> None:
        self._in.close()
        self._out.close()
        self._process.wait()
