"""`greenstep share-port`"""

from __future__ import annotations

import contextlib
import ipaddress

import click

from .faults import faults_as_asked
from .options import RATE
from .screen import say


@click.command("share-port", short_help="Serve a port over RFC 2217.")
@click.argument("port")
@click.option("--host", default="127.0.0.1", metavar="ADDRESS", help="The address to serve on. [127.0.0.1]")
@click.option("--tcp-port", type=click.IntRange(0, 65535), default=0, metavar="N", help="TCP port. [any free]")
@click.option("--baud", type=RATE, default=115200, metavar="RATE", help="Rate until the client sets one. [115200]")
@click.option("--json", "as_json", is_flag=True, help="One line for programs, with the URL.")
def command(port: str, host: str, tcp_port: int, baud: int, as_json: bool) -> int:
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
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"
