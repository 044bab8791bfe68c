"""Values for boards from a CSV file: a heading of names, and a row for each board."""

from __future__ import annotations

import csv
import re
from collections.abc import Mapping
from pathlib import Path

from greenstep.core.errors import usage

_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_-]*$")
_SEPARATORS = ",;\t"


def read_rows(path: Path) -> tuple[Mapping[str, str], ...]:
    """The rows, by name, in order; empty lines are passed over. Separated by whichever of comma, semicolon and tab
    the heading has most of. Raises UsageFault."""
    try:
        lines = path.read_text("utf-8-sig").splitlines()
    except OSError as error:
        raise usage("values", f"{path}: {error.strerror or error}") from None
    except UnicodeDecodeError:
        raise usage("values", f"{path} is not UTF-8", "save it as CSV in UTF-8") from None
    heading = lines[0] if lines else ""
    table = list(csv.reader(lines, delimiter=max(_SEPARATORS, key=heading.count)))
    names = [name.strip() for name in table[0]] if table else []
    if not names or not all(_NAME.match(name) for name in names) or len(set(names)) != len(names):
        raise usage("values", f"{path}: its first line is not a heading of names", "such as: serial,key")
    found: dict[tuple[str, ...], int] = {}
    for number, row in enumerate(table[1:], 2):
        cells = tuple(cell.strip() for cell in row)
        if not any(cells):
            continue
        if len(cells) != len(names):
            raise usage("values", f"{path}, line {number}: {len(cells)} values for {len(names)} names")
        if cells in found:
            raise usage(
                "values", f"{path}, line {number}: the same as line {found[cells]}", "a value is for one board only"
            )
        found[cells] = number
    if not found:
        raise usage("values", f"{path} has no row")
    return tuple(dict(zip(names, cells, strict=True)) for cells in found)
