"""The installed command, run hundreds of times and loaded once.

A process loads the command's modules and forks for each run: what a run does is done by the installed entry point, with
its own arguments, folder, environment and files, but without loading Python and the modules again, which is most of what
a short command takes. `python -m tests` starts one for all modules; a module that runs alone starts its own.
"""

from __future__ import annotations

import atexit
import gc
import importlib
import json
import os
import pkgutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from importlib.metadata import entry_points
from pathlib import Path

_PLACE = "TESTS_LOADED_COMMAND"
"""The variable with the socket's place."""
_OF_THE_INTERPRETER = ("PYTHON", "LANG", "LC_", "TZ")
"""Variables that count when Python starts, by their beginnings."""


_LISTENS = "listens\n"


class Ended(Exception):
    """A process is gone that was to answer."""


# --- the side of the tests


@contextmanager
def ready() -> Iterator[None]:
    """While the command is loaded in a process of its own, for the runs of this process and of those it starts."""
    with tempfile.TemporaryDirectory(prefix="greenstep-loaded-") as folder:
        place = str(Path(folder) / "socket")
        process = subprocess.Popen([sys.executable, "-P", __file__, place], stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        try:
            if process.stdout.readline() != _LISTENS:
                raise Ended("the command could not be loaded")
            os.environ[_PLACE] = place
            yield
        finally:
            os.environ.pop(_PLACE, None)
            process.terminate()
            process.communicate()


def fits(environment: Mapping[str, str]) -> bool:
    """Whether the interpreter would be as it is with the variables of this process."""
    names = {*environment, *os.environ}
    changed = [name for name in names if environment.get(name) != os.environ.get(name)]
    return not any(name.startswith(_OF_THE_INTERPRETER) for name in changed)


def run(
    arguments: tuple[str, ...], folder: Path, environment: Mapping[str, str], typed: str, longest_s: float
) -> tuple[int, str, str]:
    """A run to its end: exit status, output, errors. Raises Ended, subprocess.TimeoutExpired."""
    if _PLACE not in os.environ:
        own = ExitStack()
        own.enter_context(ready())
        atexit.register(own.close)
    asked = json.dumps([arguments, str(folder), dict(environment)]).encode()
    into, out_of = os.pipe()
    with (
        tempfile.TemporaryFile() as out,
        tempfile.TemporaryFile() as err,
        socket.socket(socket.AF_UNIX) as line,
    ):
        line.connect(os.environ[_PLACE])
        socket.send_fds(line, [len(asked).to_bytes(4, "big")], [into, out.fileno(), err.fileno()])
        os.close(into)
        line.sendall(asked)
        os.write(out_of, typed.encode())  # less than a pipe holds
        os.close(out_of)
        line.settimeout(longest_s)
        process = int.from_bytes(_exactly(line, 4), "big")
        try:
            status = int.from_bytes(_exactly(line, 4), "big")
        except TimeoutError:
            os.kill(process, signal.SIGKILL)
            raise subprocess.TimeoutExpired(list(arguments), longest_s) from None
        texts = []
        for file in (out, err):
            file.seek(0)
            texts.append(file.read().decode().replace("\r\n", "\n"))
    return status, texts[0], texts[1]


def _exactly(line: socket.socket, size: int) -> bytes:
    found = b""
    while len(found) < size:
        piece = line.recv(size - len(found))
        if not piece:
            raise Ended("the command's process is gone, and told no exit status")
        found += piece
    return found


# --- the side of the command


def _load() -> Callable[[], None]:
    """The installed entry point, with all of the tool's modules loaded, and what they load of matplotlib."""
    import greenstep

    (entry,) = (point for point in entry_points(group="console_scripts") if point.name == "greenstep")
    for module in pkgutil.walk_packages(greenstep.__path__, "greenstep."):
        importlib.import_module(module.name)
    for picture in ("agg", "svg"):  # else loaded anew by each run that draws one
        importlib.import_module(f"matplotlib.backends.backend_{picture}")
    gc.collect()
    gc.freeze()
    loaded: Callable[[], None] = entry.load()
    return loaded


def _serve(place: str) -> None:
    command = _load()
    with socket.socket(socket.AF_UNIX) as door:
        door.bind(place)
        door.listen(16)
        signal.signal(signal.SIGTERM, lambda *_: sys.exit())
        sys.stdout.write(_LISTENS)
        sys.stdout.flush()
        try:
            while True:
                line, _ = door.accept()
                with line:
                    if not os.fork():
                        door.close()
                        _run_one(line, command)
                _reap(os.WNOHANG)
        finally:
            _reap(0)


def _reap(option: int) -> None:
    """So that the time they took counts."""
    try:
        while os.waitpid(-1, option)[0]:
            pass
    except ChildProcessError:
        return


def _run_one(line: socket.socket, command: Callable[[], None]) -> None:
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    length, files, _, _ = socket.recv_fds(line, 4, 3)
    line.sendall(os.getpid().to_bytes(4, "big"))
    arguments, folder, environment = json.loads(_exactly(line, int.from_bytes(length, "big")))
    for number, file in enumerate(files):
        os.dup2(file, number)
        os.close(file)
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(environment)
    time.tzset()
    sys.argv = [str(Path(sys.executable).parent / "greenstep"), *arguments]
    status: object = 1
    try:
        command()
        status = 0
    except SystemExit as end:
        status = end.code
    except BaseException:  # noqa: BLE001  (as the interpreter does)
        sys.excepthook(*sys.exc_info())
    sys.stdout.flush()
    line.sendall((status if isinstance(status, int) else int(status is not None)).to_bytes(4, "big"))
    os._exit(0)


if __name__ == "__main__":
    _serve(sys.argv[1])
