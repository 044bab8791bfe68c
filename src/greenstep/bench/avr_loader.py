"""Made-up code for an AVR's resident bootloader: it fills most of its section and begins as compiled programs do."""

from __future__ import annotations

import random


def loader_code(size_bytes: int) -> bytes:
    """For a section of `size_bytes`: EOR R1,R1, something like code, and the version in the last word."""
    used = size_bytes - size_bytes // 16 - 2
    code = b"\x11\x24\x84\xb7\x14\xbe" + random.Random(size_bytes).randbytes(used - 6)
    return code.ljust(size_bytes - 2, b"\xff") + b"\x04\x08"
