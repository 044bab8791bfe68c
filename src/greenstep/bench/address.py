"""How a simulated board is written instead of a port: `bench:hive-scale?fault=echo&turnaround=16`."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple, cast

from greenstep.core.errors import UsageFault, usage
from greenstep.core.frozen import frozen
from greenstep.core.suggestions import nearest

from .boards import BOARDS, BenchBoard, by_hand
from .circuits import CIRCUITS
from .person import HABITS, Habit

SCHEME = "bench:"


class AddressKey(NamedTuple):
    """A setting of such a port: how its value is written, and what it does."""

    value: str
    meaning: str


KEYS = {
    "fault": AddressKey("FAULT", "switch a fault on; may be written several times"),
    "turnaround": AddressKey("MS", "the adapter's delay, in ms [1]"),
    "circuit": AddressKey("NAME", f"another circuit between the lines and the pins: {', '.join(CIRCUITS)}"),
    "hands": AddressKey(
        "SECONDS",
        "three wires only: a simulated person presses the buttons, this long after the first byte and at the end",
    ),
    "habit": AddressKey(
        "WORD", "how that person does it: " + "; ".join(f"{word} {what}" for word, what in HABITS.items())
    ),
    "known": AddressKey("no", "chip, hookup and rate are not taken as known, but found out"),
    "lines": AddressKey("none", "a port without DTR and RTS"),
    "on-for": AddressKey("SECONDS", "how long the board has been running when the port is opened [0]"),
    "gone-after": AddressKey("SECONDS", "the cable is pulled this long after the port was opened"),
    "seed": AddressKey(
        "N", "which of several boards of the kind, each with a chip of its own; and the seed for random faults [0]"
    ),
    "pace": AddressKey("real", "run at the speed of hardware [as fast as this computer can]"),
    "memory": AddressKey("FILE", "what the chip holds, kept from one command to the next"),
}


@frozen
class BenchAddress:
    """What follows `bench:`, parsed and checked. Times in seconds."""

    board: BenchBoard
    faults: tuple[str, ...] = ()
    turnaround_s: float = 0.001
    hands_s: float | None = None
    habit: Habit = ""
    has_lines: bool = True
    is_known: bool = True
    on_for_s: float | None = None
    gone_after_s: float | None = None
    seed: int = 0
    real_pace: bool = False
    memory: Path | None = None


def is_bench(port: str) -> bool:
    """Whether a port's name means a simulated board."""
    return port.startswith(SCHEME)


def parse_address(port: str) -> BenchAddress:
    """The board and its settings. Raises UsageFault."""
    from urllib.parse import parse_qsl

    name, _, query = port.removeprefix(SCHEME).partition("?")
    if name not in BOARDS:
        near = nearest(name, BOARDS)
        raise usage(
            "bench-port",
            f"there is no board '{name}' on the bench",
            *([f"did you mean {SCHEME}{near[0]}?"] if near else []),
            "greenstep bench --list shows them",
        )
    return _Reader(port, BOARDS[name], list(parse_qsl(query, keep_blank_values=True))).read()


class _Reader:
    def __init__(self, port: str, board: BenchBoard, pairs: list[tuple[str, str]]) -> None:
        self._port = port
        self._board = board
        self._pairs = pairs

    def read(self) -> BenchAddress:
        values = self._values()
        faults = tuple(value for key, value in self._pairs if key == "fault")
        if faults:
            self._check(faults)
        board = self._board
        if "circuit" in values:
            if values["circuit"] not in CIRCUITS:
                raise self._wrong(f"no circuit is called '{values['circuit']}'", f"write {', '.join(CIRCUITS)}")
            board = replace(board, circuit=CIRCUITS[values["circuit"]])
        hands_s = self._number(values, "hands", 600)
        turnaround_ms = self._number(values, "turnaround", 1000)
        seed = values.get("seed", "0")
        if not seed.isdecimal():
            raise self._wrong(f"seed is '{seed}'", "write a whole number")
        return BenchAddress(
            board if hands_s is None else by_hand(board),
            faults,
            0.001 if turnaround_ms is None else turnaround_ms / 1000,
            hands_s,
            self._habit(values),
            self._word(values, "lines", "none") is None,
            self._word(values, "known", "no") is None,
            self._number(values, "on-for", 3600),
            self._number(values, "gone-after", 3600),
            int(seed),
            self._word(values, "pace", "real") is not None,
            Path(values["memory"]) if values.get("memory") else None,
        )

    def _check(self, faults: tuple[str, ...]) -> None:
        from .faults import Faults

        try:
            Faults.parse(faults)
        except ValueError as error:
            raise self._wrong(str(error)) from None

    def _values(self) -> Mapping[str, str]:
        """Each setting except the faults, once."""
        values: dict[str, str] = {}
        for key, value in self._pairs:
            if key not in KEYS:
                near = nearest(key, KEYS)
                raise self._wrong(f"there is no '{key}'", f"did you mean {near[0]}?" if near else _listed())
            if key != "fault" and key in values:
                raise self._wrong(f"{key} is written twice")
            values[key] = value
        return values

    def _number(self, values: Mapping[str, str], key: str, most: float) -> float | None:
        if key not in values:
            return None
        try:
            number = float(values[key])
        except ValueError:
            number = -1.0
        if not 0 <= number <= most:
            raise self._wrong(f"{key} is '{values[key]}'", f"write a number from 0 to {most:g}")
        return number

    def _word(self, values: Mapping[str, str], key: str, word: str) -> str | None:
        if key in values and values[key] != word:
            raise self._wrong(f"{key} is '{values[key]}'", f"write {key}={word}, or leave it out")
        return values.get(key)

    def _habit(self, values: Mapping[str, str]) -> Habit:
        if "habit" in values and (values["habit"] not in HABITS or "hands" not in values):
            raise self._wrong(f"habit is '{values['habit']}'", f"write hands=2&habit= with {', '.join(HABITS)}")
        return cast("Habit", values.get("habit", ""))

    def _wrong(self, cause: str, *attempts: str) -> UsageFault:
        return usage(
            "bench-port", f"{self._port}: {cause}", *(attempts or ("greenstep bench --list shows what there is",))
        )


def _listed() -> str:
    return f"it has {', '.join(KEYS)}"


def described() -> Iterator[tuple[str, str]]:
    """The settings as they are written, and what they do."""
    for name, key in KEYS.items():
        yield f"{name}={key.value}", key.meaning
