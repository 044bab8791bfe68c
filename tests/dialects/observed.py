"""What tests of dialects look at: a trial's notes, and what its simulated chip objects to."""

from __future__ import annotations

from typing import Any

from greenstep.bench.boards import BOARDS
from greenstep.bench.trial import Trial
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.events import Noted


def dialect_of(board: str) -> Any:
    stand = BOARDS[board]
    return find_dialect(stand.dialect or Catalogue.load().find(stand.chip).dialect)


def shows_bytes(board: str) -> bool:
    """Without a password, and after a reset."""
    spec = dialect_of(board).spec
    wants_password = any(setting.name == "old" for setting in spec.settings)
    return bool(spec.reads and not spec.shows_sums_only and not spec.into_ram and not wants_password)


def notes(trial: Trial) -> str:
    return " | ".join(event.text for event in trial.events if isinstance(event, Noted))


def strict(trial: Trial) -> list[str]:
    return [v for v in trial.line.chip.violations if "busy" not in v]
