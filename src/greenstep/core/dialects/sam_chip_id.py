"""Which parts a SAM3 or SAM4 may be by its CHIPID_CIDR (data sheets, "CHIPID": "ARCH: architecture identifier")."""

from __future__ import annotations

import re

_SERIES = {
    0x80: r"sam3u\dc?", 0x81: r"sam3u\de?", 0x83: r"sam3a\dc", 0x84: r"sam3x\dc", 0x85: r"sam3x\de",
    0x88: r"sam[34]s\d+a", 0x89: r"sam[34]s\d+b", 0x8A: r"sam[34]s\d+c", 0x93: r"sam3n\da?", 0x94: r"sam3n\db?",
    0x95: r"sam3n\dc?", 0x99: r"sam[34]sd\d+b?", 0x9A: r"sam[34]sd\d+c?",
}  # fmt: skip
"""The names of the parts with each."""
REVISION = 0x1F


def is_another(name: str, chip_id: int) -> bool:
    """Whether a chip id is that of parts that have other names. One whose architecture is not known is nobody's."""
    names = _SERIES.get(chip_id >> 20 & 0xFF)
    return names is not None and re.fullmatch(names, name) is None
