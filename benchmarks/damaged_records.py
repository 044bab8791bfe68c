"""Recordings, kits, project files and journals, damaged by a seed: each is read, or refused with a message.

`python -m benchmarks.damaged_records [FILES [FIRST_SEED]]`
"""

from __future__ import annotations

import io
import random
import sys
import tempfile
from collections.abc import Callable
from contextlib import redirect_stdout
from functools import cache
from pathlib import Path

from greenstep.bench.trial import prepare, sample_for
from greenstep.cli.journal import _held, _list, _show
from greenstep.cli.trace import _story, _time
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.errors import Fault
from greenstep.core.image.granules import granules_of
from greenstep.core.image.intel_hex import write_intel_hex
from greenstep.core.journal.records import JournalEntry
from greenstep.core.safety.secrets import Secrets
from greenstep.core.trace.exchanges import exchanges_of, time_shares
from greenstep.core.trace.recording import RecordingLink, Trace
from greenstep.core.trace.story import tell
from greenstep.core.trace.vcd import VcdError, read_vcd, write_vcd
from greenstep.store import journal
from greenstep.store.kit import Notes, make_kit, read_kit
from greenstep.store.project import read_project

from .damaged_files import damaged
from .seeded import asked_for, how_it_ends, on_all_processors, show_counts, show_wrong

LONGEST_S = 5.0
_PROJECT = """
[board.hive-scale]
chip = "atmega328p"
port = { name = "/dev/ttyUSB0", serial = "0001" }
baud = 115200
hookup = "cap-dtr"
images = ["hive-scale.hex", { file = "settings.bin", at = 0x20, memory = "eeprom" }]
keep = [{ from = 0x7000, size = 0x100, why = "settings" }]
expect = "hive scale"
talk = [{ expect = "name?", send = "hive-7", within = 3.0 }]
set = { crystal-khz = 12000 }
[board.hive-scale.hookup]
reset = { line = "dtr", held = "asserted", through = "capacitor" }
enter = "reset on; wait 50 ms; reset off"
""".replace('hookup = "cap-dtr"\n', "")


@cache
def recording(board: str) -> bytes:
    """The recording of an upload, as `--trace` writes it."""
    runner, trial = prepare(board, {"flash": sample_for(board, 700)})
    trial.events.extend(runner.run())
    link = runner.outcome.link
    assert isinstance(link, RecordingLink)
    job = runner.job
    trace = Trace.of(link.events, 0.0, job.first_settings, (False, False), Secrets(), {"dialect": job.dialect.name})
    return "".join(write_vcd(trace, "0")).encode()


@cache
def project_folder() -> Path:
    folder = Path(tempfile.mkdtemp(prefix="greenstep-bench-"))
    (folder / "hive-scale.hex").write_text("".join(write_intel_hex(sample_for("atmega328p", 700))))
    (folder / "settings.bin").write_bytes(bytes(range(40)))
    (folder / "greenstep.toml").write_text(_PROJECT)
    return folder


@cache
def kit_file() -> bytes:
    import tomllib

    folder = project_folder()
    path = folder / "hive.kit"
    path.unlink(missing_ok=True)
    make_kit(path, "hive", "2026-11-02", tomllib.loads(_PROJECT)["board"], folder, Notes(), True)
    return path.read_bytes()


@cache
def journal_bytes() -> bytes:
    path = project_folder() / "journal.sqlite"
    path.unlink(missing_ok=True)
    for number in range(6):
        entry = JournalEntry(
            "2026-11-02T10:00:00+01:00", "upload", "hive-scale", "atmega328p", f"0{number % 3}", "/dev/ttyUSB0", "115200 8N1",
            "hive-scale.hex", 700, "5A3C91EE", "00" * 32, "hive scale 2.4", "green", 0, "", "heard", 3.2, 1.1, "read back",
        )  # fmt: skip
        journal.record(path, entry, granules_of(sample_for("atmega328p", 700), 0xFF))
    return path.read_bytes()


def _trace(content: bytes, folder: Path) -> None:
    trace = read_vcd(io.StringIO(content.decode("ascii", "replace")))
    try:
        spoken = find_dialect(trace.notes.get("dialect", ""))
    except Fault:
        spoken = None
    told, shares = tell(trace, exchanges_of(trace), spoken, joined=True), time_shares(trace)
    tell(trace, exchanges_of(trace), spoken, joined=False)
    _time(trace, shares)
    _story(told)


def _kit(content: bytes, folder: Path) -> None:
    path = folder / "a.kit"
    path.write_bytes(content)
    read_kit(path)


def _project(content: bytes, folder: Path) -> None:
    path = folder / "greenstep.toml"
    path.write_bytes(content)
    read_project(path)


def _journal(content: bytes, folder: Path) -> None:
    path = folder / "journal.sqlite"
    path.write_bytes(content)
    listed = journal.rows(path, journal.Wanted())
    _list(listed, journal.Wanted())
    for found in listed[:1]:
        _show(found, False, False)
    _held(journal.held(path), False)
    journal.remembered(path, "01", "atmega328p")


_RECORDED = (
    *("stm32f072", "atmega328p", "esp32", "lpc1114", "pic18f46k22", "atmega2560", "atmega32u4", "pic18f4520"),
    "smoke-fan",
)
_KINDS: dict[str, tuple[Callable[[random.Random], bytes], Callable[[bytes, Path], None]]] = {
    "recording": (
        lambda dice: recording(dice.choice(_RECORDED)),
        _trace,
    ),
    "kit": (lambda dice: kit_file(), _kit),
    "project": (lambda dice: _PROJECT.encode(), _project),
    "journal": (lambda dice: journal_bytes(), _journal),
}


def _one_value(content: bytes, source: random.Random) -> bytes:
    """One character is another of its kind: a digit another digit, a letter another letter."""
    work = bytearray(content)
    for _ in range(source.randint(1, 3)):
        at = source.randrange(len(work))
        if chr(work[at]).isdigit():
            work[at] = source.choice(b"0123456789")
        elif chr(work[at]).isalpha():
            work[at] = source.choice(b"abcdefghijklmnopqrstuvwxyz")
        else:
            work[at] = source.randrange(256)
    return bytes(work)


def try_one(seed: int) -> tuple[int, str, str, str]:
    """(seed, kind, how it ended, its words)."""
    source = random.Random(seed)
    kind = list(_KINDS)[seed % len(_KINDS)]
    make, read = _KINDS[kind]
    content = damaged(make(source), source) if source.random() < 0.5 else _one_value(make(source), source)
    with tempfile.TemporaryDirectory() as folder, redirect_stdout(io.StringIO()):
        refusals = (Fault, VcdError, journal.JournalTrouble)
        return seed, kind, *how_it_ends(lambda: read(content, Path(folder)), refusals, LONGEST_S, str)


def main() -> int:
    number, first, _ = asked_for(20_000)
    rows = on_all_processors(try_one, [(seed,) for seed in range(first, first + number)], 100)
    show_counts(((kind, ended) for _, kind, ended, _ in rows), 20)
    wrong = [row for row in rows if row[2].startswith("WRONG")]
    return show_wrong(wrong, f"{number:,} damaged files, {len(wrong)} neither read nor refused")


if __name__ == "__main__":
    sys.exit(main())
