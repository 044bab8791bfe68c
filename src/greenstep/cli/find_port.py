"""`greenstep find-port`"""

from __future__ import annotations

import sys
import time

import click

from .faults import faults_as_asked
from .options import Real
from .screen import say, say_all


@click.command("find-port", short_help="Find a port by its plug.")
@click.argument("name", required=False)
@click.option("--within", type=Real(0.1, 3600), metavar="SECONDS", help="How long to wait for the plug. [60]")
@click.option("--list", "listing", is_flag=True, help="Show the remembered ports, and where each is now.")
@click.option("--forget", is_flag=True, help="Forget the port of that name.")
@click.option("--json", "as_json", is_flag=True, help="One port per line, for programs.")
def command(name: str | None, within: float | None, listing: bool, forget: bool, as_json: bool) -> int:
    """Unplug or plug the board: the port that changes is shown, and remembered as NAME if you give one. It is
    recognised later by its serial number, or else by its place on the USB, whatever it is called then.

    \b
    greenstep find-port hive-scale
    greenstep upload scale.hex --chip atmega328p --port hive-scale
    """
    from greenstep.core.errors import PortFault, usage
    from greenstep.ports.discovery import find_ports
    from greenstep.ports.watching import wait_for_change
    from greenstep.store.aliases import forget_alias
    from greenstep.work.port_choice import remember_port

    from .ports import port_lines

    with faults_as_asked(as_json):
        if listing:
            return _list(as_json)
        if forget:
            if not name:
                raise usage("alias-name", "forget which port?", "greenstep find-port NAME --forget")
            forget_alias(name)
            return 0
        longest_s = within or 60.0
        if not as_json:
            say(f"Unplug the board, or plug it in. Waiting {longest_s:g} s …")
            sys.stdout.flush()
        change = wait_for_change(find_ports, time.monotonic, time.sleep, longest_s)
        if change is None:
            there = ", ".join(port.name for port in find_ports()) or "none"
            raise PortFault.of(
                "no-change",
                f"no port came or went in {longest_s:g} s",
                (f"ports: {there}",),
                ("another cable: many carry power only", "greenstep ports lists devices without a driver"),
            )
        if as_json:
            from .json_view import json_line, plain

            for port in change.ports:
                json_line("came" if change.came else "went", **plain(port))
        else:
            say("it came:" if change.came else "it went:")
            for port in change.ports:
                say_all(port_lines(port) if change.came else port_lines(port)[:1])
        if name:
            say(remember_port(name, change.ports), err=as_json)
    return 0


def _list(as_json: bool) -> int:
    """Each remembered port: by what it is recognised, and its name now."""
    from greenstep.ports.discovery import find_ports
    from greenstep.work.port_choice import known_ports

    known = known_ports()
    now = {port.alias: port.name for port in find_ports(aliases=known)}
    if not known and not as_json:
        say("no port is remembered; greenstep find-port NAME remembers one")
    for name, one in known.items():
        if as_json:
            from .json_view import json_line

            json_line("remembered", name=name, port=now.get(name, ""), serial=one.serial, location=one.location)
        else:
            by = f"serial {one.serial}" if one.serial else f"at {one.location}"
            say(f"{name:<20} {now.get(name, 'not plugged in'):<16} {by}")
    return 0
