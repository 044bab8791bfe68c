"""What every figure has in common: its look, and how it is saved."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import matplotlib
from matplotlib.figure import Figure
from matplotlib.text import Text

from greenstep.core.errors import usage
from greenstep.core.safety.harmless_text import harmless
from greenstep.core.safety.plain_files import NO_FILE, is_replaceable

from .kinds import check_kind

INK, QUIET, GREEN, AMBER, RED, BLUE = "#22303c", "#8a97a3", "#2e8b57", "#c98a1b", "#b5403a", "#2f6690"
_LOOK: Any = {
    "font.family": "DejaVu Sans",
    "font.size": 11,
    "text.color": INK,
    "text.parse_math": False,
    "axes.edgecolor": QUIET,
    "axes.labelcolor": INK,
    "xtick.color": INK,
    "ytick.color": INK,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "svg.fonttype": "path",
    "svg.hashsalt": "greenstep",
}


@contextmanager
def figure(path: Path, width: float = 12.8, height: float = 8.0) -> Iterator[Figure]:
    """A figure of that many inches, saved to `path` at 100 dots per inch when the block ends. Raises UsageFault."""
    check_kind(path)
    if not is_replaceable(path):
        raise usage("picture", f"{path} cannot be written: {NO_FILE}")
    with matplotlib.rc_context(_LOOK):
        drawn = Figure(figsize=(width, height), layout="constrained")
        yield drawn
        for text in drawn.findobj(Text):
            text.set_text(harmless(text.get_text(), keep="\n"))
        try:
            drawn.savefig(path, dpi=100, metadata={"Date": None} if path.suffix.lower() == ".svg" else None)
        except OSError as error:
            raise usage("picture", f"{path} cannot be written: {error.strerror}") from None
