"""Values for boards from a CSV file: a heading of names, and a row for each board."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping
from pathlib import Path

from greenstep.core.errors import usage
from greenstep.core.safety.plain_files import read_text

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
