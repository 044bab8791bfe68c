"""A link over a port that cannot do what it is asked."""

from __future__ import annotations

import unittest
from typing import Any

import serial

from greenstep.core.link import Frame, LineSettings, LinkLost, RateRefused
from greenstep.ports.serial_link import SerialLink

AT = LineSettings(115200)


class Port:
    """As much of a pySerial port as a change of settings needs; `refuses` rates, `breaks` at others."""

    def __init__(self, refuses: int = 0, breaks: int = 0) -> None:
        self.__dict__.update(_baud=115200, bytesize=8, parity="N", stopbits=1, refuses=refuses, breaks=breaks)

    def flush(self) -> None:
        """Nothing waits."""

    @property
    def baudrate(self) -> int:
        return int(self.__dict__["_baud"])

    @baudrate.setter
    def baudrate(self, value: int) -> None:
        self.__dict__["_baud"] = value
        if value == self.__dict__["refuses"]:
            raise ValueError("Failed to set custom baud rate")
        if value == self.__dict__["breaks"]:
            raise serial.SerialException("device gone")


class Settings(unittest.TestCase):
    def link(self, **options: Any) -> tuple[SerialLink, Port]:
        port = Port(**options)
        return SerialLink(port, AT), port

    def test_a_rate_that_is_refused_leaves_the_one_there_was(self) -> None:
        link, port = self.link(refuses=74880)
        with self.assertRaises(RateRefused) as caught:
            link.configure(LineSettings(74880))
        self.assertEqual(str(caught.exception.settings), "74880 8N1")
        self.assertEqual((link.settings, port.baudrate), (AT, 115200))
        link.configure(LineSettings(57600, Frame(8, "even", 1)))
        self.assertEqual((port.baudrate, port.parity), (57600, "E"))

    def test_a_port_that_breaks_is_lost(self) -> None:
        link, _ = self.link(breaks=9600)
        with self.assertRaisesRegex(LinkLost, "device gone"):
            link.configure(LineSettings(9600))


if __name__ == "__main__":
    unittest.main()
