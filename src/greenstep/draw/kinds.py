"""The kinds of pictures: checked before Matplotlib is loaded."""

from __future__ import annotations

from pathlib import Path

from greenstep.core.errors import usage

KINDS = (".png", ".svg", ".pdf")


def check_kind(path: Path) -> None:
    """Raises UsageFault for an ending that is no kind of picture."""
    if path.suffix.lower() not in KINDS:
        raise usage("picture-kind", f"{path.name}: pictures end in {', '.join(KINDS)}", f"--save {path.stem}.png")
