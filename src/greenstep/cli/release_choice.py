"""Asking which build of a downloaded archive is meant."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from greenstep.core.errors import usage

from .screen import ask_number, can_ask, say

if TYPE_CHECKING:
    from greenstep.work.releases import Build

_MOST_SHOWN = 30


def which_build(archive: str, builds: Sequence[Build]) -> str:
    """The member that the person picks. Raises UsageFault without a terminal, click.Abort."""
    left = [build for build in builds if not build.against]
    ruled_out = [build for build in builds if build.against]
    if not can_ask():
        raise usage(
            "which-build",
            f"{archive} holds {len(left)} builds that may be meant",
            *(f"{archive}:{build.member}" for build in left[:8]),
            evidence=tuple(f"ruled out: {build.member}: {build.against}" for build in ruled_out[:8]),
        )
    for build in ruled_out[:_MOST_SHOWN]:
        say(f"     {build.member}   not for this board: {build.against}", err=True)
    for number, build in enumerate(left, 1):
        say(f"  {number}. {build.member}", err=True)
    return left[ask_number("Which build", len(left)) - 1].member
