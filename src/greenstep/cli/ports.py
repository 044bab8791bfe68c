"""`greenstep ports`, `find-port` and `share-port`."""

from __future__ import annotations

import contextlib
import sys
import time
from typing import TYPE_CHECKING

import click

from .fault_view import faults_as_asked
from .options import RATE, Real
from .screen import say, say_all

if TYPE_CHECKING:
    from greenstep.ports.discovery import PortInfo


@click.command("ports", short_help="List serial ports.")
@click.option("--json", "as_json", is_flag=True, help="One port per line, for programs.")
def ports_command(as_json: bool) -> int:
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


@click.command("find-port", short_help="Find a port by its plug.")
@click.argument("name", required=False)
@click.option("--within", type=Real(0.1, 3600), metavar="SECONDS", help="How long to wait for the plug. [60]")
@click.option("--list", "listing", is_flag=True, help="Show the remembered ports, and where each is now.")
@click.option("--forget", is_flag=True, help="Forget the port of that name.")
@click.option("--json", "as_json", is_flag=True, help="One port per line, for programs.")
def find_port_command(name: str | None, within: float | None, listing: bool, forget: bool, as_json: bool) -> int:
    """Unplug or plug the board: the port that changes is shown, and remembered as NAME if you give one. It is
    recognised later by its serial number, or else by its place on the USB, whatever it is called then.

    \b
    greenstep find-port hive-scale
    greenstep upload scale.hex --chip atmega328p --port hive-scale
    """
    from greenstep.core.errors import PortFault, usage
    from greenstep.ports.discovery import find_ports, wait_for_change
    from greenstep.store.aliases import forget_alias
    from greenstep.work.port_choice import remember_port

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


@click.command("share-port", short_help="Serve a port over RFC 2217.")
@click.argument("port")
@click.option("--host", default="127.0.0.1", metavar="ADDRESS", help="The address to serve on. [127.0.0.1]")
@click.option("--tcp-port", type=click.IntRange(0, 65535), default=0, metavar="N", help="TCP port. [any free]")
@click.option("--baud", type=RATE, default=115200, metavar="RATE", help="Rate until the client sets one. [115200]")
@click.option("--json", "as_json", is_flag=True, help="One line for programs, with the URL.")
def share_port_command(port: str, host: str, tcp_port: int, baud: int, as_json: bool) -> int:
    """Serve a local port to another machine over RFC 2217, rates and lines included, until stopped.

    \b
    greenstep share-port /dev/ttyUSB0
    greenstep share-port hive-scale --host 192.168.1.20 --tcp-port 7301
    """
    from greenstep.core.errors import usage
    from greenstep.core.link import LineSettings
    from greenstep.ports.opening import open_raw
    from greenstep.ports.sharing import PortShare
    from greenstep.store.board import PortChoice
    from greenstep.work.port_choice import BENCH, port_name

    def tell(text: str) -> None:
        if not as_json:
            say(text)

    with faults_as_asked(as_json):
        if port.startswith(BENCH):
            raise usage(
                "bench-port", "a simulated board has no port that others could reach", "greenstep bench serves it"
            )
        name = port_name(PortChoice(name=port))
        opened = open_raw(name, LineSettings(baud))
        try:
            try:
                share = PortShare(opened, name, host, tcp_port, tell)
            except OSError as error:
                raise usage(
                    "address", f"{host}:{tcp_port} cannot be served: {error.strerror}", "--tcp-port 0"
                ) from None
            _head(name, share.url, host, as_json)
            share.serve()
        finally:
            with contextlib.suppress(OSError):
                opened.close()
    return 0


def _head(name: str, url: str, host: str, as_json: bool) -> None:
    if as_json:
        from .json_view import json_line

        json_line("shared", port=name, url=url)
        return
    say(f"{name} is {url}   Ctrl-C ends it")
    if not _is_loopback(host):
        say("anyone who reaches this address can read, write and reset the board: there is no password")


def _is_loopback(host: str) -> bool:
    import ipaddress

    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"
