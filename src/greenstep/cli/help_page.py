"""Help pages in which a word is never cut at its hyphens: names are copied from them."""

from __future__ import annotations

import re
from collections.abc import Iterable

import click

_UNBROKEN = "\u2011"  # at which lines are not wrapped; never written
_WITHIN = re.compile(r"(?<=\w)-(?=\w)")


class HelpPage(click.HelpFormatter):
    """Click's own, which wraps at hyphens."""

    def write_dl(self, rows: Iterable[tuple[str, str]], col_max: int = 30, col_spacing: int = 2) -> None:
        super().write_dl([(word, _WITHIN.sub(_UNBROKEN, text)) for word, text in rows], col_max, col_spacing)

    def write_text(self, text: str) -> None:
        super().write_text(_WITHIN.sub(_UNBROKEN, text))

    def getvalue(self) -> str:
        return super().getvalue().replace(_UNBROKEN, "-")
