"""The installed command in a temporary folder, and simulated boards to point it at."""

from __future__ import annotations

import itertools
import json
import os
import signal
import subprocess
import sys
import tempfile
import unittest
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from greenstep.bench.boards import BOARDS
from greenstep.bench.chip_memory import unpacked
from greenstep.bench.samples import avr_image, stm32_image
from greenstep.core.image import Image
from greenstep.core.image.intel_hex import write_intel_hex
from tests import loaded_command

COMMAND = str(Path(sys.executable).parent / "greenstep")
LONGEST_S = 120


@dataclass(frozen=True)
class Run:
    """What a command left behind."""

    status: int
    out: str
    err: str

    @property
    def text(self) -> str:
        return self.out + self.err

    @property
    def events(self) -> list[dict[str, Any]]:
        """The lines of `--json`."""
        return [json.loads(line) for line in self.out.splitlines()]

    def event(self, kind: str, **wanted: Any) -> dict[str, Any]:
        """The first event of a kind with the given values. Raises AssertionError."""
        for event in self.events:
            if event["event"] == kind and all(event.get(key) == value for key, value in wanted.items()):
                return event
        raise AssertionError(f"no {kind} {wanted} in\n{self.out}")


_NUMBERS = itertools.count()


SLOWLY = "&pace=real&turnaround=60"
"""Behind the port of a bench: slow enough to be interrupted in the middle by a machine that is busy."""


class Bench:
    """Simulated boards inside the command, on the virtual clock: each with a file for what its chip holds."""

    def __init__(self, folder: Path, *arguments: str) -> None:
        self.boards: dict[str, dict[str, Any]] = {}
        self._files: dict[str, Path] = {}
        number = next(_NUMBERS)
        words, settings = iter(arguments), []
        names: list[str] = []
        for word in words:
            if word.startswith("--"):
                settings.append((word.removeprefix("--"), next(words)))
            else:
                names.append(word)
        for index, name in enumerate(names):
            copy = names[:index].count(name)
            shown = f"{name}-{copy + 1}" if copy else name
            self._files[shown] = folder / f"{shown}-{number}.chip"
            pairs = [*settings, ("seed", str(copy)), ("memory", str(self._files[shown]))]
            board = BOARDS[name]
            self.boards[shown] = {
                "port": f"bench:{name}?{urlencode(pairs)}", "chip": board.chip, "hookup": board.circuit.hookup,
                "baud": board.baud, "dialect": board.dialect or None,
            }  # fmt: skip

    def port(self, board: str) -> str:
        return str(self.boards[board]["port"])

    def close(self) -> dict[str, bytes]:
        """The memories by name, such as 'brood-probe.flash'; none of a chip that nobody spoke to."""
        found = {}
        for name, path in self._files.items():
            if path.exists():
                memories = json.loads(path.read_text())["memories"]
                found |= {f"{name}.{memory}": unpacked(packed) for memory, packed in memories.items()}
        return found


def _hear_ctrl_c() -> None:
    """Whoever runs the tests in the background has it ignored, and what is started inherits that."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


class ServedBench:
    """`greenstep bench` as a process of its own, for what is about the ports of the operating system; `close` returns
    what the chips hold."""

    def __init__(self, folder: Path, *arguments: str) -> None:
        self._folder = folder / "memories"
        self._process = subprocess.Popen(
            [COMMAND, "bench", *arguments, "--json", "--save-memory", str(self._folder)],
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=folder,
        )  # fmt: skip
        assert self._process.stdout is not None
        self.boards: dict[str, dict[str, Any]] = {}
        for _ in [word for word in arguments if word in BOARDS]:
            line = self._process.stdout.readline()
            if not line:
                raise AssertionError(self._process.communicate()[1])
            board = json.loads(line)
            self.boards[board["board"]] = board

    def port(self, board: str) -> str:
        return str(self.boards[board]["port"])

    def kill(self) -> None:
        """As when the cable is pulled."""
        self._process.kill()
        self._process.communicate()

    def close(self) -> dict[str, bytes]:
        """Stop it; the memories by file name, such as 'brood-probe.flash'."""
        if self._process.poll() is None:
            self._process.send_signal(signal.SIGTERM)
            self._process.communicate(timeout=LONGEST_S)
        return {path.stem: path.read_bytes() for path in self._folder.glob("*.bin")}


class ToolTest(unittest.TestCase):
    """Each test in a folder of its own, with the apiary's images in it."""

    probe = stm32_image("brood probe 1.7 ready", 5000)
    scale = avr_image("hive scale 2.4 ready", 4000)

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="greenstep-test-")
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.write_hex("brood-probe.hex", self.probe)
        self.write_hex("hive-scale.hex", self.scale)

    def write_hex(self, name: str, image: Image) -> None:
        (self.folder / name).write_text("".join(write_intel_hex(image)))

    def project(self, text: str) -> None:
        (self.folder / "greenstep.toml").write_text(text)

    def environment(self, **variables: str) -> dict[str, str]:
        clean = {key: value for key, value in os.environ.items() if not key.startswith("GREENSTEP_")}
        return {
            **clean,
            "COLUMNS": "100",
            "GREENSTEP_LADDER": "full",
            "GREENSTEP_JOURNAL": str(self.folder / "journal.sqlite"),
            "XDG_RUNTIME_DIR": str(self.folder),
            **variables,
        }

    def run_tool(self, *arguments: str, typed: str = "", **variables: str) -> Run:
        environment = self.environment(**variables)
        if loaded_command.fits(environment):
            run = Run(*loaded_command.run(arguments, self.folder, environment, typed, LONGEST_S))
        else:
            done = subprocess.run(
                [COMMAND, *arguments], cwd=self.folder, env=environment, capture_output=True, text=True,
                timeout=LONGEST_S, input=typed,
            )  # fmt: skip
            run = Run(done.returncode, done.stdout, done.stderr)
        self.assertNotIn("Traceback", run.text)
        return run

    def start_tool(self, *arguments: str) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [COMMAND, *arguments], cwd=self.folder, env=self.environment(), stdout=subprocess.PIPE,
            stderr=subprocess.PIPE, text=True, stdin=subprocess.DEVNULL, preexec_fn=_hear_ctrl_c,
        )  # fmt: skip

    def bench(self, *arguments: str) -> Bench:
        return Bench(self.folder, *arguments)

    def served(self, *arguments: str) -> ServedBench:
        bench = ServedBench(self.folder, *arguments)
        self.addCleanup(bench.close)
        return bench
