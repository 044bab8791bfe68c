"""`upload --if-changed`: is this very image there already? The chip is asked, and believed alone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import click

from greenstep.core.climb import Climb
from greenstep.core.events import Event, Found, StepEnded
from greenstep.core.quantities import show_seconds

from .drive import Settled, follow
from .faults import faults_as_asked
from .jobs import make_job
from .json_view import JsonView
from .port_choice import opener


class _Listener:
    """A view that keeps what a verify found out, and shows nothing."""

    def __init__(self) -> None:
        self.proof = ""
        self.found = ""

    def show(self, event: Event) -> None:
        if isinstance(event, StepEnded) and event.step == "verify" and event.outcome == "green":
            self.proof = event.evidence
        if isinstance(event, Found):
            self.found = event.findings[0].key

    def details(self, rows: list[tuple[str, str]]) -> None:
        """Nothing."""

    def close(self) -> None:
        """Nothing."""


def is_there_already(settled: Settled, options: Mapping[str, Any]) -> bool:
    """Whether a verify finds every byte of the images in the chip; it ends at the first that differs, and leaves the
    application running. Where it cannot be told (no answer, nothing to read back), False: the upload says why."""
    as_json = bool(options["as_json"])
    board, said = settled
    with faults_as_asked(as_json):
        job = replace(make_job("verify", board, said), keeps_open=False)
        climb = Climb(job, opener(job, said))
    listener = _Listener()
    status = follow(climb, listener)
    outcome = climb.outcome
    there = status == 0 and not outcome.unproven
    what = " + ".join(image.name for image in job.images.values())
    if as_json:
        JsonView().line(
            "compared", {"board": board, "same": there, "proof": listener.proof, "finding": listener.found}
        )
    elif there:
        who = board or (outcome.part.title if outcome.part else job.choice.name)
        took = show_seconds(outcome.elapsed_s)
        click.echo(f" {who} holds {what} already: {listener.proof}. Nothing was written; {took}")
    return there
