"""What a simulated chip holds, in a file, from one command to the next: JSON, the memories packed."""

from __future__ import annotations

import binascii
import json
import os
import zlib
from contextlib import suppress
from pathlib import Path
from typing import Any

from greenstep.core.errors import usage

from .chip import SimulatedChip

_KIND = "greenstep bench memory"


def load_chip(path: Path, board: str, chip: SimulatedChip) -> None:
    """Restore what a chip held when the last command ended; nothing if there is no file yet. Raises UsageFault."""
    try:
        kept: Any = json.loads(path.read_text("ascii"))
        if kept["kind"] != _KIND:
            raise KeyError(_KIND)
        if kept["board"] != board:
            raise usage("bench-port", f"{path} holds the memory of {kept['board']}, not of {board}", "another file")
        for name in chip.memories:
            content, held = unpacked(kept["memories"][name]), getattr(chip, name)
            if len(content) != len(held):
                raise KeyError(name)
            held[:] = content
        for name in chip.lasting_marks:
            value = kept["marks"][name]
            setattr(chip, name, set(value) if isinstance(value, list) else value)
    except FileNotFoundError:
        return
    except (KeyError, ValueError, TypeError, RecursionError, zlib.error):
        raise usage(
            "bench-port", f"{path} is not the memory of a simulated board", "remove it, or name another"
        ) from None
    except OSError as error:
        raise usage("bench-port", f"{path} cannot be read: {error.strerror}", "memory=FILE") from None


def unpacked(text: str) -> bytes:
    """A memory from its text in the file. Raises ValueError, zlib.error."""
    return zlib.decompress(binascii.a2b_base64(text))


def save_chip(path: Path, board: str, chip: SimulatedChip) -> None:
    """Save what a chip holds; the file is replaced as a whole. Raises UsageFault."""
    marks = {name: getattr(chip, name) for name in chip.lasting_marks}
    memories = {name: zlib.compress(bytes(getattr(chip, name)), 1) for name in chip.memories}
    kept = {
        "kind": _KIND,
        "board": board,
        "marks": {name: sorted(value) if isinstance(value, set) else value for name, value in marks.items()},
        "memories": {name: binascii.b2a_base64(data, newline=False).decode() for name, data in memories.items()},
    }
    part = path.with_name(f".{path.name}-{os.getpid()}")
    try:
        try:
            part.write_text(json.dumps(kept))
            part.replace(path)
        except BaseException:
            with suppress(OSError):
                part.unlink()
            raise
    except OSError as error:
        raise usage("bench-port", f"{path} cannot be written: {error.strerror}", "memory=FILE") from None
