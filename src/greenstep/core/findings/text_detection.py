"""Is it text, which usual rate is near, and is it what a chip's ROM prints at reset about its boot mode: questions
that several rules ask about what was heard.

The texts of ROMs are those of Espressif's serial protocol description ("boot mode selection", "ROM messages").
"""

from __future__ import annotations

import re
from collections.abc import Callable

from ..clock.rate_inference import ENOUGH_BYTES, reads_as_talk
from ..frozen import frozen
from ..link import Frame
from ..quantities import readable_share

USUAL_RATES = (
    *(1200, 2400, 4800, 9600, 14400, 19200, 28800, 38400, 57600, 74880, 76800, 115200),
    *(230400, 250000, 460800, 500000, 921600, 1000000),
)


def standard_rate(rate: int) -> int:
    """The nearest usual rate if it is within 3 %, else the rate itself."""
    near = min(USUAL_RATES, key=lambda candidate: abs(candidate - rate))
    return near if abs(near - rate) <= 0.03 * near else rate


_RUN, _TAIL = 8, 12


def text_in(data: bytes, frame: Frame) -> bytes:
    """What a program printed, if it did: all of it, or what is left where a ROM spoke first at a rate of its own.
    Empty if there is none."""
    if len(data) >= 4 and readable_share(data) > 0.85:
        return data
    longest = max(re.findall(rb"[\t\x20-\x7e]{%d,}" % _RUN, data), key=len, default=b"")
    if len(longest) > len(data) // 3:
        return longest
    tail = re.search(rb"[\t\r\n\x20-\x7e]{%d,}\Z" % _TAIL, data)
    return tail[0] if tail is not None and reads_as_talk(tail[0], frame) else b""


def is_text(data: bytes, frame: Frame) -> bool:
    """Whether bytes are text as they are; slow garbage consists of printable characters too."""
    if len(data) < 4 or readable_share(data) < 0.85:
        return False
    return len(data) < ENOUGH_BYTES or reads_as_talk(data, frame)


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
