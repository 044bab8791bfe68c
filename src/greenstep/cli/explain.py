"""`greenstep explain`"""

from __future__ import annotations

import click

from .completion import complete_finding
from .fault_view import explained_lines, faults_as_asked, wrapped
from .screen import say, say_all


@click.command("explain", short_help="What a finding means.")
@click.argument("key", required=False, shell_complete=complete_finding)
@click.option("--json", "as_json", is_flag=True, help="One finding per line, for programs.")
def explain_command(key: str | None, as_json: bool) -> int:
    """What a finding means: its cause, the evidence that it rests on, and what to try. Without a key, all findings,
    in a line each.

    \b
    greenstep explain boot-pin
    """
    from greenstep.core.findings.explained import explain, explanations

    with faults_as_asked(as_json):
        these = [explain(key)] if key else list(explanations().values())
    if as_json:
        from .json_view import json_line, plain

        for one in these:
            json_line("explained", **plain(one))
        return 0
    if key:
        say_all([f"{key}   {these[0].about}", "", *explained_lines(these[0])])
        return 0
    for about in dict.fromkeys(one.about for one in these):
        say(about)
        for one in these:
            if one.about == about:
                say_all(wrapped(f"  {one.key:<20} {one.cause}", 100, 23))
    return 0
