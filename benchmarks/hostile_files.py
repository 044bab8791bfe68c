"""Files of every kind that a command reads, changed by a seed: whatever a command is given, it ends in an answer or in
a message, soon, and in little memory.

The commands are run as a person would, inside this process: nothing but a fault, a usage error or an exit may come out.

`python -m benchmarks.hostile_files [FILES [FIRST_SEED [KIND …]]]`
"""

from __future__ import annotations

import contextlib
import io
import os
import random
import resource
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import tomllib
import zipfile
from collections import Counter
from collections.abc import Callable
from functools import cache
from pathlib import Path
from types import FrameType
from typing import Any

import cbor2
import click

from greenstep.bench.samples import stm32_image
from greenstep.cli.main import main as greenstep
from greenstep.core.errors import Fault
from greenstep.core.image import Image, Piece
from greenstep.core.image.file_system import pack
from greenstep.core.image.intel_hex import write_intel_hex
from greenstep.core.image.s_record import write_s_record
from greenstep.core.image.ti_txt import write_ti_txt
from tests.elf_files import elf_file

from .seeded import asked_for, on_all_processors, show_counts, show_wrong

_LONGEST_S, _MOST_MEMORY = 10, 3 << 30
_APIARY = Path(__file__).parents[1] / "examples" / "apiary"
_EXTREMES = (b"0", b"-1", b"4294967295", b"18446744073709551616", b"1e309", b"nan", b'""', b"[]", b"{}", b"true")
_WORDS = (
    b"\x1b[2J",
    b"\x00",
    b"\n",
    b'"',
    b"'",
    b"]",
    b"[",
    b"}",
    b"{",
    b"=",
    b"..",
    b"/",
    b"%s",
    b"\xff",
    b"\xe2\x80\xae",
)
_ZIPPED = ("kit", "nRF5 package")


class _TooLong(BaseException):
    """No Exception: nothing may take it for its own."""


def changed(content: bytes, source: random.Random) -> bytes:
    """One to six changes: bits and bytes, numbers, words and deep nesting put in, parts lost, moved, doubled."""
    work = bytearray(content)
    for _ in range(source.randint(1, 6)):
        if not work:
            break
        at, size = source.randrange(len(work)), source.choice((1, 1, 2, 4, 8, 64, 500))
        kind = source.randrange(10)
        if kind < 2:
            work[at] ^= 1 << source.randrange(8)
        elif kind == 2:
            work[at : at + size] = source.choice((b"\x00", b"\xff", b"\x7f", b"\x80")) * size
        elif kind == 3:
            work[at : at + 4] = source.choice((0, 1, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, len(work))).to_bytes(
                4, "little"
            )
        elif kind == 4:
            del work[at : at + size]
        elif kind == 5:
            work[at:at] = work[source.randrange(len(work)) :][:size]
        elif kind == 6:
            work[at:at] = source.choice(_WORDS + _EXTREMES) * source.choice((1, 1, 3, 2000))
        elif kind == 7:
            end = next((n for n in range(at, len(work)) if not chr(work[n]).isalnum()), len(work))
            work[at:end] = source.choice(_EXTREMES)
        elif kind == 8:
            del work[at:]
        else:
            work[at : at + size] = source.randbytes(size)
    return bytes(work)


def _journal() -> bytes:
    """A journal of a few uploads, two of them of boards with values of their own."""
    from .journal_rows import fill

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "journal.sqlite"
        fill(path, 8)
        with contextlib.closing(sqlite3.connect(path)) as file:
            file.execute("PRAGMA journal_mode = DELETE")
        return path.read_bytes()


def _kit() -> bytes:
    from greenstep.store.kit import Notes
    from greenstep.store.kit_making import make_kit
    from greenstep.store.project import project_text, tables_of

    project = _APIARY / "greenstep.toml"
    tables = tables_of(project_text(project), project)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.kit"
        wanted = {name: tables[name] for name in ("hive-scale", "smoke-fan", "apiary-gateway")}
        make_kit(path, "bees", "2026-12-01", wanted, _APIARY, Notes("first", "last"), False)
        return path.read_bytes()


def _package() -> bytes:
    """A DFU package: a manifest, an init packet and a program."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as file:
        file.writestr("manifest.json", '{"manifest": {"application": {"bin_file": "a.bin", "dat_file": "a.dat"}}}')
        file.writestr("a.bin", bytes(range(256)) * 4)
        file.writestr("a.dat", bytes(range(120)))
    return made.getvalue()


def _traced() -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.vcd"
        words = ("greet", "--chip", "atmega328p", "--port", "bench:hive-scale", "--trace", str(path))
        with contextlib.redirect_stdout(io.StringIO()):
            greenstep.main(list(words), standalone_mode=False)
        return path.read_bytes()


def _compiled(option: str) -> bytes:
    """A program with the compiler's tables; empty where there is no compiler, or none that makes them."""
    if shutil.which("gcc") is None:
        return b""
    with tempfile.TemporaryDirectory() as folder:
        made = Path(folder) / "lift.elf"
        words = ("gcc", "-O2", option, "-w", "-no-pie", "-nostdlib", "-Wl,-e,0", "-o", str(made))
        done = subprocess.run([*words, str(_APIARY / "source" / "lift.c")], check=False, capture_output=True)
        return b"" if done.returncode else made.read_bytes()


@cache
def samples() -> dict[str, bytes]:
    """A right file of each kind; empty for what cannot be made here."""
    program = stm32_image("brood probe 1.7 ready", 700)
    image = Image("probe", (*program.pieces, Piece(0x08001000, b"bees" * 30)), 0x08000101)
    segments = [(piece.address, piece.data) for piece in image.pieces]
    sections = [(".isr_vector", 0, 0, 64), (".text", 0, 64, 400), (".data", 1, 0, 20)]
    files = {"index.html": b"<h1>hives</h1>" * 90, "css/a.css": b"b{}" * 2000}
    rows = "".join(f":00{n:04X}0008{'A5' * 8}{-(8 + n + 8 * 0xA5) & 0xFF:02X}\n" for n in range(40))
    return {
        "Intel HEX": "".join(write_intel_hex(image)).encode(),
        "S-record": "".join(write_s_record(image)).encode(),
        "TI-TXT": "".join(write_ti_txt(image)).encode(),
        "ELF": elf_file(segments, entry=0x08000101, sections=sections),
        "raw": image.pieces[0].data,
        "PSoC rows": f"04C811930000\n{rows}".encode(),
        "nRF5 package": _package(),
        "ESP image": (_APIARY / "images" / "gateway.bin").read_bytes()[:3000],
        "partitions": (_APIARY / "images" / "gateway-partitions.bin").read_bytes(),
        "littlefs": pack("web", "littlefs", files, ("css",), 65536),
        "FAT": pack("web", "fat", files, ("css",), 131072),
        "signed image": _signed(),
        "DWARF": _compiled("-g"),
        "stabs": _compiled("-gstabs"),
        "VCD": _traced(),
        "kit": _kit(),
        "project": (_APIARY / "greenstep.toml").read_bytes(),
        "journal": _journal(),
        "values": b"serial,key\n" + b"".join(b"hive-%d,%08X\n" % (n, n * 77) for n in range(50)),
        "CBOR": cbor2.dumps({"images": [{"slot": 0, "version": "1.7", "hash": bytes(32)}]}),
    }


def _signed() -> bytes:
    """The header of an image with a trailer of tags, as swapping bootloaders check it."""
    head = (0x96F3B83D).to_bytes(4, "little") + bytes(4) + (32).to_bytes(2, "little") + bytes(2)
    head += (400).to_bytes(4, "little") + bytes(16)
    tags = (0x6907).to_bytes(2, "little") + (40).to_bytes(2, "little") + b"\x10\x00\x20\x00" + bytes(32)
    return head + b"\xa5" * 400 + tags


_COMMANDS: dict[str, tuple[str, ...]] = {
    "DWARF": ("place FILE",),
    "stabs": ("place FILE",),
    "VCD": ("trace show FILE", "trace show FILE --all --json"),
    "kit": ("kit show FILE", "kit show FILE --json", "upload FILE --port bench:hive-scale --json"),
    "project": ("boards --project FILE", "plan hive-scale --project FILE", "upload smoke-fan --project FILE --json",
                "image map apiary-gateway --project FILE", "wiring brood-probe --project FILE"),
    "journal": ("journal --last 0", "journal 3", "journal --on-chips", "journal --json", "journal --csv",
                "upload hive-scale --project PROJECT --json", "journal --clear --yes"),
    "values": ("values FILE",),
    "CBOR": ("image show FILE",),
}  # fmt: skip
_OF_IMAGES = (
    "image show FILE", "image show FILE --json", "image map FILE", "image dump FILE --size 600", "image unpack FILE",
    "image show FILE --chip stm32f072rb", "image show FILE --chip esp32", "plan FILE --chip atmega328p --port x",
    "image compare FILE SAMPLE", "image unpack FILE --save OUT --replace", "image convert FILE --save OUT.hex --replace",
)  # fmt: skip


def _place(file: Path) -> None:
    """Where a few addresses lie, as a console asks that follows a board's crash."""
    from greenstep.core.console.addresses import in_words, places
    from greenstep.core.console.elf_program import Program

    program = Program.open(file)
    for address in (0x401000, 0x401020, 0x401080, 0x4010FF):
        for place in places(program, f"Backtrace: 0x{address:08x}:0x3ffb1f50 pc: {address + 4:08x}"):
            list(in_words(place, "/"))


def _values(file: Path) -> None:
    from greenstep.store.csv_files import read_rows

    read_rows(file)


_INSIDE: dict[str, Callable[[Path], None]] = {"place": _place, "values": _values}
"""What no command does without a board."""


def _alarm(number: int, frame: FrameType | None) -> None:
    raise _TooLong


def try_one(kind: str, seed: int) -> tuple[str, str]:
    """How it ended, and its words."""
    source = random.Random(f"{kind} {seed}")
    sample = samples()[kind]
    if kind in _ZIPPED and source.random() < 0.8:  # what lies behind the sums of the archive
        content = _rezipped(sample, source)
    elif kind == "project" and source.random() < 0.6:
        content = _other_values(sample, source)
    else:
        content = changed(sample, source)
    command = source.choice(_COMMANDS.get(kind, _OF_IMAGES))
    with tempfile.TemporaryDirectory(prefix="hostile-") as name:
        folder = Path(name)
        file = folder / f"x{'.kit' if kind == 'kit' else ''}"
        file.write_bytes(content)
        (folder / "sample").write_bytes(sample)
        if kind == "project":
            shutil.copytree(_APIARY / "images", folder / "images")
        names = {"FILE": str(file), "SAMPLE": str(folder / "sample"), "OUT": str(folder / "out"),
                 "OUT.hex": str(folder / "out.hex"), "PROJECT": str(_APIARY / "greenstep.toml")}  # fmt: skip
        words = [names.get(word, word) for word in command.split()]
        os.environ["GREENSTEP_JOURNAL"] = str(file if kind == "journal" else folder / "journal.sqlite")
        return _ended(words, file, f"{kind} {seed}: {command}")


def _rezipped(sample: bytes, source: random.Random) -> bytes:
    made = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(sample)) as before, zipfile.ZipFile(made, "w") as after:
        names = before.namelist()
        which = source.choice(names[:1] * 3 + names)
        for name in names:
            data = before.read(name)
            if name == which:
                well_formed = name.endswith(".toml") and source.random() < 0.7
                data = _other_values(data, source) if well_formed else changed(data, source)
            after.writestr(name, data)
    return made.getvalue()


_VALUES: tuple[object, ...] = (
    0, 1, -1, 2**31, 2**63 - 1, -(2**63), 1e300, float("nan"), float("inf"), True, False, "", "a", "x" * 5000,
    "\x1b[2J\n", "../x", "/dev/zero", "0x", "littlefs", "flash", [], [[]], ["a"], [1], [{}], {}, {"file": "a"},
    {"file": 1}, {"file": "images/hive-scale.hex", "at": -1}, {"from": -1, "size": -1}, {"expect": 1},
    [{"from": 2**40, "size": 2**40}], [{"expect": "a", "send": "b"}], [{"secret": "x"}], {"reset": {"line": "dtr"}},
    {"serial": 1}, {"like": "cap-dtr"}, 1979, "2026-12-01",
)  # fmt: skip


def _other_values(sample: bytes, source: random.Random) -> bytes:
    """A well-formed TOML file with up to three of its values, or the values of other keys, replaced."""
    import tomlkit

    from greenstep.store.board_keys import KEYS

    document = tomllib.loads(sample.decode())
    for _ in range(source.randint(1, 3)):
        table: Any = document
        if source.random() < 0.85:  # in a board
            boards = (
                [one for one in document["board"].values() if isinstance(one, dict)]
                if isinstance(document["board"], dict)
                else []
            )
            table = source.choice(boards or [document])
        keys = [*table, *(key.name for key in KEYS)]
        name = source.choice(keys)
        inner = table.get(name)
        while isinstance(inner, dict | list) and inner and source.random() < 0.7:
            table, name = inner, source.choice(list(inner if isinstance(inner, dict) else range(len(inner))))
            inner = table[name]
        table[name] = source.choice(_VALUES)
    return tomlkit.dumps(document).encode()


def _ended(words: list[str], file: Path, about: str) -> tuple[str, str]:
    out = io.TextIOWrapper(io.BytesIO(), "utf-8", errors="replace")
    signal.signal(signal.SIGALRM, _alarm)
    signal.alarm(_LONGEST_S)
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
            if words[0] in _INSIDE:
                _INSIDE[words[0]](file)
            else:
                greenstep.main(words, standalone_mode=False)
        return "answered", about
    except (Fault, click.ClickException) as refused:
        cause = refused.finding.cause if isinstance(refused, Fault) else refused.format_message()
        return ("refused", about) if cause else ("WRONG: no message", about)
    except (SystemExit, click.exceptions.Exit):
        return "refused", about
    except _TooLong:
        return "WRONG: too long", about
    except MemoryError:
        return "WRONG: memory", about
    except BaseException as error:  # noqa: BLE001  (what nobody foresaw is what is looked for)
        import traceback

        at = traceback.extract_tb(error.__traceback__)[-1]
        return (
            "WRONG: itself failed",
            f"{about}: {type(error).__name__}: {error} at {Path(at.filename).name}:{at.lineno}",
        )
    finally:
        signal.alarm(0)


def _limited(kind: str, seed: int) -> tuple[str, str, str]:
    resource.setrlimit(resource.RLIMIT_AS, (_MOST_MEMORY, _MOST_MEMORY))
    return (kind, *try_one(kind, seed))


def main() -> int:
    number, first, named = asked_for(50_000)
    kinds = [kind for kind, sample in samples().items() if sample and (not named or kind in named)]
    rows = [(kinds[seed % len(kinds)], seed) for seed in range(first, first + number)]
    results = on_all_processors(_limited, rows)
    show_counts(((kind, ended) for kind, ended, _ in results), 20)
    wrong = [row for row in results if row[1].startswith("WRONG")]
    for place, often in Counter(row[2].rpartition(" at ")[2] for row in wrong if " at " in row[2]).most_common(30):
        print(f"{often:6,}  {place}")
    return show_wrong(wrong, f"{number:,} hostile files, {len(wrong)} neither answered nor refused in words")


if __name__ == "__main__":
    sys.exit(main())
