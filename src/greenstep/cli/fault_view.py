"""Findings as lines of plain text, and faults outside a run, shown in the requested way."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING

from greenstep.core.errors import Fault
from greenstep.core.safety.harmless_text import harmless

if TYPE_CHECKING:
    from greenstep.core.errors import Finding
    from greenstep.core.findings.explained import Explained


_INDENT = 12


def fault_lines(findings: Sequence[Finding], width: int = 100) -> list[str]:
    """A fault outside the ladder: its cause, what was seen, what to try."""
    first = findings[0]
    lines = wrapped(f"✗ {first.cause}", width, 2)
    lines += finding_lines(first, width)
    return lines


def finding_lines(finding: Finding, width: int = 100) -> list[str]:
    """The evidence of a finding, and what to try; its cause is shown at the failed step."""
    lines: list[str] = []
    for index, text in enumerate(finding.evidence):
        lines += _labelled("seen" if index == 0 else "", text, width)
    numbered = len(finding.attempts) > 1
    for index, text in enumerate(finding.attempts):
        told = f"{index + 1}. {text}" if numbered and not text[:1].isdecimal() else text
        lines += _labelled("try" if index == 0 else "", told, width)
    return lines


def other_causes(findings: Iterable[Finding], width: int = 100) -> list[str]:
    """Less likely findings, after the first."""
    lines: list[str] = []
    for finding in findings:
        lines += ["", *_labelled("or", finding.cause, width), *finding_lines(finding, width)]
    return lines


def explained_lines(one: Explained) -> list[str]:
    """What a finding means in general: cause, evidence and what to try."""
    rows = [("cause", one.cause), ("seen by", one.shows), *(("try", attempt) for attempt in one.attempts)]
    return [line for label, text in rows for line in wrapped(f" {label:<10} {text}", 100, 12)]


def _labelled(label: str, text: str, width: int) -> list[str]:
    if label == "" and text.strip() == "^":  # a pointer below the line above must not be moved
        return [" " * _INDENT + text]
    return wrapped(f"   {label:<{_INDENT - 3}}{text}", width, _INDENT)


def wrapped(text: str, width: int, hang: int) -> list[str]:
    """Lines of at most `width`, all after the first indented by `hang`; words and quoted bytes are not broken."""
    text = harmless(text, keep="\n\t")
    if len(text) <= width and text.isprintable():
        return [text.rstrip() or text]
    import textwrap

    return textwrap.wrap(
        text, max(width, 40), subsequent_indent=" " * hang, break_long_words=False, break_on_hyphens=False
    ) or [text]


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
