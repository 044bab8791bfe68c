"""The person at the terminal: remarks go to standard error; secrets, and consent to what cannot be undone, are asked
for there."""

from __future__ import annotations

import sys
from functools import partial

import click

from greenstep.core.errors import usage
from greenstep.work.prompter import Prompter

from .screen import ask, can_ask, confirmed, say


def _secret(name: str) -> str:
    if not can_ask():
        raise usage("secret", f"the secret {name} is not in the environment", f"set {name}, or run in a terminal")
    return ask(name, hidden=True)


AT_THE_TERMINAL = Prompter(partial(say, err=True), _secret, can_ask() or sys.stdout.isatty())


def consented(question: str, yes: bool) -> None:
    """Continue only if the person agrees, or has agreed with --yes. Raises UsageFault without a terminal."""
    if yes:
        return
    if not can_ask():
        raise usage("not-asked", f"{question} There is no terminal to ask on", "say so: --yes")
    if not confirmed(question):
        raise click.Abort
