"""The commands of a protocol, by the numbers and names in its document."""

from __future__ import annotations

from enum import IntEnum
from typing import Any, Self


class Command(IntEnum):
    """`NAME = number, "its name in words"`. A dialect derives its own class, and says where in the document they
    stand."""

    words: str

    def __new__(cls, number: int, words: str) -> Self:
        command = int.__new__(cls, number)
        command._value_ = number
        command.words = words
        return command

    @classmethod
    def known(cls, number: int) -> bool:
        """Whether the document has a command with that number."""
        return number in cls._value2member_map_

    @classmethod
    def of(cls, number: int) -> Self:
        """The command with that number. Raises KeyError."""
        command: Any = cls._value2member_map_[number]
        return command  # type: ignore[no-any-return]
