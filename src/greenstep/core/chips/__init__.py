"""Part records: what the chip makers' documents say about each chip, as data, and how to find one."""

from .catalogue import Catalogue, Choice, UnknownChip
from .part import EraseTime, EraseUnit, Hands, Memory, Part, Ram, Wires

__all__ = ["Catalogue", "Choice", "EraseTime", "EraseUnit", "Hands", "Memory", "Part", "Ram", "UnknownChip", "Wires"]
