"""The person at the terminal: remarks go to standard error, secrets are asked for there."""

from __future__ import annotations

import sys
from functools import partial

import click

from greenstep.core.errors import usage
from greenstep.work.person import Person


def _secret(name: str) -> str:
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        raise usage("secret", f"the secret {name} is not in the environment", f"set {name}, or run in a terminal")
    return str(click.prompt(name, hide_input=True, err=True))


AT_THE_TERMINAL = Person(partial(click.echo, err=True), _secret)
