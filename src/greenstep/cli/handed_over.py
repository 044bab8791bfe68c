"""The program that `kit make --program` makes: a kit and what uploads it, in one file for a person without Python.

It is opened by a double click. It asks one thing at a time, and ends with what to send back if it fails.
"""

from __future__ import annotations

import io
import platform
import re
import sys
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

from greenstep import __version__
from greenstep.store.kit import HANDED_OVER

from .screen import say, say_on_line

if TYPE_CHECKING:
    from greenstep.ports.discovery import PortInfo

_ESCAPES = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]")


class _Copied(io.TextIOBase):
    """A stream that keeps what passes, for the report."""

    def __init__(self, stream: TextIO) -> None:
        super().__init__()
        self._stream = stream
        self.kept: list[str] = []

    @property
    def encoding(self) -> str:  # type: ignore[override]
        return self._stream.encoding

    @property
    def errors(self) -> str | None:  # type: ignore[override]
        return self._stream.errors

    def write(self, text: str) -> int:
        if not isinstance(text, str):  # it is asked, by trying, whether it takes bytes
            raise TypeError("a stream of text")
        self.kept.append(text)
        return self._stream.write(text)

    def flush(self) -> None:
        self._stream.flush()

    def isatty(self) -> bool:
        return self._stream.isatty()

    def fileno(self) -> int:
        return self._stream.fileno()


def main(arguments: list[str]) -> int:
    """Upload the kit beside this program to the port that is named, or found. Returns the exit status."""
    kit = Path(getattr(sys, "_MEIPASS", Path(__file__).parent)) / HANDED_OVER
    say("This program puts new software on your board, and checks that it arrived.", "")
    while True:
        port = arguments[0] if arguments else _port()
        status, said = (3, "no port") if not port else _upload(kit, port)
        if status == 0:
            _answer("It worked. Press Enter to close.")
            return 0
        say("", "It did not work. What to do is said above, after `try`.")
        if _answer("Press Enter to try again, or type q and Enter to end: ") in ("q", "Q", None):
            say(f"Please send this file to whoever gave you the program: {_report(port, said)}")
            _answer("Press Enter to close.")
            return status


def _port() -> str:
    """The adapter's port; empty if the person gives up."""
    from greenstep.ports.discovery import find_ports

    while True:
        adapters = [port for port in find_ports() if port.usb]
        if len(adapters) == 1:
            say(f"The board is at {adapters[0].name} ({adapters[0].label}).", "")
            return adapters[0].name
        if adapters and (picked := _picked(adapters)):
            return picked
        if not adapters:
            words = "Plug the board or its adapter into this computer, then press Enter (q and Enter ends): "
            if _answer(words) in ("q", "Q", None):
                return ""


def _picked(adapters: list[PortInfo]) -> str:
    say("Several are plugged in. Which one is it?")
    for number, port in enumerate(adapters, 1):
        say(f"  {number}. {port.name}   {port.label}")
    answer = _answer("The number, then Enter: ") or ""
    return adapters[int(answer) - 1].name if answer.isdecimal() and 0 < int(answer) <= len(adapters) else ""


def _answer(question: str) -> str | None:
    """What is typed; None if nobody can."""
    say_on_line(question)
    line = sys.stdin.readline() if sys.stdin is not None else ""
    return line.strip() if line else None


def _upload(kit: Path, port: str) -> tuple[int, str]:
    """The exit status of an upload, and all that it said."""
    from .main import run

    out, err = _Copied(sys.stdout), _Copied(sys.stderr)
    before = sys.stdout, sys.stderr, sys.argv
    sys.stdout, sys.stderr = out, err
    sys.argv = ["greenstep", "upload", str(kit), "--port", port, "--ladder", "full"]
    status = 1
    try:
        run()
    except SystemExit as end:
        status = end.code if isinstance(end.code, int) else 1
    finally:
        sys.stdout, sys.stderr, sys.argv = before
    return status, _ESCAPES.sub("", "".join((*out.kept, *err.kept))).replace("\r", "\n")


def _report(port: str, said: str) -> Path:
    """A text file beside the person's other files, with what happened and on what."""
    from greenstep.ports.discovery import find_ports

    ports = [f"  {one.name}   {one.label}   {one.trouble or 'free'}" for one in find_ports()]
    at = datetime.now().astimezone()
    lines = [
        f"Green Step {__version__}, {at.isoformat(timespec='seconds')}",
        f"{platform.platform()}, {platform.machine()}",
        f"port {port}; there are:",
        *ports,
        "",
        said,
    ]
    name = f"green-step-report-{at:%Y%m%d-%H%M%S}.txt"
    for folder in (Path.home() / "Desktop", Path.cwd(), Path.home()):
        try:
            (folder / name).write_text("\n".join(lines), "utf-8")
        except OSError:
            continue
        return folder / name
    return Path(name)
