"""`greenstep ports`"""

from __future__ import annotations

import click


@click.command("ports", short_help="List serial ports.")
@click.option("--json", "as_json", is_flag=True, help="One port a line, for programs.")
def command(as_json: bool) -> int:
    """List serial ports, what is behind each, and whether it can be opened."""
    from greenstep.ports.discovery import find_ports

    ports = find_ports()
    if as_json:
        from .json_view import JsonView, plain

        for port in ports:
            JsonView().line("port", plain(port))
        return 0
    if not ports:
        click.echo("No serial port. Plug the adapter in; a cable may carry power only; a driver may be missing.")
        return 0
    names = max(len(port.name) for port in ports)
    labels = max(len(port.label) for port in ports)
    serials = max(len(port.serial) for port in ports)
    for port in ports:
        row = f"{port.name:<{names}}  {port.label:<{labels}}  {port.serial:<{serials}}"
        click.echo(f"{row}  {port.trouble or 'free'}")
    return 0
