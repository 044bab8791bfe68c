"""`@frozen` is a dataclass to whoever uses it, however many instances there are."""

from __future__ import annotations

import copy
import pickle
import unittest
from dataclasses import asdict, dataclass, field, fields, replace
from typing import ClassVar

from greenstep.core.frozen import frozen


@frozen
class Frame:
    """A frame of a hive."""

    number: int
    side: str = "left"
    notes: tuple[str, ...] = field(default_factory=tuple)
    material: ClassVar[str] = "wood"


@frozen
class Brood(Frame):
    cells: int = 0


@dataclass(frozen=True)
class Plain:
    number: int
    side: str = "left"
    notes: tuple[str, ...] = field(default_factory=tuple)


class LikeADataclass(unittest.TestCase):
    def test_made_in_every_way_before_and_after_it_is_compiled(self) -> None:
        for turn in range(100):
            self.assertEqual(asdict(Frame(turn, notes=("sealed",))), asdict(Plain(turn, notes=("sealed",))))
            self.assertEqual(Brood(turn, "right", cells=9).cells, 9)
            for wrong, named in (((), {}), ((1, "left", (), 4), {}), ((1,), {"queen": 2}), ((1,), {"number": 2})):
                with self.assertRaises(TypeError):
                    Frame(*wrong, **named)  # type: ignore[arg-type]

    def test_compared_hashed_shown_copied(self) -> None:
        one, same, other = Frame(1), Frame(1), Frame(1, "right")
        self.assertEqual(one, same)
        self.assertEqual(len({one, same, other}), 2)
        self.assertNotEqual(one, Brood(1))
        self.assertNotEqual(one, Plain(1))
        self.assertEqual(repr(other), "Frame(number=1, side='right', notes=())")
        self.assertEqual(replace(one, side="right"), other)
        self.assertEqual([f.name for f in fields(Brood)], ["number", "side", "notes", "cells"])
        self.assertEqual(pickle.loads(pickle.dumps(Brood(1, cells=3))), Brood(1, cells=3))
        self.assertEqual(copy.deepcopy(other), other)
        match other:
            case Frame(number, side):
                self.assertEqual((number, side), (1, "right"))

    def test_a_default_that_is_made_is_each_instances_own(self) -> None:
        @frozen
        class Box:
            frames: list[int] = field(default_factory=list)

        one, other = Box(), Box()
        one.frames.append(1)
        self.assertEqual(other.frames, [])


if __name__ == "__main__":
    unittest.main()
