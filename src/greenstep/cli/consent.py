"""Asking before something that cannot be undone."""

from __future__ import annotations

import sys

import click

from greenstep.core.errors import usage


def consented(question: str, yes: bool) -> None:
    """Continue only if the person agrees, or has agreed with --yes. Raises UsageFault without a terminal."""
    if yes:
        return
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        raise usage("not-asked", f"{question} There is no terminal to ask on", "say so: --yes")
    if not click.confirm(question, err=True):
        raise click.Abort
