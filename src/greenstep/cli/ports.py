"""`greenstep ports`"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .faults import faults_as_asked
from .screen import say, say_all

if TYPE_CHECKING:
    from greenstep.ports.discovery import PortInfo


@click.command("ports", short_help="List serial ports.")
@click.option("--json", "as_json", is_flag=True, help="One port per line, for programs.")
def command(as_json: bool) -> int:
    """List serial ports, what is behind each, and whether it can be opened; if not, what to do. Opens none."""
    from greenstep.ports.discovery import find_ports
    from greenstep.ports.machine import Machine
    from greenstep.work.port_choice import known_ports

    machine = Machine()
    with faults_as_asked(as_json):
        ports = find_ports(machine, known_ports())
    bridges = machine.bridges_without_driver()
    if as_json:
        from .json_view import json_line, plain

        for port in ports:
            json_line("port", **plain(port))
        for bridge in bridges:
            json_line("no-driver", device=bridge)
        return 0
    if not ports:
        say("No serial port. Plug the adapter in; a cable may carry power only; a driver may be missing.")
    for port in ports:
        say_all(port_lines(port))
    for bridge in bridges:
        say(f"{bridge}: plugged in, and no driver has taken it")
    return 0


def port_lines(port: PortInfo) -> list[str]:
    """What there is to say of a port: its name and state, then what is behind it."""
    lines = ["   ".join(part for part in (port.name, port.alias, port.trouble or "free") if part)]
    if port.remedy:
        lines.append(f"   try  {port.remedy}")
    behind = [
        port.label,
        f"serial {port.serial}" if port.serial else "",
        f"at {port.location}" if port.location else "",
    ]
    if any(behind):
        lines.append("   " + "   ".join(part for part in behind if part))
    if port.by_id:
        lines.append(f"   {port.by_id}")
    if port.latency_ms is not None:
        lines.append(f"   latency timer {port.latency_ms} ms")
        if port.slow:
            lines.append(f"   try  echo 1 | sudo tee {port.latency_file}   for quicker answers")
    return lines
