"""Where the journal is, and what is stored beside it."""

from __future__ import annotations

import os
from pathlib import Path

FILE_NAME = "journal.sqlite"
VARIABLE = "GREENSTEP_JOURNAL"
NONE = "none"
"""As the variable's value: no journal is kept."""


def journal_file() -> Path | None:
    """Where it is stored; None if none is wanted."""
    said = os.environ.get(VARIABLE, "")
    if said == NONE:
        return None
    if said:
        return Path(said)
    import platformdirs

    return platformdirs.user_data_path("greenstep") / FILE_NAME
