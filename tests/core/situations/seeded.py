"""Situations drawn by lot: garbage at wrong rates, mistaken frames, echo and strangers, for every dialect."""

from __future__ import annotations

import random
from typing import Any

from greenstep.bench.boards import BOARDS
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.findings.text_detection import ROM_RATES
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.link import Frame, LineSettings
from greenstep.core.plan.write_options import TalkLine, WriteOptions

from . import BOARD_OF
from .situation import Situation

_FACTORS = {
    1 / 12: 9600, 1 / 6: 19200, 0.25: 28800, 1 / 3: 38400, 0.5: 57600, 2 / 3: 76800, 0.926: 106675, 1.08: 124416,
    2.0: 230400, 2.17: 250000, 4.0: 460800,
}  # fmt: skip
_TEXTS = (
    "hive scale 2.4 ready; cell 41.3 kg",
    "frame lift 1.0: motor idle, limit open",
    "apiary gateway, 3 hives in reach",
    "entrance counter: 1204 in, 1187 out",
    "rain gauge 0.7 mm since 06:00",
    "smoke fan at 40 %, battery 3.71 V",
)
_STRANGERS: dict[str, str] = {"CCC": "XMODEM", "Synchronized": "LPC"}


def wrong_rate(dialect: str, seed: int) -> Situation:
    """A program's text at a rate of some other standard or clock."""
    source = random.Random(seed)
    factors = list(_FACTORS)
    if find_dialect(dialect).spec.rom_speaks:
        # at a rate that some ROMs have, its text is read, and tells of the boot pin instead of the rate
        factors = [
            f for f in factors if all(abs(_FACTORS[f] / rate - 1) > 0.04 for rate in ROM_RATES if rate != 115200)
        ]
    if asked_at := find_dialect(dialect).spec.asking.at_baud:  # there the program is heard, and known for one
        factors = [f for f in factors if abs(_FACTORS[f] / asked_at - 1) > 0.04]
    factor = source.choice(factors)
    rate = round(_FACTORS[factor] * BOARDS[BOARD_OF[dialect]].baud / 115200)
    faults = ("no-boot", f"console={rate}", f"says={source.choice(_TEXTS)}")
    if find_dialect(dialect).spec.rom_speaks:  # its ROM is heard first, at a rate of its own: the clock is off
        faults = ("no-boot", f"clock={_FACTORS[factor] / 115200}")
    options: dict[str, Any] = {"purpose": "greet", "faults": faults}
    return Situation(
        7,
        f"seed {seed}: {factor:.3g} times",
        BOARD_OF[dialect],
        "wrong-rate",
        4,
        options,
        f"about {factor:.3g} times",
    )


def wrong_frame(dialect: str, seed: int) -> Situation:
    """A port set to another frame than the bootloader speaks."""
    source = random.Random(seed)
    frames = [Frame(bits, parity, stop) for bits in (7, 8) for parity in ("none", "even", "odd") for stop in (1, 2)]  # type: ignore[arg-type]
    wanted = find_dialect(dialect).frame
    frame = source.choice([f for f in frames if (f.data_bits, f.parity) != (wanted.data_bits, wanted.parity)])
    return Situation(8, f"seed {seed}: {frame}", BOARD_OF[dialect], "wrong-frame", 4,
                     {"purpose": "greet", "settings": LineSettings(BOARDS[BOARD_OF[dialect]].baud, frame)}, str(frame))  # fmt: skip


def echo(dialect: str, seed: int) -> Situation:
    """TX and RX joined, on adapters quick and slow, by lines and by hand."""
    source = random.Random(seed)
    options: dict[str, Any] = {
        "purpose": "greet",
        "faults": ("echo",),
        "turnaround_s": source.choice((0.0002, 0.001, 0.004, 0.016)),
    }
    if source.random() < 0.5:
        options |= {"hookup": named_hookup("by-hand", ""), "patience_s": 1.0 + source.random()}
    if not find_dialect(dialect).spec.asking.sent:  # who sends nothing hears no echo: its menu key comes back
        options["options"] = WriteOptions(settings={"opening": (TalkLine(send="up\r"),)})
    return Situation(4, f"seed {seed}", BOARD_OF[dialect], "echo", 4, options)


def stranger(dialect: str, seed: int) -> Situation:
    """Another bootloader than the declared one, on a board of its own or by its sound."""
    source = random.Random(seed)
    mine = BOARDS[BOARD_OF[dialect]]
    others = [
        name
        for name, board in BOARD_OF.items()
        if name != dialect
        and BOARDS[board].baud == mine.baud
        and find_dialect(name).spec.asking.sent
        and find_dialect(name).spec.asking.at_baud == find_dialect(dialect).spec.asking.at_baud
        # asked in another frame, one that gives up is gone by then
        and not (find_dialect(name).spec.gives_up and find_dialect(name).frame != find_dialect(dialect).frame)
        and find_dialect(name).spec.asking.entering in ("", find_dialect(dialect).spec.asking.entering)
    ]
    if others and (source.random() < 0.6 or find_dialect(dialect).spec.rom_speaks):
        board = BOARDS[BOARD_OF[source.choice(others)]]
        options: dict[str, Any] = {
            "purpose": "greet", "chip": mine.chip, "dialect_name": dialect, "turnaround_s": source.choice((0.0005, 0.001, 0.008, 0.016)),
            "hookup": named_hookup(board.circuit.hookup, Catalogue.load().find(board.chip).first.boot_level),
        }  # fmt: skip
        speaks = find_dialect(Catalogue.load().find(board.chip).dialect).spec.rom_speaks
        return Situation(
            9, f"seed {seed}: {board.name}", board.name, "rom-text" if speaks else "other-dialect", 4, options
        )
    said = source.choice([word for word, title in _STRANGERS.items() if title not in find_dialect(dialect).title])
    options = {"purpose": "greet", "faults": ("no-boot", f"says={said}")}
    return Situation(
        9, f"seed {seed}: {said}", BOARD_OF[dialect], "other-dialect", 4, options, _STRANGERS[said], _bare
    )


def _bare(line: Any) -> None:
    send = line.chip.send
    line.chip.send = lambda data: send(data.rstrip(b"\r\n") if data.startswith(b"CC") else data)


KINDS = (wrong_rate, wrong_frame, echo, stranger)
