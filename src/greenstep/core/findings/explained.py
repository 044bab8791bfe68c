"""What each finding means, in general: cause, evidence and what to try, from explained.toml."""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import Path

from ..errors import usage
from ..frozen import frozen
from ..suggestions import nearest


@frozen
class Explained:
    """`about` is the step or thing it belongs to; `shows` is the evidence that it rests on."""

    key: str
    about: str
    cause: str
    shows: str
    attempts: tuple[str, ...]


@cache
def explanations() -> dict[str, Explained]:
    """All, by key, in the order in which a person meets them."""
    table = tomllib.loads(Path(__file__).with_name("explained.toml").read_text("utf-8"))
    return {
        key: Explained(key, row["about"], row["cause"], row["shows"], tuple(row["try"])) for key, row in table.items()
    }


def explain(key: str) -> Explained:
    """What a finding means. Raises UsageFault for a key that no finding has."""
    found = explanations().get(key)
    if found is None:
        near = nearest(key, explanations(), 3, 0.4)
        hint = f"did you mean {' or '.join(near)}?" if near else "greenstep explain lists them"
        raise usage("no-such-finding", f"no finding has the key '{key}'", hint)
    return found
