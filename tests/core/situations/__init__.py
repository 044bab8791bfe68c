"""Situations that must be told apart: each a climb on the bench, and the key of the finding that comes first.

A dialect brings its rows in a file of its own; `ALL` collects them.
"""

from __future__ import annotations

import importlib
import pkgutil

from .situation import Situation

ALL: list[Situation] = [
    row
    for module in pkgutil.iter_modules(__path__)
    if module.name != "situation"
    for row in importlib.import_module(f"{__name__}.{module.name}").ROWS
]
