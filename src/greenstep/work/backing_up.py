"""What a backup has read, as a file."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from greenstep.core.errors import UsageFault
from greenstep.core.image import Image
from greenstep.store.image_saving import kind_for, save_image

if TYPE_CHECKING:
    from .run import Run


def save_backup(run: Run, save: Path) -> str:
    """Write the file in the format of its ending, raw if that names none. Returns what a person should know about it;
    empty if nothing. Raises UsageFault."""
    part = run.outcome.part or run.job.choice.first
    memory = part.memory(run.job.region[0])
    try:
        kind = kind_for(save, None)
    except UsageFault:
        kind = "raw"
    image = Image(save.name, run.outcome.backup)
    save_image(save, image, kind, memory.erased, 16)
    low = image.lowest
    return f", which belongs at 0x{low:X}" if kind == "raw" and low != memory.start else ""
