"""What a simulated chip holds, in a file, from one command to the next."""

from __future__ import annotations

import json
import os
import tempfile
import zipfile
from contextlib import suppress
from pathlib import Path
from typing import Any

from greenstep.core.errors import usage

from .chip import SimulatedChip

_ABOUT = "about.json"
_KIND = "greenstep bench memory"


def load_chip(path: Path, board: str, chip: SimulatedChip) -> None:
    """Give a chip what it held when the last command ended; nothing where there is no file yet. Raises UsageFault."""
    try:
        with zipfile.ZipFile(path) as file:
            about: Any = json.loads(file.read(_ABOUT))
            if about.get("kind") != _KIND:
                raise KeyError(_ABOUT)
            if about["board"] != board:
                raise usage(
                    "bench-port", f"{path} holds the memory of {about['board']}, not of {board}", "another file"
                )
            for name in chip.memories:
                content, held = file.read(name), getattr(chip, name)
                if len(content) != len(held):
                    raise KeyError(name)
                held[:] = content
            for name in chip.lasting_marks:
                value = about["marks"][name]
                setattr(chip, name, set(value) if isinstance(value, list) else value)
    except FileNotFoundError:
        return
    except (zipfile.BadZipFile, KeyError, ValueError, AttributeError, TypeError, EOFError, NotImplementedError):
        raise usage("bench-port", f"{path} is no memory of a simulated board", "remove it, or name another") from None
    except OSError as error:
        raise usage("bench-port", f"{path} cannot be read: {error.strerror}", "memory=FILE") from None


def save_chip(path: Path, board: str, chip: SimulatedChip) -> None:
    """Keep what a chip holds; the file is replaced whole. Raises UsageFault."""
    marks = {name: getattr(chip, name) for name in chip.lasting_marks}
    about = {
        "kind": _KIND,
        "board": board,
        "marks": {name: sorted(value) if isinstance(value, set) else value for name, value in marks.items()},
    }
    try:
        descriptor, name = tempfile.mkstemp(prefix=f".{path.name}-", dir=path.parent)
        try:
            with (
                os.fdopen(descriptor, "wb") as stream,
                zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as file,
            ):
                file.writestr(_ABOUT, json.dumps(about))
                for memory in chip.memories:
                    file.writestr(memory, bytes(getattr(chip, memory)))
            os.replace(name, path)  # noqa: PTH105  (a name, not a path)
        except BaseException:
            with suppress(OSError):
                os.unlink(name)  # noqa: PTH108
            raise
    except OSError as error:
        raise usage("bench-port", f"{path} cannot be written: {error.strerror}", "memory=FILE") from None
