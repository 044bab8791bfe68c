"""What a chip's ROM prints at reset about the boot mode, decoded.

The texts are those of Espressif's serial protocol description ("boot mode selection", "ROM messages").
"""

from __future__ import annotations

import re
from collections.abc import Callable

from ..frozen import frozen

ROM_RATES = (115200, 74880)
"""Rates at which ROMs print: 115200, and 74880 on the ESP8266 with its 26 MHz crystal."""

_DOWNLOAD = "waits for an upload"
_RUNNING = "starts the program in its flash"


@frozen
class BootText:
    """`quoted` is the line as heard, `meaning` what it says about the chip, `loader` whether it waits for an
    upload."""

    quoted: str
    meaning: str
    loader: bool

    @property
    def runs(self) -> bool:
        """Whether it continues into a program."""
        return _RUNNING in self.meaning


def _esp8266(match: re.Match[bytes]) -> tuple[str, bool]:
    mode = int(match[1])
    where = {1: _DOWNLOAD, 3: _RUNNING}.get(mode, f"is in boot mode {mode}, which runs nothing")
    return f"an ESP8266 that {where}", mode == 1


def _esp32(match: re.Match[bytes]) -> tuple[str, bool]:
    name = match[1].decode("ascii", "replace")
    if name.startswith("DOWNLOAD"):
        return f"an ESP32 or relative that {_DOWNLOAD}", True
    if "FLASH_BOOT" in name:
        return f"an ESP32 or relative that {_RUNNING}", False
    return f"an ESP32 or relative in boot mode {name}", False


_PATTERNS: tuple[tuple[bytes, Callable[[re.Match[bytes]], tuple[str, bool]]], ...] = (
    (rb"boot mode:\((\d+),\d+\)", _esp8266),
    (rb"boot:0x[0-9a-fA-F]+ \(([A-Z0-9_/]+(?:\([A-Z0-9_/]+\))?)\)", _esp32),
    (rb"waiting for download", lambda _: (f"an ESP that {_DOWNLOAD}", True)),
    (
        rb"invalid header: 0x[0-9a-fA-F]+",
        lambda _: ("an ESP whose flash holds no image where one should begin", False),
    ),
    (rb"flash read err|csum err", lambda _: ("an ESP whose image in flash is damaged", False)),
)


def read_boot_text(data: bytes) -> BootText | None:
    """The most informative statement of a ROM: nothing to run, before the boot mode. None if there is none."""
    for pattern, decode in (*_PATTERNS[-2:], *_PATTERNS[:-2]):
        match = re.search(pattern, data)
        if match is None:
            continue
        begin = data.rfind(b"\n", 0, match.start()) + 1
        end = data.find(b"\n", match.end())
        line = data[begin : end if end >= 0 else len(data)]
        meaning, loader = decode(match)
        return BootText(line.decode("ascii", "replace").strip(), meaning, loader)
    return None
