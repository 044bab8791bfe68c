"""What a climb has come to, for the caller."""

from __future__ import annotations

from ..chips import Part
from ..events import Step
from ..frozen import frozen
from ..image import Piece
from ..image.granules import Granules
from ..recording_link import RecordingLink
from .chip_state import ChipState


@frozen
class Outcome:
    """`part` and `unique_id` are what the chip said it is, None and empty before it did; `synced`: whether anybody
    answered. `unproven` are the steps without evidence. `backup` is what was read. `granules` are of the flash image
    as it was written. `link` is the line with its recording: open after a green end where the job keeps it so, None
    where the port was never opened."""

    part: Part | None = None
    unique_id: str = ""
    synced: bool = False
    state: ChipState = ChipState.UNTOUCHED
    unproven: tuple[Step, ...] = ()
    backup: tuple[Piece, ...] = ()
    granules: Granules | None = None
    link: RecordingLink | None = None
    elapsed_s: float = 0.0
