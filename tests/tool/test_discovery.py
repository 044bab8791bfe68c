"""Ports as the system tells of them, from a made-up /dev, /proc and /sys and pySerial's own records."""

from __future__ import annotations

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from serial.tools.list_ports_common import ListPortInfo

from greenstep.cli.ports import port_lines
from greenstep.core.errors import PortFault, UsageFault
from greenstep.ports.discovery import Known, PortChange, PortInfo, find_ports, known_by, wait_for_change
from greenstep.ports.machine import Machine
from greenstep.store.aliases import forget_alias, read_aliases, write_alias
from greenstep.work.port_choice import port_name, remember_port


def record(
    device: str, vid: int | None = 0x1A86, pid: int = 0x7523, serial: str = "", location: str = "", product: str = ""
) -> ListPortInfo:
    port = ListPortInfo(device)
    port.vid, port.pid = vid, pid if vid else None
    port.serial_number, port.location, port.product = serial or None, location or None, product or None
    return port


class Tree(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="greenstep-test-")
        self.addCleanup(holder.cleanup)
        self.root = Path(holder.name)
        self.records: list[ListPortInfo] = []
        self.forbidden: set[str] = set()

    def put(self, path: str, text: str = "") -> Path:
        place = self.root / path
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text(text)
        return place

    def plug(self, device: str, **details: object) -> None:
        self.put(device.lstrip("/"))
        self.records.append(record(device, **details))  # type: ignore[arg-type]

    @property
    def machine(self) -> Machine:
        return Machine(self.root, lambda: self.records, lambda path: path.name not in self.forbidden)

    def port(self, name: str, **aliases: Known) -> PortInfo:
        return next(port for port in find_ports(self.machine, aliases) if port.name == name)


class Discovery(Tree):
    def test_what_is_behind_a_port(self) -> None:
        self.plug("/dev/ttyUSB0", serial="0001", location="1-2.3", product="USB Serial")
        link = self.root / "dev/serial/by-id/usb-1a86_USB_Serial_0001-if00-port0"
        link.parent.mkdir(parents=True)
        link.symlink_to("../../ttyUSB0")
        self.put("sys/bus/usb-serial/devices/ttyUSB0/latency_timer", "16\n")
        port = self.port("/dev/ttyUSB0", **{"hive-scale": Known(serial="0001")})
        self.assertEqual(port.label, "USB Serial 1A86:7523")
        self.assertEqual(port.by_id, "/dev/serial/by-id/usb-1a86_USB_Serial_0001-if00-port0")
        self.assertEqual((port.alias, port.trouble, port.latency_ms), ("hive-scale", "", 16))
        shown = "\n".join(port_lines(port))
        for said in (
            "/dev/ttyUSB0   hive-scale   free",
            "serial 0001   at 1-2.3",
            "by-id",
            "latency timer 16 ms",
            "sudo tee /sys/bus",
        ):
            self.assertIn(said, shown)

    def test_what_the_system_itself_uses(self) -> None:
        for device in ("/dev/ttyAMA0", "/dev/ttyS0", "/dev/ttyS1", "/dev/ttyUSB0"):
            self.plug(device, vid=None)
        self.put("proc/cmdline", "coherent_pool=1M console=ttyAMA0,115200 console=tty1 root=/dev/mmcblk0p2")
        self.put("sys/class/tty/console/active", "tty1 ttyS0\n")
        self.put("proc/812/comm", "agetty\n")
        (self.root / "proc/812/fd").mkdir()
        (self.root / "proc/812/fd/0").symlink_to(self.root / "dev/ttyS1")
        for name, trouble, remedy in (
            ("/dev/ttyAMA0", "the system's console", "take console=ttyAMA0 out of"),
            ("/dev/ttyS0", "the system's console", "take console=ttyS0 out of"),
            ("/dev/ttyS1", "a login waits on it", "sudo systemctl stop serial-getty@ttyS1"),
            ("/dev/ttyUSB0", "", ""),
        ):
            port = self.port(name)
            self.assertEqual(port.trouble, trouble, name)
            self.assertIn(remedy, port.remedy)

    def test_without_an_adapter_no_other_port_is_taken(self) -> None:
        with mock.patch("greenstep.ports.discovery.Machine", lambda: self.machine):
            self.plug("/dev/ttyS0", vid=None)
            with self.assertRaises(PortFault) as none:
                port_name(None)
            self.assertEqual(none.exception.finding.key, "no-adapter")
            self.assertIn("--port /dev/ttyS0", " ".join(none.exception.finding.attempts))
            self.plug("/dev/ttyUSB0")
            self.assertEqual(port_name(None), "/dev/ttyUSB0")
            self.plug("/dev/ttyUSB1")
            with self.assertRaises(UsageFault) as several:
                port_name(None)
            self.assertNotIn("ttyS0", " ".join(several.exception.finding.attempts))

    def test_a_quick_timer_needs_no_advice(self) -> None:
        self.plug("/dev/ttyUSB0")
        self.put("sys/class/tty/ttyUSB0/device/latency_timer", "1")
        self.assertNotIn("tee", "\n".join(port_lines(self.port("/dev/ttyUSB0"))))

    def test_who_holds_it(self) -> None:
        self.plug("/dev/ttyACM0")
        process = self.root / "proc/812"
        (process / "fd").mkdir(parents=True)
        (process / "comm").write_text("minder\n")
        (process / "fd/3").symlink_to(self.root / "dev/ttyACM0")
        (self.root / "proc/self").mkdir()
        port = self.port("/dev/ttyACM0")
        self.assertEqual(port.trouble, "held by minder (812)")
        self.assertIn("close that program", port.remedy)

    def test_permission_and_its_remedy(self) -> None:
        self.plug("/dev/ttyUSB0")
        self.forbidden = {"ttyUSB0"}
        port = self.port("/dev/ttyUSB0")
        self.assertIn("no permission", port.trouble)
        self.assertRegex(port.remedy, r"usermod -aG \w+ \$USER|ask the administrator")

    def test_the_order_is_that_of_people(self) -> None:
        for number in (10, 2, 0):
            self.plug(f"/dev/ttyUSB{number}")
        self.plug("/dev/ttyACM1")
        names = [port.name for port in find_ports(self.machine)]
        self.assertEqual(names, ["/dev/ttyACM1", "/dev/ttyUSB0", "/dev/ttyUSB2", "/dev/ttyUSB10"])

    def test_a_port_of_the_board_itself_has_no_usb(self) -> None:
        self.plug("/dev/ttyAMA0", vid=None)
        port = self.port("/dev/ttyAMA0")
        self.assertEqual((port.usb, port.label, known_by(port)), ("", "", None))
        self.assertEqual(port_lines(port), ["/dev/ttyAMA0   free"])

    def test_bridges_without_a_driver(self) -> None:
        for name, kind, driver in (("1-1", "ff", False), ("1-2", "ff", True), ("1-3", "08", False)):
            folder = self.root / f"sys/bus/usb/devices/{name}"
            self.put(f"sys/bus/usb/devices/{name}/idVendor", "1a86\n")
            self.put(f"sys/bus/usb/devices/{name}/idProduct", "7523\n")
            self.put(f"sys/bus/usb/devices/{name}/product", "USB Serial\n")
            self.put(f"sys/bus/usb/devices/{name}:1.0/bInterfaceClass", kind)
            if driver:
                (folder.parent / f"{name}:1.0/driver").mkdir()
        self.assertEqual(self.machine.bridges_without_driver(), ["1A86:7523 USB Serial"])

    def test_a_system_without_any_of_it(self) -> None:
        self.records.append(record("/dev/ttyUSB0"))
        port = self.port("/dev/ttyUSB0")
        self.assertEqual((port.by_id, port.latency_ms, port.trouble), ("", None, ""))
        self.assertEqual(self.machine.bridges_without_driver(), [])


class Again(Tree):
    def test_known_by_serial_number_whatever_it_is_called(self) -> None:
        self.plug("/dev/ttyUSB0", serial="0001", location="1-1")
        known = known_by(self.port("/dev/ttyUSB0"))
        assert known is not None
        self.records.clear()
        self.plug("/dev/ttyUSB4", serial="0001", location="1-4")
        self.assertTrue(known.is_that(self.port("/dev/ttyUSB4")))

    def test_else_by_place_and_kind(self) -> None:
        self.plug("/dev/ttyUSB0", location="1-1")
        known = known_by(self.port("/dev/ttyUSB0"))
        assert known is not None
        self.records.clear()
        self.plug("/dev/ttyUSB1", location="1-1", pid=0x5523)
        self.plug("/dev/ttyUSB2", location="1-2")
        self.plug("/dev/ttyUSB3", location="1-1")
        self.assertEqual([port.name for port in find_ports(self.machine) if known.is_that(port)], ["/dev/ttyUSB3"])


class Plug(Tree):
    def watch(self, *moves: tuple[float, str, bool], longest_s: float | None = 10.0) -> PortChange | None:
        """Plug (True) or unplug devices at their times of a made-up clock."""
        clock = [0.0]

        def look() -> list[PortInfo]:
            for at_s, device, there in moves:
                present = any(port.device == device for port in self.records)
                if at_s <= clock[0] and there and not present:
                    self.plug(device, serial=device[-1])
                elif at_s <= clock[0] and not there and present:
                    self.records = [port for port in self.records if port.device != device]
            return find_ports(self.machine)

        def sleep(seconds: float) -> None:
            clock[0] += seconds

        return wait_for_change(look, lambda: clock[0], sleep, longest_s)

    def test_what_came_and_what_went(self) -> None:
        self.plug("/dev/ttyUSB0")
        change = self.watch((1.0, "/dev/ttyACM0", True))
        assert change is not None
        self.assertEqual([port.name for port in change.came], ["/dev/ttyACM0"])
        change = self.watch((1.0, "/dev/ttyUSB0", False))
        assert change is not None
        self.assertEqual([port.name for port in change.ports], ["/dev/ttyUSB0"])
        self.assertFalse(change.came)

    def test_a_bridge_with_two_ports_is_seen_whole(self) -> None:
        change = self.watch((1.0, "/dev/ttyUSB0", True), (1.4, "/dev/ttyUSB1", True))
        assert change is not None
        self.assertEqual(len(change.came), 2)

    def test_nothing_in_time(self) -> None:
        self.assertIsNone(self.watch((20.0, "/dev/ttyUSB0", True)))


class Aliases(Tree):
    def test_kept_and_forgotten_and_comments_stay(self) -> None:
        path = self.put("ports.toml", "# my boards\n[brood-probe]\nlocation = '1-2'\n")
        write_alias("hive-scale", {"serial": "0001", "location": "", "usb": "1A86:7523"}, path)
        self.assertEqual(
            read_aliases(path),
            {"brood-probe": {"location": "1-2"}, "hive-scale": {"serial": "0001", "usb": "1A86:7523"}},
        )
        forget_alias("brood-probe", path)
        self.assertEqual(list(read_aliases(path)), ["hive-scale"])
        self.assertIn("# my boards", path.read_text())

    def test_a_folder_is_made_and_nothing_is_no_fault(self) -> None:
        path = self.root / "new" / "ports.toml"
        self.assertEqual(read_aliases(path), {})
        write_alias("hive-scale", {"serial": "1"}, path)
        self.assertEqual(list(path.parent.iterdir()), [path])


class Remembering(Tree):
    def kept(self, *ports: PortInfo) -> str:
        with mock.patch.dict(os.environ, XDG_CONFIG_HOME=str(self.root)):
            return remember_port("hive-scale", ports)

    def test_by_serial_number_else_by_place(self) -> None:
        self.assertIn("by serial number 0001", self.kept(PortInfo("/dev/ttyUSB0", "", "1A86:7523", "0001", "1-1")))
        path = self.root / "greenstep" / "ports.toml"
        self.assertEqual(read_aliases(path)["hive-scale"], {"serial": "0001", "usb": "1A86:7523"})
        self.assertIn("its place on the USB, 1-1", self.kept(PortInfo("/dev/ttyUSB0", "", "1A86:7523", "", "1-1")))
        self.assertEqual(read_aliases(path)["hive-scale"], {"location": "1-1", "usb": "1A86:7523"})

    def test_not_several_and_not_one_that_cannot_be_known_again(self) -> None:
        bare = PortInfo("/dev/ttyAMA0", "", "", "", "")
        for ports, key in (((bare,), "unknown-again"), ((bare, bare), "several-ports")):
            with self.subTest(key), self.assertRaises(UsageFault) as caught:
                self.kept(*ports)
            self.assertEqual(caught.exception.finding.key, key)


if __name__ == "__main__":
    unittest.main()
