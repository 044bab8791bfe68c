"""The partition table of a chip, where images name partitions and bring no table of their own."""

from __future__ import annotations

from greenstep.core.families import has_partitions
from greenstep.core.image import Image
from greenstep.core.image.esp_tables import MOST_BYTES, ROW, USUAL_PLACE, Partition, read_table
from greenstep.store.placing import TableWanted

from .board import Board
from .jobs import load_images, make_job
from .prompter import NON_INTERACTIVE, Prompter

_FIRST_BYTES = 512
"""What usually holds all of a table: reading is slow on some chips."""


def images_for(board: Board, prompter: Prompter = NON_INTERACTIVE) -> dict[str, Image]:
    """The images of an upload by memory; the chip is asked for its table if that is wanted. Raises UsageFault,
    ImageFault, and the fault of the run that asks."""
    try:
        return load_images(board)
    except TableWanted:
        if not has_partitions(board.choice.first):
            raise
        rows = table_on_chip(board, prompter)
        if not rows:
            raise
        prompter.tell(f" partition table of the chip: {', '.join(row.label for row in rows)}")
        return load_images(board, rows)


def table_on_chip(board: Board, prompter: Prompter = NON_INTERACTIVE) -> list[Partition]:
    """Read from the chip; empty if it has none. Raises the Fault of the run that reads it."""
    from .run import Run

    for size in (_FIRST_BYTES, MOST_BYTES):
        job = make_job("backup", board, prompter, region=("flash", USUAL_PLACE, size))
        pieces = Run(job, prompter, recorded=False).finish().backup
        rows = read_table(pieces[0].data) if pieces else []
        if len(rows) * ROW < size:
            break
    return rows
