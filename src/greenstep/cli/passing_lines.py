"""`--show-line`: the bytes of a run, shown between its steps as they go by."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from greenstep.core.trace.exchanges import Passing

if TYPE_CHECKING:
    from greenstep.core.engine.job import Job
    from greenstep.core.trace.recording import LineEvent

    from .drive import View


def shown_passing(job: Job, view: View, as_json: bool) -> Job:
    """The job, whose bytes the view is told of."""
    passing = Passing(job.secrets)

    def watch(event: LineEvent) -> None:
        for line in passing.take(event):
            if as_json:
                from .json_view import json_line

                json_line("passed", text=line.strip())
            else:
                view.passed(line)

    return replace(job, watch=watch)
