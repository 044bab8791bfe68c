"""What the system knows about its serial ports, and where it keeps it (Linux: /dev, /proc, /sys)."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable
from dataclasses import field
from pathlib import Path
from typing import TYPE_CHECKING

from serial.tools import list_ports

from greenstep.core.frozen import frozen

from .holders import holders, owning_group

if TYPE_CHECKING:
    from serial.tools.list_ports_common import ListPortInfo


def _may_open(path: Path) -> bool:
    return os.name != "posix" or os.access(path, os.R_OK | os.W_OK)


@frozen
class Machine:
    """`root` stands before /dev, /proc and /sys; `records` are pySerial's; `may_open` checks the permission to read
    and write a device. Nothing here opens a port: opening alone may reset a board."""

    root: Path = Path("/")
    records: Callable[[], Iterable[ListPortInfo]] = field(default=list_ports.comports)
    may_open: Callable[[Path], bool] = _may_open

    def place(self, path: str) -> Path:
        """A path of the system, under `root`."""
        return self.root / path.lstrip("/")

    def by_id(self, device: str) -> str:
        """The name under /dev/serial/by-id that leads to a device, which stays when its number changes; else
        empty."""
        folder = self.place("/dev/serial/by-id")
        try:
            links = sorted(folder.iterdir())
        except OSError:
            return ""
        wanted = os.path.realpath(self.place(device))
        return next((f"/dev/serial/by-id/{link.name}" for link in links if os.path.realpath(link) == wanted), "")

    def latency(self, device: str) -> tuple[int, str] | None:
        """(ms, file) of the bridge's latency timer, if its driver reports it."""
        name = device.rpartition("/")[2]
        for path in (
            f"/sys/bus/usb-serial/devices/{name}/latency_timer",
            f"/sys/class/tty/{name}/device/latency_timer",
        ):
            try:
                return int(self.place(path).read_text()), path
            except (OSError, ValueError):
                continue
        return None

    def holders(self, device: str) -> tuple[str, ...]:
        """Programs that have the device open, as 'name (pid)'."""
        return holders(str(self.place(device)), self.place("/proc"))

    def shared_with(self, device: str) -> str:
        """What of the system itself uses a device: `console` (the kernel's messages go there), `login` (one waits on
        it), or nothing. A small computer's own UART often has either."""
        name = device.rpartition("/")[2]
        real = os.path.realpath(self.place(device)).rpartition("/")[2]
        names = {name, real}
        active = _read(self.place("/sys/class/tty/console/active")).split()
        told = re.findall(r"\bconsole=(?:/dev/)?([A-Za-z]+[0-9]*)", _read(self.place("/proc/cmdline")))
        if names & {*active, *told}:
            return "console"
        return "login" if any(re.match("a?getty|login", holder) for holder in self.holders(device)) else ""

    def group(self, device: str) -> str:
        """The group that owns the device."""
        return owning_group(str(self.place(device)))

    def allowed(self, device: str) -> bool:
        return self.may_open(self.place(device))

    def bridges_without_driver(self) -> list[str]:
        """USB devices that look like serial bridges and have no driver, as 'VID:PID product'."""
        found = []
        try:
            interfaces = sorted(self.place("/sys/bus/usb/devices").glob("*:1.0"))
        except OSError:
            return []
        for interface in interfaces:
            if (interface / "driver").exists() or _read(interface / "bInterfaceClass") not in ("ff", "02"):
                continue
            device = interface.parent / interface.name.partition(":")[0]
            vendor, product = _read(device / "idVendor"), _read(device / "idProduct")
            if vendor and product:
                label = _read(device / "product") or "unnamed"
                found.append(f"{vendor.upper()}:{product.upper()} {label}")
        return found


def _read(path: Path) -> str:
    try:
        return path.read_text().strip()
    except OSError:
        return ""
