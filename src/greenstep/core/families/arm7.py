"""ARM7: its vectors are instructions (ARM Architecture Reference Manual, A2.6)."""

from __future__ import annotations

from ..chips import Part
from ..image import Image, Piece
from ..quantities import show_address, show_bytes
from .family import Family, Verdict
from .origin import Origin


def _are_instructions(head: bytes) -> bool:
    """Whether all but the reserved one are instructions that always execute."""
    return len(head) >= 32 and all(head[at + 3] >> 4 == 0xE for at in (0, 4, 8, 12, 16, 24, 28))


def _origin(piece: Piece, image: Image) -> Origin | None:
    return Origin("arm7", piece.address, 32, vectors=8) if _are_instructions(piece.data[:32]) else None


def _judge(image: Image, part: Part) -> Verdict:
    """Vectors of an ARM7 are instructions (ARM Architecture Reference Manual, A2.6)."""
    start = part.flash.start
    if not image.covers(start, 32):
        return Verdict(notes=(f"no vectors at {show_address(start)} in this image: not judged",))
    head = image.cut(start, 32, part.flash.erased)
    if not _are_instructions(head):
        return Verdict("its vectors are no ARM instructions", (f"first bytes {show_bytes(head[:16])}",))
    return Verdict()


ARM7 = Family("arm7", ("arm",), "", 4, False, _origin, _judge, no_room="its vectors are instructions that stay at 0")
