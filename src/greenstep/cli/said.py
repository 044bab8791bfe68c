"""From the words of options to what is said about a board."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from greenstep.store.board import BoardSettings, PortChoice
from greenstep.store.board_keys import KEYS, joined
from greenstep.store.board_words import (
    by_hand_arguments,
    file_argument,
    hookup_argument,
    image_option,
    keep_argument,
    set_argument,
    talk_argument,
)

_WORDS: dict[str, Callable[[str], Any]] = {
    "port": lambda text: PortChoice(name=text),
    "hookup": hookup_argument,
    "keep": keep_argument,
    "elf": file_argument,
    "talk": talk_argument,
}
"""How an option's text becomes a value, if it is not one already."""


def said_of(options: Mapping[str, Any]) -> BoardSettings:
    """What the options of a command say, by their names. Raises UsageFault."""
    values: dict[str, Any] = {}
    for key in KEYS:
        said, of = options.get(key.name), _WORDS.get(key.name)
        if key.repeats:
            values[key.name] = tuple(of(word) if of else word for word in said or ()) or None
        else:
            values[key.name] = of(said) if of and said else said
    values["port"] = values["port"] or None
    for name, memory in (("images", "flash"), ("eeprom", "eeprom")):
        values[name] = (
            tuple(image for text in options.get(name) or () for image in image_option(text, memory)) or None
        )
    values["by_hand"] = by_hand_arguments(options.get("by_hand") or ()) or None
    values["set"] = dict(set_argument(text) for text in options.get("set") or ()) or None
    return BoardSettings(**joined(values))
