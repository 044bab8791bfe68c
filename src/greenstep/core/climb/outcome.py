"""The result of a run, for the caller."""

from __future__ import annotations

from ..chips import Part
from ..events import Step
from ..frozen import frozen
from ..image import Piece
from ..image.granules import Granules
from ..link import LineSettings
from ..recording_link import RecordingLink
from .chip_state import ChipState


@frozen
class Outcome:
    """`part` and `unique_id` are as reported by the chip, None and empty before that; `synced`: whether anything
    answered. `unproven` are the steps without evidence. `backup` is what was read. `granules` are the write units of
    the flash image. `line` is what the conversation was held at. `link` is the line with its recording: open after a
    green end if the job keeps it open, None if the port was never opened."""

    part: Part | None = None
    unique_id: str = ""
    synced: bool = False
    state: ChipState = ChipState.UNTOUCHED
    unproven: tuple[Step, ...] = ()
    backup: tuple[Piece, ...] = ()
    granules: Granules | None = None
    line: LineSettings | None = None
    link: RecordingLink | None = None
    elapsed_s: float = 0.0
