"""Which serial ports there are, what is behind each, and whether it can be opened."""

from __future__ import annotations

import os
from dataclasses import dataclass

from serial.tools import list_ports
from serial.tools.list_ports_common import ListPortInfo

from greenstep.core.findings.port_rules import PortListed

from .holders import holders, owning_group


@dataclass(frozen=True)
class PortInfo:
    """One port. `usb` is 'VID:PID'; `trouble` says why it cannot be opened, and is empty where it can."""

    name: str
    product: str
    usb: str
    serial: str
    location: str
    trouble: str

    @property
    def label(self) -> str:
        """What is behind it, in a few words."""
        if self.usb:
            return f"{self.product or 'USB serial'} {self.usb}"
        return self.product


def find_ports() -> list[PortInfo]:
    """All ports the system lists, sorted by name."""
    return sorted((_describe(port) for port in list_ports.comports()), key=lambda port: port.name)


def listed_ports() -> tuple[PortListed, ...]:
    """The same, as much of it as the findings need."""
    return tuple(PortListed(port.name, port.label, port.serial) for port in find_ports())


def port_with_serial(serial: str) -> str | None:
    """The name of the port whose USB serial number is `serial`."""
    return next((port.name for port in find_ports() if port.serial == serial), None)


def usb_behind(device: str) -> str:
    """'USB bridge VID:PID' for a port that has one, else an empty text."""
    real = os.path.realpath(device)
    for port in list_ports.comports():
        if os.path.realpath(port.device) == real and port.vid is not None:
            return f"USB bridge {port.vid:04X}:{port.pid:04X}"
    return ""


def _describe(port: ListPortInfo) -> PortInfo:
    usb = f"{port.vid:04X}:{port.pid:04X}" if port.vid is not None else ""
    product = port.product or ("" if port.description in (None, "n/a") else port.description)
    return PortInfo(
        name=port.device,
        product=product or "",
        usb=usb,
        serial=port.serial_number or "",
        location=port.location or "",
        trouble=_trouble(port.device),
    )


def _trouble(device: str) -> str:
    """Why it cannot be opened, found without opening it: opening alone may reset a board."""
    if os.name != "posix":
        return ""
    if not os.access(device, os.R_OK | os.W_OK):
        group = owning_group(device)
        return f"no permission: it belongs to the group {group}" if group else "no permission"
    held = holders(device)
    return f"held by {', '.join(held)}" if held else ""
