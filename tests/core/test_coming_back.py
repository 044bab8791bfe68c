"""A port that goes and comes back under another name, against made-up lists of ports and a clock of its own."""

from __future__ import annotations

import unittest

from greenstep.core.link import LineSettings, LinkLost
from greenstep.ports.discovery import PortInfo
from greenstep.ports.opening import ComingBack, open_port


def port(name: str, location: str = "", serial: str = "", usb: str = "1209:0001") -> PortInfo:
    return PortInfo(name, "scale", usb, serial, location)


OTHER = port("/dev/ttyUSB0", "1-4")


class Back(unittest.TestCase):
    def wait(self, *stages: tuple[float, list[PortInfo]], name: str = "/dev/ttyACM0") -> tuple[str | None, float]:
        """(name found, when), with the ports listed from each stage's time on."""
        clock = [0.0]

        def look() -> list[PortInfo]:
            return [ports for since, ports in stages if since <= clock[0]][-1]

        def sleep(seconds: float) -> None:
            clock[0] += seconds

        return ComingBack(name, look, lambda: clock[0], sleep).wait(), clock[0]

    def test_under_another_name_at_the_same_place(self) -> None:
        found, at = self.wait((0, [OTHER, port("/dev/ttyACM0", "1-2:1.0")]), (0.4, [OTHER]),
                              (1.5, [OTHER, port("/dev/ttyACM1", "1-2:1.0", usb="1209:0002")]))  # fmt: skip
        self.assertEqual(found, "/dev/ttyACM1")
        self.assertGreater(at, 1.5)

    def test_with_the_same_serial_number_at_another_place(self) -> None:
        found, _ = self.wait((0, [port("/dev/ttyACM0", "1-2", "0042")]), (0.4, []),
                             (1.0, [port("/dev/ttyACM3", "1-7", "0042")]))  # fmt: skip
        self.assertEqual(found, "/dev/ttyACM3")

    def test_the_only_new_one_where_nothing_else_is_known(self) -> None:
        found, _ = self.wait((0, [OTHER, port("/dev/ttyACM0")]), (0.4, [OTHER]), (1.0, [OTHER, port("/dev/ttyACM9")]))
        self.assertEqual(found, "/dev/ttyACM9")

    def test_two_new_ones_are_no_answer(self) -> None:
        found, at = self.wait(
            (0, [port("/dev/ttyACM0")]), (0.4, []), (1.0, [port("/dev/ttyACM8"), port("/dev/ttyACM9")])
        )
        self.assertIsNone(found)
        self.assertGreaterEqual(at, 8)

    def test_the_same_name_where_it_never_went(self) -> None:
        self.assertEqual(self.wait((0, [port("/dev/ttyACM0", "1-2")]))[0], "/dev/ttyACM0")

    def test_a_port_that_is_never_listed_is_taken_to_be_there(self) -> None:
        self.assertEqual(self.wait((0, [OTHER]), name="/dev/pts/7")[0], "/dev/pts/7")

    def test_gone_for_good(self) -> None:
        self.assertIsNone(self.wait((0, [OTHER, port("/dev/ttyACM0", "1-2")]), (0.4, [OTHER]))[0])

    def test_a_network_port_that_stays_away(self) -> None:
        opened = open_port("loop://", LineSettings(115200), (False, False))
        opened.link.reopen(1200)
        self.assertEqual(opened.link.settings, LineSettings(115200))
        opened.link.close()
        with self.assertRaises(LinkLost):
            opened.link.write(b"x")


if __name__ == "__main__":
    unittest.main()
