"""Situations that must be told apart: each a run on the bench, and the key of the finding that comes first.

A dialect brings its rows in a file of its own, named like the dialect; `BY_DIALECT` collects them,
`BOARD_OF` the bench board that stands for each, and
`BOARDS_OF` those that stand for it where its chips differ.
"""

from __future__ import annotations

import importlib
import pkgutil

from .situation import Situation

_MODULES = {
    module.name.replace("_", "-"): importlib.import_module(f"{__name__}.{module.name}")
    for module in pkgutil.iter_modules(__path__)
    if module.name not in ("situation", "seeded")
}
BY_DIALECT: dict[str, list[Situation]] = {dialect: module.ROWS for dialect, module in _MODULES.items()}
BOARD_OF: dict[str, str] = {dialect: module.BOARD for dialect, module in _MODULES.items()}
BOARDS_OF: dict[str, tuple[str, ...]] = {
    dialect: getattr(module, "BOARDS", (module.BOARD,)) for dialect, module in _MODULES.items()
}
ALL: list[Situation] = [row for rows in BY_DIALECT.values() for row in rows]
