"""Network ports whose other end sends nonsense, nothing, or without pause: served ports go on, and the tool ends."""

from __future__ import annotations

import contextlib
import random
import socket
import threading
import unittest
from collections.abc import Iterator
from typing import Any
from urllib.parse import urlsplit

from benchmarks.hostile_peers import send, served, shared, still_sound, stream
from benchmarks.noise_boards import NoiseAfter
from greenstep.bench.trial import prepare
from greenstep.core.engine.job import OpenedPort
from greenstep.core.events import RunEnded
from greenstep.core.link import LineSettings, LinkFlooded
from greenstep.core.safety.telnet_guard import TelnetGuard, in_use_by, made_ready
from greenstep.core.trace.recording import RecordingLink
from greenstep.ports.network_port import NetworkPort
from greenstep.ports.opening import open_raw
from greenstep.ports.sharing import PortShare

from .support import ToolTest

SENSELESS = [
    bytes.fromhex(text)
    for text in (
        "FF FA 2C 01 FF F0", "FF FA 2C 02 FF F0", "FF FA 2C 03 63 FF F0", "FF FA 2C 04 63 FF F0", "FF F0", "FF FF FF F0",
        "FF FA 2C 01 FF FF FF FF FF FF FF FF FF F0", "FF FA 2C 02 C8 FF F0", "FF FA FF F0", "FF FA 2C", "FF FB", "FF",
    )
]  # fmt: skip


class Served(unittest.TestCase):
    def test_messages_without_sense(self) -> None:
        """The first is answered to nobody's harm; and so are the first 60 of those that `make faults` sends."""
        for serving in (shared, served):
            with serving() as (url, alive):
                for data in (*SENSELESS, *(stream(random.Random(seed)) for seed in range(60))):
                    self.assertEqual((send(url, data), alive()), ("", True), data.hex(" "))
                self.assertEqual(still_sound(url), "")

    def test_what_has_no_end_is_not_collected(self) -> None:
        class Manager:
            mode, suboption = 0, None

            def filter(self, byte: bytes) -> list[bytes]:
                self.suboption = (self.suboption or bytearray()) + byte
                return []

        manager: Any = Manager()
        guard = TelnetGuard(manager)
        for _ in range(50):
            guard.filter(b"\xff" + b"x" * 1000)
            self.assertLessEqual(len(manager.suboption or b""), 1000)
        self.assertGreater(guard.senseless, 0)

    def test_a_second_client_is_told_who_has_the_port(self) -> None:
        for serving in (shared, served):
            with serving() as (url, _):
                place = urlsplit(url)
                first = NetworkPort()
                first.port = url
                first.open()
                try:
                    with socket.create_connection((place.hostname, place.port or 0), timeout=20) as second:
                        self.assertEqual(in_use_by(second.makefile("rb").read()), "127.0.0.1")
                finally:
                    first.close()
                self.assertEqual(still_sound(url), "")

    def test_one_that_is_gone_is_noticed(self) -> None:
        """By the system: a peer whose cable was pulled says no farewell."""
        with socket.create_server(("127.0.0.1", 0)) as listener, socket.socket() as client:
            client.connect(listener.getsockname())
            peer, _ = listener.accept()
            with peer:
                made_ready(peer)
                self.assertTrue(peer.getsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE))
                with self.assertRaises(TimeoutError):  # nor is one waited for that does not read
                    peer.settimeout(0.05)
                    peer.sendall(bytes(64 << 20))

    def test_one_that_says_nothing_is_sent_away(self) -> None:
        told: list[str] = []
        port = open_raw("loop://", LineSettings(115200))
        share = PortShare(port, "loop", "127.0.0.1", 0, told.append, silent_s=0.2)
        threading.Thread(target=share.serve, daemon=True).start()
        place = urlsplit(share.url)
        with socket.create_connection((place.hostname, place.port or 0), timeout=60) as silent:
            while silent.recv(4096):  # what it negotiates, and the end
                pass
        self.assertEqual(still_sound(share.url), "")
        self.assertIn("127.0.0.1 went: it did not speak telnet within 0.2 s", told)


class Busy(ToolTest):
    def test_the_tool_says_who_has_the_port(self) -> None:
        bench = self.served("hive-scale")
        url = bench.port("hive-scale")
        first = NetworkPort()
        first.port = url
        first.open()
        self.addCleanup(first.close)
        run = self.run_tool("greet", "--chip", "atmega328p", "--port", url)
        self.assertEqual((run.status, "is held by 127.0.0.1" in run.text), (3, True), run.text)


@contextlib.contextmanager
def flooding() -> Iterator[str]:
    """A server that speaks RFC 2217 as far as it must, and sends without pause."""
    from serial import rfc2217

    class Nothing:
        cts = dsr = cd = ri = xonxoff = rtscts = break_condition = dtr = rts = False
        baudrate, bytesize, parity, stopbits = 115200, 8, "N", 1

        def reset_input_buffer(self) -> None: ...

        def reset_output_buffer(self) -> None: ...

    class Out:
        def __init__(self, client: socket.socket) -> None:
            self.client, self.lock = client, threading.Lock()

        def write(self, data: bytes) -> None:
            with self.lock:
                self.client.sendall(data)

    def serve(client: socket.socket) -> None:
        with contextlib.suppress(OSError):
            out = Out(client)
            manager = rfc2217.PortManager(Nothing(), out)  # type: ignore[arg-type]

            def flood() -> None:
                with contextlib.suppress(OSError):
                    while True:
                        out.write(b"A" * 512)

            threading.Thread(target=flood, daemon=True).start()
            while data := client.recv(4096):
                list(manager.filter(data))

    def accept() -> None:
        with contextlib.suppress(OSError):
            while True:
                threading.Thread(target=serve, args=(listener.accept()[0],), daemon=True).start()

    listener = socket.create_server(("127.0.0.1", 0))
    threading.Thread(target=accept, daemon=True).start()
    with listener:
        yield f"rfc2217://127.0.0.1:{listener.getsockname()[1]}"


class WithoutPause(ToolTest):
    def test_a_server_that_never_stops_is_left(self) -> None:
        """It ends at all: before, what had come was emptied for as long as more came."""
        with flooding() as url:
            run = self.run_tool("greet", "--chip", "stm32f103c8", "--port", url, "--patience", "3")
        self.assertEqual((run.status, "itself failed" in run.text), (3, False), run.text)

    def test_more_than_a_line_carries(self) -> None:
        class Flood:
            settings, clock = LineSettings(9600), 0.0

            def now(self) -> float:
                self.clock += 1e-4
                return self.clock

            def write(self, data: bytes) -> None: ...

            def read(self, size: int, timeout_s: float) -> bytes:
                return bytes(size)

        link = RecordingLink(Flood(), asks=True)  # type: ignore[arg-type]
        with self.assertRaises(LinkFlooded):
            for _ in range(1000):
                link.read(4096, 0.1)
        asked = RecordingLink(Flood(), asks=True)  # type: ignore[arg-type]
        for _ in range(100):  # a board that is its own USB device answers fast, when it is asked
            asked.write(b"?")
            asked.read(100_000, 0.1)

    def test_a_board_that_never_pauses_ends_within_a_few_times_the_patience(self) -> None:
        """On the virtual clock. `make faults` tries every board."""
        for name in ("hive-scale", "msp430g2553", "cc2652p"):
            for pattern in (b"A",):
                runner, trial = prepare(name, purpose="greet", patience_s=3.0)
                opened = runner.open_link

                def open_link(settings: LineSettings, lines: tuple[bool, bool]) -> OpenedPort:
                    port = opened(settings, lines)  # noqa: B023  (called before the next turn)
                    noise = NoiseAfter(port.link, 0, 1 << 40, pattern, random.Random(1))  # noqa: B023
                    return OpenedPort(noise, port.evidence)  # type: ignore[arg-type]

                runner.open_link = open_link
                events = list(runner.run())
                with self.subTest(board=name, pattern=pattern):
                    self.assertIsInstance(events[-1], RunEnded)
                    assert trial.link is not None
                    self.assertLess(trial.link.now(), 45.0)


if __name__ == "__main__":
    unittest.main()
