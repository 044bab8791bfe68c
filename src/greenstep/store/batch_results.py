"""The result file of a batch: CSV or JSON by its ending, rewritten after every board so that none is lost."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from dataclasses import asdict, fields
from pathlib import Path

from greenstep.core.batch.results import BoardResult
from greenstep.core.errors import usage

from .spreadsheet import safe_cell
from .whole_files import write_whole

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
