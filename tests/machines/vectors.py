"""The test vectors of docs/doorstep-vectors.toml, against a machine of the kind that they are for."""

from __future__ import annotations

import tomllib
import unittest
from pathlib import Path
from typing import Any

from .emulated import Machine
from .talk import Talk

FILE = Path(__file__).parents[2] / "docs" / "doorstep-vectors.toml"
VECTORS: dict[str, list[dict[str, Any]]] = tomllib.loads(FILE.read_text("utf-8"))


class Vectors(unittest.TestCase):
    machine: Machine
    blank: bytes

    def test_the_conversation_of_the_vectors(self) -> None:
        talk = Talk(self.machine, self.blank)
        for row in VECTORS["refused"]:
            with self.subTest(row["name"]):
                talk.say(b"\x00" + bytes.fromhex(row["frame"]))
                self.assertEqual(talk.answers(1, 20_000), [])
        for row in VECTORS["conversation"]:
            with self.subTest(row["name"]):
                self.assertEqual(talk.ask(bytes.fromhex(row["asks"])), [bytes.fromhex(row["answers"])])
