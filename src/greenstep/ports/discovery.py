"""Which serial ports there are, what is behind each, whether it can be opened, and which comes or goes while a person
moves the plug."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Mapping

from serial.tools import list_ports
from serial.tools.list_ports_common import ListPortInfo

from greenstep.core.findings.port_rules import PortListed, PortSeen, diagnose_port, shared_port
from greenstep.core.frozen import frozen

from .machine import Machine

_SLOW_MS = 2


@frozen
class PortInfo:
    """One port. `usb` is 'VID:PID'; `by_id` a name that stays; `trouble` says why it cannot be opened and `remedy`
    what to do about it, both empty if it can; `latency_ms` is the bridge's latency timer, None if the system does not
    report it, and `latency_file` where it is set."""

    name: str
    product: str
    usb: str
    serial: str
    location: str
    by_id: str = ""
    alias: str = ""
    trouble: str = ""
    remedy: str = ""
    latency_ms: int | None = None
    latency_file: str = ""

    @property
    def label(self) -> str:
        """What is behind it, in a few words."""
        if self.usb:
            return f"{self.product or 'USB serial'} {self.usb}"
        return self.product

    @property
    def slow(self) -> bool:
        """Whether its latency timer delays every short answer."""
        return self.latency_ms is not None and self.latency_ms > _SLOW_MS


@frozen
class Known:
    """How a port is recognised later: by its serial number, else by its place on the USB, with the kind of its
    bridge."""

    serial: str = ""
    location: str = ""
    usb: str = ""

    def is_that(self, port: PortInfo) -> bool:
        if self.usb and port.usb != self.usb:
            return False
        if self.serial:
            return port.serial == self.serial
        return bool(self.location) and port.location == self.location


def known_by(port: PortInfo) -> Known | None:
    """How to recognise a port later; None for one with neither serial number nor place."""
    if port.serial:
        return Known(serial=port.serial, usb=port.usb)
    if port.location:
        return Known(location=port.location, usb=port.usb)
    return None


def find_ports(machine: Machine | None = None, aliases: Mapping[str, Known] | None = None) -> list[PortInfo]:
    """All ports that the system lists, in the order of their names; /dev/ttyUSB2 before /dev/ttyUSB10."""
    machine = machine or Machine()
    found = [_describe(record, machine, aliases or {}) for record in machine.records()]
    return sorted(found, key=lambda port: _natural(port.name))


def _natural(name: str) -> list[tuple[int, str]]:
    return [(int(part), "") if part.isdecimal() else (-1, part) for part in re.split(r"(\d+)", name)]


def listed_ports(machine: Machine | None = None) -> tuple[PortListed, ...]:
    """The same, with only what the findings need."""
    return tuple(PortListed(port.name, port.label, port.serial) for port in find_ports(machine))


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


def _describe(record: ListPortInfo, machine: Machine, aliases: Mapping[str, Known]) -> PortInfo:
    usb = f"{record.vid:04X}:{record.pid:04X}" if record.vid is not None else ""
    product = record.product or ("" if record.description in (None, "n/a") else record.description)
    trouble, remedy = _trouble(record.device, machine)
    latency = machine.latency(record.device)
    port = PortInfo(
        name=record.device,
        product=product or "",
        usb=usb,
        serial=record.serial_number or "",
        location=record.location or "",
        by_id=machine.by_id(record.device),
        trouble=trouble,
        remedy=remedy,
        latency_ms=latency[0] if latency else None,
        latency_file=latency[1] if latency else "",
    )
    alias = next((name for name, known in aliases.items() if known.is_that(port)), "")
    return PortInfo(**{**port.__dict__, "alias": alias})


def _trouble(device: str, machine: Machine) -> tuple[str, str]:
    """Why it cannot be opened, and what to do: found without opening it."""
    if not machine.allowed(device):
        group = machine.group(device)
        finding = diagnose_port(PortSeen(device, "forbidden", group=group))
        return f"no permission: it belongs to the group {group}" if group else "no permission", finding.attempts[0]
    used_for = machine.shared_with(device)
    if used_for:
        finding = shared_port(device, used_for)
        return ("the system's console" if used_for == "console" else "a login waits on it"), finding.attempts[0]
    held = machine.holders(device)
    if held:
        return f"held by {', '.join(held)}", diagnose_port(PortSeen(device, "busy", holders=held)).attempts[0]
    return "", ""


_POLL_S = 0.2
_SETTLE_S = 0.6
"""A bridge with several ports shows them one after the other."""


@frozen
class PortChange:
    """Ports that came and ports that went."""

    came: tuple[PortInfo, ...]
    went: tuple[PortInfo, ...]

    @property
    def ports(self) -> tuple[PortInfo, ...]:
        return self.came or self.went


class Newcomers:
    """Reports which ports have appeared since the last question; one that disappeared may appear again."""

    def __init__(self, look: Callable[[], list[PortInfo]]) -> None:
        self._look = look
        self._there = {port.name for port in look()}

    def came(self) -> list[str]:
        """Names of the ports that are new, in order."""
        before, now = self._there, {port.name for port in self._look()}
        self._there = now
        return sorted(now - before)


def wait_for_change(
    look: Callable[[], list[PortInfo]],
    now: Callable[[], float],
    sleep: Callable[[float], None],
    longest_s: float | None,
) -> PortChange | None:
    """The first change of the list of ports, once it has settled; None if there is none in `longest_s`."""
    before = {port.name: port for port in look()}
    end_s = None if longest_s is None else now() + longest_s
    while end_s is None or now() < end_s:
        sleep(_POLL_S)
        if {port.name for port in look()} != before.keys():
            sleep(_SETTLE_S)
            after = {port.name: port for port in look()}
            change = PortChange(
                tuple(port for name, port in after.items() if name not in before),
                tuple(port for name, port in before.items() if name not in after),
            )
            if change.ports:
                return change
    return None
