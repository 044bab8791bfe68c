"""The person who runs it, as far as the work has to know."""

from __future__ import annotations

from collections.abc import Callable

from greenstep.core.errors import usage
from greenstep.core.frozen import frozen
from greenstep.core.safety.harmless_text import harmless


@frozen
class Person:
    """`tell` takes a remark that is no event of a run: a journal that cannot be written, a trace cut short. `secret`
    asks for the secret with a name that is not in the environment; it raises UsageFault if nobody can be asked.
    `is_there`: somebody looks on, who can set a boot pin back when told to."""

    tell: Callable[[str], None]
    secret: Callable[[str], str]
    is_there: bool = False


def _log(text: str) -> None:
    import logging

    logging.getLogger("greenstep").warning("%s", harmless(text))


def _no_secret(name: str) -> str:
    raise usage("secret", f"the secret {name} is not in the environment", f"set {name}, or run in a terminal")


NOBODY = Person(_log, _no_secret)
"""For programs: remarks go to the logger `greenstep`."""
