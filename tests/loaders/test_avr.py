"""The AVR loaders' machine code in simavr."""

from __future__ import annotations

import unittest
from typing import ClassVar

from greenstep.bench import samples
from greenstep.bench.families.doorstep import KINDS
from greenstep.bench.trial import run, sample_for
from tests.machines import boards
from tests.machines.conduct import HELLO, WRITE, Conduct, question, write
from tests.machines.emulated import Layout
from tests.machines.talk import Talk
from tests.machines.vectors import Vectors


def setUpModule() -> None:
    boards.join_the_bench()


class _Avr(Conduct):
    chip: ClassVar[str] = ""
    erases_when_asked = False

    @classmethod
    def setUpClass(cls) -> None:
        if not cls.chip:
            raise unittest.SkipTest("what they have in common")
        flash, page, room, _ = boards.AVR[cls.chip]
        cls.machine = boards.avr(cls.chip)
        cls.layout = Layout(0, flash - room - page, flash, samples.avr_image)
        cls.loader = boards.loader_of(cls.chip)
        cls.unit = cls.erase_unit = page
        cls.data = 256 if cls.chip == "atmega168" else 512
        cls.kind = KINDS.get(cls.chip)

    def test_uploads_over_a_good_line_and_a_bad_one(self) -> None:
        board = f"machine-{self.chip}"
        image = sample_for(board, 9000)
        bad = [f"flip-to-chip={at}:{1 << at % 8:02X}" for at in range(60, 12000, 401)]
        bad += [f"drop-to-host={at}" for at in range(100, 900, 97)]
        for faults in ((), tuple(bad)):
            trial = run(board, {"flash": image}, faults)
            self.assertTrue(trial.end.green, (trial.end, trial.findings))
            self.assertTrue(trial.holds(image))
            self.assertEqual(trial.line.chip.violations, [])

    def test_the_last_page_of_the_region_and_none_behind_it(self) -> None:
        talk = Talk(self.machine, self.blank)
        page = self.program(self.unit)
        last = self.layout.seal - self.unit
        self.assertEqual(talk.ask(write(1, last, page)), [bytes([WRITE | 0x80, 1, 0])])
        self.assertEqual(talk.ask(write(2, self.layout.seal, page)), [bytes([WRITE | 0x80, 2, 1])])
        self.assertEqual(self.machine.flash[last : last + self.unit], page)
        at, data = self.loader
        self.assertEqual(self.machine.flash[at : at + len(data)], data)
        self.assertEqual(len(talk.ask(question(HELLO, 3))), 1)


class Mega168(_Avr):
    chip = "atmega168"


class Mega328p(Vectors, _Avr):
    chip = "atmega328p"


class Mega644p(_Avr):
    chip = "atmega644p"


class Mega1284p(_Avr):
    chip = "atmega1284p"


class Mega2560(_Avr):
    chip = "atmega2560"


del _Avr, Conduct, Vectors
