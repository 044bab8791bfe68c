"""A link over a port that cannot do what it is asked."""

from __future__ import annotations

import contextlib
import socket
import subprocess
import sys
import termios
import threading
import unittest
from collections.abc import Callable
from typing import Any, ClassVar

import serial
from serial import rfc2217

from greenstep.core.link import Frame, LineSettings, LinesMissing, LinkLost, RateRefused
from greenstep.ports.modem_lines import set_both
from greenstep.ports.opening import open_port
from greenstep.ports.serial_link import SerialLink

AT = LineSettings(115200)


class Port:
    """As much of a pySerial port as a change of settings needs; `refuses` rates, `breaks` at others."""

    def __init__(self, refuses: int = 0, breaks: int = 0, gone: bool = False) -> None:
        self.__dict__.update(_baud=115200, bytesize=8, parity="N", stopbits=1)
        self.__dict__.update(refuses=refuses, breaks=breaks, gone=gone)

    def flush(self) -> None:
        """As the system's own call for it, whose error is none of the system's errors."""
        if self.__dict__["gone"]:
            raise termios.error(5, "Input/output error")

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
        vanished, _ = self.link(gone=True)
        with self.assertRaisesRegex(LinkLost, "Input/output error"):
            vanished.configure(LineSettings(9600))


class Refusing:
    """A port of which each use ends as `error` says."""

    def __init__(self, error: Exception) -> None:
        self.__dict__["error"] = error

    def __getattr__(self, name: str) -> Any:
        if name in ("fd", "rfc2217_send_subnegotiation"):  # neither a device nor a network port
            raise AttributeError(name)
        raise self.__dict__["error"]

    def __setattr__(self, name: str, value: object) -> None:
        raise self.__dict__["error"]


class Border(unittest.TestCase):
    """Whatever pySerial raises, on whatever is asked of it, is one of ours on this side."""

    USES: ClassVar[dict[str, Callable[[SerialLink], object]]] = {
        "write": lambda link: link.write(b"hive"), "read": lambda link: link.read(1, 0.0), "discard": lambda link: link.discard(),
        "lines": lambda link: link.set_lines(True, False), "break": lambda link: link.set_break(True),
        "rate": lambda link: link.configure(LineSettings(9600)), "reopen": lambda link: link.reopen(1200),
        "errors": lambda link: link.errors(), "close": lambda link: link.close(),
    }  # fmt: skip

    def test_every_use_and_every_error(self) -> None:
        for error in (
            serial.SerialException("gone"),
            serial.PortNotOpenError(),
            OSError(5, "Input/output error"),
            termios.error(5, "Input/output error"),
        ):
            for name, use in self.USES.items():
                with self.subTest(name, error=error):
                    link = SerialLink(Port(), AT)
                    link._port = Refusing(error)
                    with contextlib.suppress(LinkLost):
                        use(link)

    def test_a_refused_break_is_none_and_is_known_to_be(self) -> None:
        link = SerialLink(Port(), AT)
        link._port = Refusing(ValueError("remote rejected value for option 'control'"))
        link.set_break(True)
        self.assertTrue(link.makes_no_break)
        with self.assertRaises(LinesMissing):
            link.set_lines(True, False)

    def test_a_port_that_was_closed_under_it(self) -> None:
        for use in (self.USES["write"], self.USES["read"], self.USES["discard"]):
            link = SerialLink(Port(), AT)
            link._port = Refusing(TypeError("an integer is required"))
            with self.assertRaisesRegex(LinkLost, "the port was closed"):
                use(link)


class Network:
    """As pySerial's RFC 2217 port: what is asked is confirmed when somebody has looked for it a few times."""

    def __init__(self, looks: int) -> None:
        self.sent: list[bytes] = []
        self.rts = False
        self._looks = looks
        self._rfc2217_options = {"control": self}
        self._thread = threading.main_thread()

    def rfc2217_send_subnegotiation(self, option: bytes, value: bytes) -> None:
        self.sent.append(value)

    def set(self, value: bytes) -> None:
        self.sent.append(value)

    @property
    def state(self) -> str:
        self._looks -= 1
        return rfc2217.REALLY_INACTIVE if self._looks > 0 else rfc2217.ACTIVE

    @property
    def confirmed(self) -> bool:
        return self._looks == 0


class NetworkLines(unittest.TestCase):
    def test_a_move_is_over_when_the_other_end_confirms_it(self) -> None:
        port = Network(4)
        set_both(port, True, False)
        self.assertTrue(port.confirmed)
        self.assertEqual(port.sent, [rfc2217.SET_CONTROL_DTR_ON, rfc2217.SET_CONTROL_RTS_OFF])

    def test_two_single_moves_pass_through_both_asserted_and_never_both_released(self) -> None:
        """A chip that decodes its lines takes both released for the order to run."""

        class Decoded:
            def __init__(self) -> None:
                self.__dict__.update(dtr=True, rts=False, states=[])

            def __setattr__(self, name: str, value: bool) -> None:
                self.__dict__[name] = value
                self.__dict__["states"].append((self.__dict__["dtr"], self.__dict__["rts"]))

        port = Decoded()
        set_both(port, False, True)
        set_both(port, True, False)
        self.assertEqual(port.__dict__["states"], [(True, True), (False, True), (True, True), (True, False)])
        network = Network(1)
        set_both(network, False, True)
        self.assertEqual(network.sent, [rfc2217.SET_CONTROL_RTS_ON, rfc2217.SET_CONTROL_DTR_OFF])


class LibraryThreads(unittest.TestCase):
    def test_their_ends_are_not_shown(self) -> None:
        code = (
            "import threading\nfrom greenstep.ports.network_port import quiet_threads\n"
            "quiet_threads()\nquiet_threads()\n"
            "def end():\n    raise OSError('closed by the other end')\n"
            "for name in ('pySerial RFC 2217 reader thread for x', 'another'):\n"
            "    thread = threading.Thread(target=end, name=name)\n    thread.start()\n    thread.join()\n"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(done.stderr.count("closed by the other end"), 1)
        self.assertIn("Exception in thread another", done.stderr)


class Unconfirming:
    """An RFC 2217 server that confirms rate and frame, and never SET-CONTROL: its own port has no such lines."""

    def __init__(self) -> None:
        self._server = socket.create_server(("127.0.0.1", 0))
        self.number = self._server.getsockname()[1]
        self.heard = bytearray()
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                client, _ = self._server.accept()
                threading.Thread(target=self._talk, args=(client,), daemon=True).start()

    def _talk(self, client: socket.socket) -> None:
        """RFC 854 and 2217: IAC 255, DONT 254, DO 253, WONT 252, WILL 251, SB 250, SE 240; COM-PORT-OPTION 44."""
        data = bytearray()
        with contextlib.suppress(OSError), client:
            while received := client.recv(4096):
                data += received
                while data:
                    if data[0] != 255:
                        self.heard.append(data.pop(0))
                    elif len(data) > 2 and data[1] in (251, 253):
                        client.sendall(bytes((255, 253 if data[1] == 251 else 251, data[2])))
                        del data[:3]
                    elif len(data) > 2 and data[1] in (252, 254):
                        del data[:3]
                    elif len(data) > 1 and data[1] == 250 and b"\xff\xf0" in data:
                        end = data.index(b"\xff\xf0")
                        option, command, *value = data[2:end]
                        del data[: end + 2]
                        if option == 44 and command != 5:
                            client.sendall(bytes((255, 250, 44, command + 100, *value, 255, 240)))
                    else:
                        break

    def close(self) -> None:
        self._server.close()


class WithoutConfirmation(unittest.TestCase):
    def test_a_network_port_without_lines_is_opened_all_the_same(self) -> None:
        server = Unconfirming()
        self.addCleanup(server.close)
        opened = open_port(f"rfc2217://127.0.0.1:{server.number}", AT, (False, False))
        self.addCleanup(opened.link.close)
        self.assertIn("confirms no DTR and RTS", opened.evidence)
        with self.assertRaises(LinesMissing):
            opened.link.set_lines(True, False)
        opened.link.configure(LineSettings(57600, Frame(8, "even", 1)))
        opened.link.set_break(True)
        opened.link.write(b"hive 7")
        for _ in range(500):
            opened.link.read(1, 0.02)
            if b"hive 7" in server.heard:
                break
        self.assertIn(b"hive 7", server.heard)


if __name__ == "__main__":
    unittest.main()
