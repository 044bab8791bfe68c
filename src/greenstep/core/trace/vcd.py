"""Value Change Dump, IEEE 1364-2005 clause 18: written so that any waveform viewer shows it, and read back.

A byte stands on its bus for as long as it is on the wire, and an event marks its start, so that two equal bytes in a
row are visible as two. Between bytes the bus is z. DTR and RTS are 1 while asserted.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import pairwise, zip_longest

from ..link import Frame, LineSettings, Parity
from .recording import ByteSeen, LineChange, Trace, Way

TICK_S = 100e-9
_SIGNALS = (
    # identifier, type, bits, name
    ("t", "reg", 8, "tx"),
    ("T", "event", 1, "tx_byte"),
    ("r", "reg", 8, "rx"),
    ("R", "event", 1, "rx_byte"),
    ("d", "wire", 1, "dtr"),
    ("s", "wire", 1, "rts"),
    ("k", "wire", 1, "brk"),
    ("q", "integer", 32, "baud"),
    ("w", "reg", 4, "data_bits"),
    ("p", "reg", 2, "parity"),
    ("o", "reg", 2, "stop_bits"),
)
_PARITIES: tuple[Parity, ...] = ("none", "odd", "even")
_BUS: dict[Way, tuple[str, str]] = {"sent": ("t", "T"), "heard": ("r", "R")}


class VcdError(ValueError):
    """A file that is no recording of ours, or is damaged; with a message fit to be shown."""


def _ticks(seconds: float) -> int:
    return round(seconds / TICK_S)


def write_vcd(trace: Trace, version: str) -> Iterator[str]:
    """The file's lines, including their ends."""
    yield f"$version greenstep {version} $end\n"
    for name, value in trace.notes.items():
        yield f"$comment {name}: {_plain(value)} $end\n"
    yield "$comment parity: 0 none, 1 odd, 2 even; dtr and rts: 1 is asserted $end\n"
    yield "$timescale 100 ns $end\n$scope module line $end\n"
    for identifier, kind, bits, name in _SIGNALS:
        span = f" [{bits - 1}:0]" if kind == "reg" else ""
        yield f"$var {kind} {bits} {identifier} {name}{span} $end\n"
    yield "$upscope $end\n$enddefinitions $end\n#0\n$dumpvars\nbz t\nbz r\n"
    first = trace.changes[0]
    yield "".join(f"{text}\n" for text in _state(first))
    yield "$end\n"
    now = 0
    for tick, text in _in_order(trace):
        if tick != now:
            yield f"#{tick}\n"
            now = tick
        yield f"{text}\n"
    end = max(now, _ticks(trace.end_s))
    if end != now:
        yield f"#{end}\n"


def _plain(value: str) -> str:
    """A note on one line, without the word that would end it."""
    return " ".join(value.replace("$end", "").split())


def _state(change: LineChange, before: LineChange | None = None) -> list[str]:
    frame = change.settings.frame
    now = {
        "d": f"{change.dtr:d}d",
        "s": f"{change.rts:d}s",
        "k": f"{change.on_break:d}k",
        "q": f"b{change.settings.baud:b} q",
        "w": f"b{frame.data_bits:b} w",
        "p": f"b{_PARITIES.index(frame.parity):b} p",
        "o": f"b{frame.stop_bits:b} o",
    }
    if before is None:
        return list(now.values())
    old = _state(before)
    return [text for text, was in zip(now.values(), old, strict=True) if text != was]


def _in_order(trace: Trace) -> list[tuple[int, str]]:
    found: list[tuple[int, int, str]] = []
    for before, change in pairwise(trace.changes):
        found += [(_ticks(change.at_s), 0, text) for text in _state(change, before)]
    for way, (bus, strobe) in _BUS.items():
        seen = [byte for byte in trace.bytes_seen if byte.way == way]
        for byte, following in zip_longest(seen, seen[1:]):
            start, end = _ticks(byte.at_s), _ticks(byte.end_s)
            found += [(start, 1, f"b{byte.value:b} {bus}"), (start, 2, f"1{strobe}")]
            if following is None or _ticks(following.at_s) > end:
                found.append((end, 0, f"bz {bus}"))
    return [(tick, text) for tick, _, text in sorted(found, key=lambda item: item[:2])]


_UNITS = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9, "ps": 1e-12, "fs": 1e-15}


def read_vcd(lines: Iterable[str]) -> Trace:
    """A recording of ours. Raises VcdError."""
    reader = _Reader()
    for line in lines:
        for word in line.split():
            reader.word(word)
    return reader.trace()


class _Reader:
    """Word by word, as in the standard: line ends mean nothing."""

    def __init__(self) -> None:
        self._section: list[str] = []
        self._names: dict[str, str] = {}
        self._tick_s = TICK_S
        self._at_s = 0.0
        self._defined = False
        self._vector = ""
        self._values: dict[str, int] = {}
        self._bytes: list[ByteSeen] = []
        self._changes: list[LineChange] = []
        self._notes: dict[str, str] = {}
        self._settings = LineSettings(115200)
        self._moved = True
        """Whether anything except the bytes has changed since the last note of it."""

    def word(self, word: str) -> None:
        if not self._defined or word.startswith("$") or self._section:
            self._header(word)
        elif self._vector:
            self._set(word, self._vector[1:])
            self._vector = ""
        elif word[0] in "bBrR" and len(word) > 1 and word[0] in "bB":
            self._vector = word
        elif word[0] == "#":
            self._time(word[1:])
        else:
            self._set(word[1:], word[0])

    def _header(self, word: str) -> None:
        if word == "$end":
            section, self._section = self._section, []
            if section:
                self._close(section)
        elif not self._section and not word.startswith("$"):
            raise VcdError(f"'{word[:20]}' before the definitions: this is not a value change dump")
        elif word in ("$dumpvars", "$dumpall", "$dumpon", "$dumpoff"):
            return
        else:
            self._section.append(word)

    def _close(self, section: list[str]) -> None:
        kind, words = section[0], section[1:]
        if kind == "$var" and len(words) >= 4:
            self._names[words[2]] = words[3]
        elif kind == "$timescale":
            self._tick_s = _timescale("".join(words))
        elif kind == "$comment":
            name, sign, value = " ".join(words).partition(": ")
            if sign:
                self._notes[name] = value
        elif kind == "$enddefinitions":
            self._defined = True
            missing = {"tx", "tx_byte", "rx", "rx_byte", "baud"} - set(self._names.values())
            if missing:
                raise VcdError(f"it has no signal {sorted(missing)[0]}: another program recorded it")

    def _time(self, text: str) -> None:
        if not text.isdecimal() or len(text) > _LONGEST_TIME:
            raise VcdError(f"'#{text[:20]}' is not a time")
        at_s = int(text) * self._tick_s
        if at_s < self._at_s:
            raise VcdError(f"'#{text}' is before the time that it follows: the file is damaged")
        self._note_change()
        self._at_s = at_s

    def _set(self, identifier: str, value: str) -> None:
        name = self._names.get(identifier)
        if name is None:
            raise VcdError(f"a change of '{identifier[:10]}', which is not a signal: the file is damaged")
        if name in ("tx_byte", "rx_byte"):
            bus = "tx" if name == "tx_byte" else "rx"
            way: Way = "sent" if bus == "tx" else "heard"
            self._note_change()
            self._bytes.append(ByteSeen(self._at_s, way, self._values.get(bus, 0), self._settings.seconds(1)))
            return
        if value.lower() in ("z", "x"):
            return
        low, high = _RANGES.get(name, (0, 1))
        try:
            number = int(value, 2) if len(value) <= _LONGEST_VALUE else -1
        except ValueError:
            number = -1
        if not low <= number <= high:
            raise VcdError(f"'{value[:20]}' is not a value of {name}")
        self._values[name] = number
        self._moved = self._moved or name not in ("tx", "rx")

    def _note_change(self) -> None:
        if not self._moved:
            return
        self._moved = False
        values = self._values
        parity = _PARITIES[min(values.get("parity", 0), 2)]
        frame = Frame(values.get("data_bits", 8), parity, values.get("stop_bits", 1))
        self._settings = LineSettings(max(1, values.get("baud", 115200)), frame)
        now = LineChange(
            self._at_s, bool(values.get("dtr")), bool(values.get("rts")), bool(values.get("brk")), self._settings
        )
        last = self._changes[-1] if self._changes else None
        if last is None or (last.dtr, last.rts, last.on_break, last.settings) != (
            now.dtr,
            now.rts,
            now.on_break,
            now.settings,
        ):
            self._changes.append(now)

    def trace(self) -> Trace:
        if not self._defined:
            raise VcdError("it ends before its definitions do: this is not a value change dump")
        self._note_change()
        self._notes.pop("parity", None)
        return Trace(tuple(self._bytes), tuple(self._changes), self._at_s, self._notes)


_LONGEST_TIME, _LONGEST_VALUE = 18, 32
"""Digits of a time, and of a value."""
_RANGES = {
    "tx": (0, 255),
    "rx": (0, 255),
    "baud": (1, 100_000_000),
    "data_bits": (5, 8),
    "parity": (0, 2),
    "stop_bits": (1, 2),
}
"""Of each signal wider than a bit."""


def _timescale(text: str) -> float:
    number = text.rstrip("munpfs")
    unit = text[len(number) :]
    if number not in ("1", "10", "100") or unit not in _UNITS:
        raise VcdError(f"'{text[:20]}' is not a time scale")
    return int(number) * _UNITS[unit]
