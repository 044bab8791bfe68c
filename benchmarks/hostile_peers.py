"""Telnet streams that make no sense, sent to a shared port and to a served board: both go on, and serve the next.

`python -m benchmarks.hostile_peers [STREAMS [FIRST_SEED]]`
"""

from __future__ import annotations

import contextlib
import queue
import random
import resource
import socket
import sys
import threading
from collections.abc import Callable, Iterator
from urllib.parse import urlsplit

from greenstep.bench.boards import BOARDS
from greenstep.bench.server import BoardServer
from greenstep.core.link import LineSettings
from greenstep.ports.opening import open_port, open_raw
from greenstep.ports.sharing import PortShare

from .seeded import asked_for, show_wrong

_IAC, _SB, _SE = b"\xff", b"\xfa", b"\xf0"
_COMMANDS = (b"\xfb", b"\xfc", b"\xfd", b"\xfe")
_LONGEST_S = 30.0
_MOST_MIB = 60


def stream(source: random.Random) -> bytes:
    """Some messages: whole, cut short, with values of the wrong length, without an end, in each other; and bytes."""
    made = b""
    for _ in range(source.randint(1, 12)):
        kind = source.randrange(9)
        option = bytes([source.choice((0, 1, 3, 44, 255, source.randrange(256)))])
        if kind == 0:
            made += source.randbytes(source.randint(1, 60))
        elif kind == 1:
            made += _IAC + source.choice(_COMMANDS) + option
        elif kind == 2:
            made += _IAC + source.choice(_COMMANDS)
        elif kind < 6:
            value = source.randbytes(source.choice((0, 0, 1, 1, 3, 4, 5, 40)))
            message = b"\x2c" + bytes([source.choice((0, 1, 2, 3, 4, 5, 8, 9, 10, 11, 12, 99))]) + value
            made += _IAC + _SB + message + source.choice((_IAC + _SE, _IAC + _SE, _IAC, b"", _SE))
        elif kind == 6:
            made += _IAC + _SB + source.randbytes(source.choice((1, 200, 3000)))
        elif kind == 7:
            made += _IAC * source.randint(1, 9)
        else:
            made += _IAC + _SE
    return made


def send(url: str, data: bytes) -> str:
    """Send a stream as a client would, and hear it out. Returns what went wrong; being sent away is no fault."""
    place = urlsplit(url)
    try:
        with socket.create_connection((place.hostname, place.port or 0), timeout=_LONGEST_S) as client:
            client.sendall(data)
            client.shutdown(socket.SHUT_WR)
            while client.recv(65536):
                pass
    except TimeoutError:
        return f"not left within {_LONGEST_S:g} s"
    except ConnectionError:
        return ""
    return ""


@contextlib.contextmanager
def shared() -> Iterator[tuple[str, Callable[[], bool]]]:
    """A shared port that gives back what it is sent; and whether it is still served."""
    port = open_raw("loop://", LineSettings(115200))
    port.queue = queue.Queue()  # what a client left unread fills pySerial's own of 4096 bytes, and a write never ends
    share = PortShare(port, "loop", "127.0.0.1", 0, lambda text: None)
    thread = threading.Thread(target=share.serve, daemon=True)
    thread.start()
    yield share.url, thread.is_alive


@contextlib.contextmanager
def served() -> Iterator[tuple[str, Callable[[], bool]]]:
    server = BoardServer(BOARDS["hive-scale"])
    yield server.url, server._thread.is_alive
    server.close()


def still_sound(url: str) -> str:
    """What is wrong for the next client, who means well."""
    link = open_port(url, LineSettings(57600), (False, False)).link
    try:
        link.write(b"bees\xff\xffhoney")
        link.read(13, 1.0)
        link.configure(LineSettings(115200))
    except Exception as error:  # noqa: BLE001  (whatever it is)
        return f"{type(error).__name__}: {error}"
    finally:
        link.close()
    return ""


def main() -> int:
    number, first, _ = asked_for(5_000)
    wrong: list[tuple[str, int, str]] = []
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    for name, serving in (("share-port", shared), ("bench", served)):
        with serving() as (url, alive):
            for seed in range(first, first + number):
                said = send(url, stream(random.Random(seed)))
                if said or not alive():
                    wrong.append((name, seed, said or "it ended"))
                    break
            if alive() and (said := still_sound(url)):
                wrong.append((name, -1, f"afterwards: {said}"))
            print(f"{name:<10} {number:,} streams, then a client that means well: {'served' if not wrong else 'NOT'}")
    grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    print(f"memory grew by {grown:.0f} MiB")
    if grown > _MOST_MIB:
        wrong.append(("memory", 0, f"{grown:.0f} MiB"))
    return show_wrong(wrong, f"{2 * number:,} hostile streams, {len(wrong)} not outlived")


if __name__ == "__main__":
    sys.exit(main())
