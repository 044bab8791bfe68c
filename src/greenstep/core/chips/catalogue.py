"""The catalogue of parts: read from the TOML files beside this one, found by name or by a chip's answer."""

from __future__ import annotations

import re
import tomllib
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import cache, cached_property
from pathlib import Path
from typing import Any

from ..errors import usage
from ..frozen import frozen
from ..suggestions import nearest
from .part import ByHandWords, EraseTime, Memory, Part, Ram, Wires
from .plugins import added

_KIB = 1024


class UnknownChip(Exception):
    """No part has that name. `nearest` are similar names."""

    def __init__(self, name: str, nearest: tuple[str, ...]) -> None:
        super().__init__(name)
        self.name = name
        self.nearest = nearest


@frozen
class Choice:
    """What a person declared: the parts it may be, one or several. `name` is the word they used."""

    name: str
    parts: tuple[Part, ...]

    @property
    def first(self) -> Part:
        """The part that represents the choice where a dialect, a hookup or a core is asked for."""
        return self.parts[0]

    @property
    def dialect(self) -> str:
        return self.first.dialect

    @property
    def hands(self) -> ByHandWords:
        """What a person does to enter the loader: what most of the parts need."""
        wanted = Counter(part.hands for part in self.parts)
        return wanted.most_common(1)[0][0]

    @property
    def title(self) -> str:
        """The part's own name if there is no doubt, else the declared one."""
        return self.parts[0].title if len(self.parts) == 1 else self.name

    @property
    def single(self) -> Part | None:
        """The part, if the name leaves no doubt."""
        return self.parts[0] if len(self.parts) == 1 else None

    def speaking(self, dialect: str) -> Choice:
        """The same parts with loaders that speak a dialect, which may be larger or smaller."""
        return Choice(self.name, tuple(part.speaking(dialect) for part in self.parts))

    def by_ident(self, ident: int) -> Part | None:
        """The part among these that answers with `ident`: its own number before that of a clone."""
        own = next((part for part in self.parts if part.ident == ident), None)
        return own or next((part for part in self.parts if ident in part.clones), None)


@frozen
class PartsFile:
    """A file of parts: how the names in it begin, and the dialects spoken on its parts. Its rows are only read for a
    name that it may have, or for a question to all files."""

    path: Path
    names: tuple[str, ...]
    dialects: tuple[str, ...]

    @cached_property
    def entries(self) -> list[_Entry]:
        return _read_family(_text(self.path))


def _parts_file(path: Path) -> PartsFile:
    with path.open("rb") as stream:
        head = stream.read(_HEAD_BYTES).decode().partition("\n[defaults]\n")[0]
    return PartsFile(path, _quoted(head, "names"), _quoted(head, "dialects"))


_HEAD_BYTES = 4096
"""More than precedes the defaults."""


@cache
def own_files() -> tuple[PartsFile, ...]:
    """The files in this package."""
    folder = Path(__file__).parent
    return tuple(_parts_file(path) for path in sorted(folder.iterdir()) if path.suffix == ".toml")


@cache
def added_files() -> tuple[PartsFile, ...]:
    """Those of other packages, by the entry point `greenstep.parts`: the path of a file. Raises UsageFault for
    a file that is no parts file."""
    return tuple(_added_file(point.name, point.load()) for point in added("greenstep.parts"))


def _added_file(name: str, path: Any) -> PartsFile:
    try:
        file = _parts_file(Path(path))
        for entry in file.entries:
            _ = entry.part, entry.patterns
    except (OSError, ValueError, TypeError, KeyError, re.error) as error:
        what = f"{error} is missing" if isinstance(error, KeyError) else str(error)
        raise usage("parts-file", f"the parts that another package adds as '{name}' cannot be read: {what}",
                    "correct or remove that package", evidence=(str(path),)) from error  # fmt: skip
    return file


class Catalogue:
    """All parts, ours before those of other packages. A file is read when it is first needed."""

    @classmethod
    @cache
    def load(cls) -> Catalogue:
        return cls()

    @property
    def _entries(self) -> list[_Entry]:
        return [entry for file in (*own_files(), *added_files()) for entry in file.entries]

    @property
    def parts(self) -> tuple[Part, ...]:
        return tuple(entry.part for entry in self._entries)

    def of_dialect(self, dialect: str) -> tuple[Part, ...]:
        """The parts on which a dialect is spoken, first those whose default it is."""
        return _of_dialect((*own_files(), *added_files()), dialect)

    def find(self, name: str) -> Choice:
        """The parts that a name may mean: a record's name, a chip maker's part number, a whole family, or everything
        on which a dialect is spoken.

        Raises UnknownChip.
        """
        parts = _meant(own_files(), name)
        if len(parts) != 1:
            parts += tuple(part for part in _meant(added_files(), name) if part not in parts)
        if parts:
            return Choice(name, parts)
        raise UnknownChip(name, self._nearest(name))

    def search(self, word: str) -> tuple[Part, ...]:
        """The parts that a word is about: of a dialect or family, with it in their name, or with that number."""
        lower = word.lower().strip()
        spoken = self.of_dialect(lower)
        if spoken:
            return spoken
        try:
            number = int(lower, 16)
        except ValueError:
            number = -1
        texts = (lower, f"{number:x}") if number >= 0 else (lower,)
        found = [
            entry.part
            for entry in self._entries
            if lower in entry.families
            or (
                any(text in entry.text.lower() for text in texts)  # quick to see, and most rows do not have it
                and (
                    lower in entry.name
                    or lower in entry.part.title.lower()
                    or number in (entry.part.ident, *entry.part.clones)
                )
            )
        ]
        if found:
            return tuple(found)
        try:
            return self.find(word).parts
        except UnknownChip:
            return ()

    def family_of(self, dialect: str) -> str:
        """A name that stands for all parts of a dialect. Raises KeyError if there is none."""
        for entry in self._entries:
            if dialect == entry.part.dialect and entry.families:
                return entry.families[0]
        if self.of_dialect(dialect):
            return dialect
        raise KeyError(dialect)

    def first(self, dialect: str, wanted: Callable[[Part], bool]) -> Part | None:
        """The first part of a dialect that is `wanted`."""
        own = next(filter(wanted, _of_dialect(own_files(), dialect)), None)
        return own or next(filter(wanted, _of_dialect(added_files(), dialect)), None)

    def by_ident(self, dialect: str, ident: int) -> Part | None:
        """The part of a dialect that answers with `ident`: its own number before that of a clone."""
        own = self.first(dialect, lambda part: part.ident == ident)
        return own or self.first(dialect, lambda part: ident in part.clones)

    def families(self) -> list[str]:
        """The names that stand for all parts of one kind."""
        return list(dict.fromkeys(family for entry in self._entries for family in entry.families))

    def names(self) -> list[str]:
        """Every name worth offering: families, then records."""
        return [*self.families(), *(entry.name for entry in self._entries)]

    def _nearest(self, name: str) -> tuple[str, ...]:
        return tuple(nearest(name.lower(), self.names(), 4))


def _of_dialect(files: Sequence[PartsFile], dialect: str) -> tuple[Part, ...]:
    spoken = [
        entry.part for file in files if dialect in file.dialects for entry in file.entries
        if dialect in (entry.part.dialect, *entry.part.also)
    ]  # fmt: skip
    return tuple(sorted(spoken, key=lambda part: part.dialect != dialect))


def _meant(files: Sequence[PartsFile], name: str) -> tuple[Part, ...]:
    # as printed on a package: in several lines, with spaces and slashes between
    lower = re.sub(r"[\s/]+", "", name.lower().replace("_", "-"))
    whole, before_package = lower.replace("-", ""), lower.partition("-")[0]
    entries = [
        entry for file in files if any(whole.startswith(head) for head in file.names) for entry in file.entries
    ]
    spoken = tuple(part.speaking(lower) for part in _of_dialect(files, lower))
    return spoken or _named(entries, whole) or _begun(entries, whole.rstrip("x")) or _named(entries, before_package)


def _named(entries: Sequence[_Entry], wanted: str) -> tuple[Part, ...]:
    exact = tuple(e.part for e in entries if e.name.replace("-", "") == wanted)
    if exact:
        return exact
    matched = tuple(part for entry in entries if (part := entry.match(wanted)) is not None)
    return matched or tuple(e.part for e in entries if wanted in (name.replace("-", "") for name in e.families))


def _begun(entries: Sequence[_Entry], wanted: str) -> tuple[Part, ...]:
    """The parts whose part numbers begin with `wanted`: `stm32f103`, `stm32f4`."""
    if not re.fullmatch(r"stm32[a-z]{1,3}[0-9]+([a-z][0-9]+)?", wanted):
        return ()
    middle = "0123456789abcrs"
    digits = ["", *middle, *(one + two for one in middle for two in "0123456789")]
    endings = [f"{digit}c{letter}" for digit in digits for letter in "3468bzcdefghi"]
    likely = (entry for entry in entries if entry.may_begin(wanted))
    return tuple(entry.part for entry in likely if any(entry.begins(wanted + ending) for ending in endings))


def _text(path: Path) -> str:
    return path.read_text("utf-8")


def _head(pattern: str) -> str:
    """The plain letters and digits that a pattern begins with."""
    end = next((at for at, letter in enumerate(pattern) if not letter.isalnum()), len(pattern))
    return pattern[:end]


@frozen
class _Entry:
    """A row of a family's file, which is parsed when it is first needed: its `text`, and the tables under it, the
    family's defaults and series."""

    name: str
    matches: tuple[str, ...]
    text: str
    defaults: Mapping[str, Any]
    series: Mapping[str, Mapping[str, Any]]
    size_letters: Mapping[str, int]

    @property
    def families(self) -> tuple[str, ...]:
        """Names that stand for this part and others."""
        return tuple(self.defaults.get("families", ()))

    @cached_property
    def part(self) -> Part:
        """The record, made when it is first needed."""
        row = tomllib.loads(self.text)
        layers = (self.defaults, self.series.get(row.get("series", ""), {}), row)
        merged = {key: value for layer in layers for key, value in layer.items()}
        for inner in ("extra", "wires"):
            merged[inner] = {key: value for layer in layers for key, value in layer.get(inner, {}).items()}
        return _read_part(merged)

    @cached_property
    def patterns(self) -> tuple[re.Pattern[str], ...]:
        """The patterns in `matches`, compiled when a name is first looked up."""
        return tuple(re.compile(pattern) for pattern in self.matches)

    def may_begin(self, number: str) -> bool:
        """Whether the plain letters and digits at the beginning of a pattern agree with `number`, as far as both go:
        quick to see, before the endings are tried."""
        heads = [_head(pattern) for pattern in self.matches]
        return any(number.startswith(head) or head.startswith(number) for head in heads)

    def begins(self, number: str) -> bool:
        """Whether `number`, given up to its size letter, is one of this entry's."""
        return any(pattern.fullmatch(number) for pattern in self.patterns)

    def match(self, wanted: str) -> Part | None:
        """The part, if a chip maker's part number means it; with that number's flash size, if it has one.

        A pattern is matched from the left, so that package and temperature letters may follow.
        """
        if not self.may_begin(wanted):
            return None
        found = next((m for pattern in self.patterns if (m := pattern.match(wanted))), None)
        if found is None:
            return None
        letter = found.groupdict().get("size")
        if not letter:
            return self.part
        size = self.size_letters[letter] * _KIB
        flash = self.part.flash
        if size > flash.size:
            return None
        return replace(self.part.with_memory(flash.resized(size)), size_known=True)


_ROW = "\n[[part]]\n"


def _read_family(text: str) -> list[_Entry]:
    """The entries of one TOML file: `defaults`, overlaid by `series.NAME`, overlaid by each `part`. The parts come
    last, and for now are only read for the names that find them."""
    head, *rows = text.split(_ROW)
    table = tomllib.loads(head)
    series, letters = table.get("series", {}), table.get("size_letters", {})
    return [
        _Entry(_quoted(row, "name")[0], _quoted(row, "matches"), row, table["defaults"], series, letters)
        for row in rows
    ]


def _quoted(row: str, key: str) -> tuple[str, ...]:
    """The texts after a key of a row, on the same line."""
    begin = row.index(f"{key} = ") + len(key) + 3
    line = row[begin : row.find("\n", begin)]
    return tuple(line.replace('"', "'").split("'")[1::2])


def _read_part(row: Mapping[str, Any]) -> Part:
    times = {
        int(size): EraseTime(typical / 1000, longest / 1000) for size, (typical, longest) in row["erase_ms"].items()
    }
    flash = Memory(
        "flash",
        row["flash_start"],
        tuple((number, size) for number, size in row["layout"]),
        row["erased"],
        row["write_unit"],
        row["program_us"] / 1e6,
        times,
        row.get("reserved_top", 0),
        row.get("reserved_bottom", 0),
        row.get("block", 0),
    )
    memories = [flash]
    if "eeprom" in row:
        byte_s = row["eeprom_byte_us"] / 1e6
        memories.append(Memory("eeprom", 0, ((row["eeprom"], 1),), 0xFF, 1, byte_s, {1: EraseTime(0, 0)}))
    memories += [_read_more(more) for more in row.get("memories", ())]
    return Part(
        name=row["name"],
        title=row["title"],
        dialect=row["dialect"],
        ident=row["ident"],
        core=row["core"],
        memories=tuple(memories),
        ram=tuple(Ram(start, size * _KIB) for start, size in row["ram_kib"]),
        hands=ByHandWords(tuple(row["hands_enter"]), tuple(row["hands_leave"])),
        baud=row["baud"],
        hookup=row["hookup"],
        wires=_read_wires(row["wires"]),
        uart=row["uart"],
        boot_level=row.get("boot_level", ""),
        holds=row.get("holds", "flash"),
        size_known=not row.get("size_by_chip", False),
        clones=tuple(row.get("clones", ())),
        also=tuple(row.get("also", ())),
        extra=row.get("extra", {}),
    )


def _read_more(row: Mapping[str, Any]) -> Memory:
    """A memory besides flash and EEPROM, in a table of its own."""
    times = {int(size): EraseTime(usual / 1000, longest / 1000) for size, (usual, longest) in row["erase_ms"].items()}
    layout = tuple((number, size) for number, size in row["layout"])
    return Memory(row["name"], row["start"], layout, 0xFF, row["write_unit"], row["program_us"] / 1e6, times)


def _read_wires(table: Mapping[str, Any]) -> Wires:
    low, high = table["volts_range"]
    return Wires(
        table["tx"],
        table["rx"],
        table["reset"],
        table.get("boot", ""),
        table["volts"],
        (low, high),
        table["shortest_reset_us"] / 1e6,
        tuple(table.get("advice", ())),
    )
