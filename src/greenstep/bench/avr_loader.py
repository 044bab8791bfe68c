"""Made-up code for an AVR's resident bootloader: it fills most of its section, and has what only a loader has."""

from __future__ import annotations

import random

_SPM, _RCALL = 0x95E8, 0xD000


def loader_code(size_bytes: int) -> bytes:
    """For a section of `size_bytes`: EOR R1,R1; LDI of anything; SPM near its end, and, as compiled loaders have it,
    calls from each half to the other; the version in the last word."""
    source = random.Random(size_bytes)
    words = [0xE000 | source.randrange(0x1000) for _ in range((size_bytes - size_bytes // 16 - 2) // 2)]
    words[:3] = [0x2411, 0xB784, 0xBE14]
    words[-8] = _SPM
    at = len(words) - 4
    for back in range(at - 16, 16, -100):  # SPM is in a routine at the end, what it is called by all over
        words[at] = _RCALL | (max(8, back) - at - 1) & 0x0FFF
        at = max(8, back)
    code = b"".join(word.to_bytes(2, "little") for word in words)
    return code.ljust(size_bytes - 2, b"\xff") + b"\x04\x08"
