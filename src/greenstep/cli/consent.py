"""Asking before something that cannot be undone."""

from __future__ import annotations

import click

from greenstep.core.errors import usage

from .screen import can_ask, confirmed


def consented(question: str, yes: bool) -> None:
    """Continue only if the person agrees, or has agreed with --yes. Raises UsageFault without a terminal."""
    if yes:
        return
    if not can_ask():
        raise usage("not-asked", f"{question} There is no terminal to ask on", "say so: --yes")
    if not confirmed(question):
        raise click.Abort
