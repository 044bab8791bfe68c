"""Tables for and from a spreadsheet: the results of a batch, rewritten after every board so that none is lost, and
values for boards from a file with a heading of names and a row for each board."""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import asdict, fields
from pathlib import Path

from greenstep.core.batch.results import BoardResult
from greenstep.core.errors import usage
from greenstep.core.safety.harmless_text import harmless
from greenstep.core.safety.plain_files import read_text

from .whole_files import write_whole


def safe_cell(value: object) -> object:
    """A spreadsheet must not take a text, such as a board's name, for a formula, nor a terminal for orders."""
    if not isinstance(value, str):
        return value
    return f"'{harmless(value)}" if value[:1] in ("=", "+", "-", "@") else harmless(value)


ENDINGS = (".csv", ".json")


def check_results_file(path: Path, replace: bool) -> None:
    """Before the first board: can it be written? Raises UsageFault."""
    if path.suffix.lower() not in ENDINGS:
        raise usage("save-ending", f"{path}: results are saved as .csv or .json", f"--save {path.stem}.csv")
    if path.exists() and not replace:
        raise usage("exists", f"{path} is there already", "another name, or --replace")
    save_results(path, ())


def save_results(path: Path, results: Sequence[BoardResult]) -> None:
    """All of them; a reader never sees half a file. Raises UsageFault."""
    file = io.StringIO()
    if path.suffix.lower() == ".json":
        json.dump([asdict(result) for result in results], file, ensure_ascii=False, indent=1)
        file.write("\n")
    else:
        writer = csv.DictWriter(file, [field.name for field in fields(BoardResult)], lineterminator="\n")
        writer.writeheader()
        writer.writerows({key: safe_cell(value) for key, value in asdict(one).items()} for one in results)
    try:
        write_whole(path, [file.getvalue().encode()])
    except OSError as error:
        raise usage("save", f"{path}: {error.strerror or error}", "another place for --save") from None


_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_-]*$")
_SEPARATORS = ",;\t"
_LARGEST_BYTES = 64 << 20


def read_rows(path: Path) -> tuple[Mapping[str, str], ...]:
    """The rows, by name, in order; empty lines are passed over. The first value is what a row goes by, and is there
    once. Separated by whichever of comma, semicolon and tab the heading has most of. Raises UsageFault."""
    try:
        text = read_text(path, _LARGEST_BYTES, "utf-8-sig")
    except OSError as error:
        raise usage("values", f"{path}: {error.strerror or error}") from None
    except UnicodeDecodeError:
        raise usage("values", f"{path} is not UTF-8", "save it as CSV in UTF-8") from None
    reader = csv.reader(io.StringIO(text), delimiter=max(_SEPARATORS, key=text.partition("\n")[0].count))
    try:
        table = [(reader.line_num, row) for row in reader]
    except csv.Error as error:
        raise usage("values", f"{path}, line {reader.line_num}: {error}", "save it as CSV in UTF-8") from None
    names = [name.strip() for name in table[0][1]] if table else []
    if not names or not all(_NAME.match(name) for name in names) or len(set(names)) != len(names):
        raise usage("values", f"{path}: its first line is not a heading of names", "such as: serial,key")
    lines: dict[str, int] = {}
    found = []
    for number, row in table[1:]:
        cells = tuple(cell.strip() for cell in row)
        if not any(cells):
            continue
        if len(cells) != len(names):
            raise usage("values", f"{path}, line {number}: {len(cells)} values for {len(names)} names")
        if cells[0] in lines:
            cause = f"{path}, line {number}: {names[0]} {cells[0]} is in line {lines[cells[0]]} too"
            raise usage("values", cause, f"the first column tells boards apart; is it {names[0]}?")
        lines[cells[0]] = number
        found.append(dict(zip(names, cells, strict=True)))
    if not found:
        raise usage("values", f"{path} has no row")
    return tuple(found)
