"""Faults outside the ladder, shown in the requested way."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager

from greenstep.core.errors import Fault


@contextmanager
def faults_as_asked(as_json: bool) -> Iterator[None]:
    """Faults before a run begins: as a JSON line if JSON was requested, else by the outermost frame."""
    try:
        yield
    except Fault as fault:
        if not as_json:
            raise
        from .json_view import json_line

        json_line("fault", exit_code=fault.exit_code, findings=fault.findings)
        sys.exit(fault.exit_code)
