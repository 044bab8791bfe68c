"""The Cortex-M loaders' machine code, in an emulated core."""

from __future__ import annotations

import unittest

from greenstep.bench.boards import BOARDS
from greenstep.bench.families.doorstep import KINDS
from greenstep.bench.trial import Trial, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.loaders.images import make
from greenstep.core.loaders.loader_values import LoaderValues
from tests.machines import boards
from tests.machines.conduct import HELLO, Conduct, question
from tests.machines.cortex import Cortex
from tests.machines.emulated import Layout
from tests.machines.talk import Talk


def setUpModule() -> None:
    boards.join_the_bench()


class _Cortex(Conduct):
    chip = ""

    @classmethod
    def setUpClass(cls) -> None:
        if not cls.chip:
            raise unittest.SkipTest("what they have in common")
        cls.kind = KINDS[cls.chip]
        cls.machine = boards.CORTEX[cls.chip]()
        cls.layout = Layout(cls.kind.begin, cls.kind.seal, cls.kind.top, cls.kind.program)
        cls.loader = boards.loader_of(cls.chip)
        cls.unit, cls.erase_unit, cls.data = cls.kind.write_unit, cls.kind.erase_unit, cls.kind.data_bytes
        cls.erases_itself = cls.kind.erases_itself
        cls.head = (0x20002000).to_bytes(4, "little") + (cls.kind.begin + 0x101).to_bytes(4, "little")
        cls.questions = 60
        cls.cuts = (1, 2, 3, 5, 120)

    def test_the_application_asks_for_the_loader(self) -> None:
        assert isinstance(self.machine, Cortex)
        self.machine.requested = int.from_bytes(b"DOOR", "little")
        talk = Talk(self.machine, self.sealed(self.program(3000)))
        talk.wait(5_000_000)
        self.assertFalse(self.started(talk))
        self.assertEqual(len(talk.ask(question(HELLO, 1))), 1)

    def stays(self, low: int, pin: str, seconds: float) -> bool:
        """Whether the loader of a board with that pin listens on for so long though its application is whole."""
        assert isinstance(self.machine, Cortex)
        part = Catalogue.load().find(self.chip).first
        loader = make(part, LoaderValues(16e6, 115200, 0.5, pin=pin)).image.pieces[0].data
        flash = bytearray(self.sealed(self.program(1000)))
        flash[: len(loader)] = loader
        self.machine.low = low
        self.addCleanup(setattr, self.machine, "low", 0)
        talk = Talk(self.machine, bytes(flash))
        self.machine.low = 0
        talk.wait(int(seconds * 1e6))
        return not self.started(talk)

    def test_a_pin_keeps_it_and_a_break_for_a_while(self) -> None:
        pin, number = ("P0.05", 5) if self.chip.startswith("nrf") else ("PA15", 15)
        rx = 25 if self.chip.startswith("nrf") else 11
        self.assertFalse(self.stays(0, pin, 1.5))
        self.assertFalse(self.stays(1 << number, "", 1.5))
        self.assertTrue(self.stays(1 << number, pin, 20))
        self.assertTrue(self.stays(1 << rx, "", 5))
        self.assertFalse(self.stays(1 << rx, "", 15))

    def test_exceptions_go_on_to_the_application(self) -> None:
        if self.chip != "nrf51822":
            self.skipTest("its core moves its vectors")
        assert isinstance(self.machine, Cortex)
        begin = self.layout.begin
        table = [0x20002000, *(begin + 0x200 + 4 * number | 1 for number in range(1, 48))]
        program = b"".join(word.to_bytes(4, "little") for word in table) + bytes(1000)
        for number in (2, 3, 11, 15, 16, 30, 47):
            Talk(self.machine, self.sealed(program))
            with self.subTest(number):
                self.assertEqual(self.machine.interrupted(number), begin + 0x200 + 4 * number)

    def test_uploads(self) -> None:
        board = f"machine-{self.chip}"
        image = sample_for(board, 2000)
        self.assert_good(run(board, {"flash": image}), image)
        again = run(board, {"flash": image}, faults=("flip-to-chip=900:04", "drop-to-host=60", "repeat-to-chip=1500"))
        self.assert_good(again, image)

    def assert_good(self, trial: Trial, image: object) -> None:
        self.assertTrue(trial.end.green, (trial.end, trial.findings))
        self.assertTrue(trial.holds(image))  # type: ignore[arg-type]
        self.assertEqual(trial.line.chip.violations, [])


class Nrf51(_Cortex):
    chip = "nrf51822"


class Nrf52(_Cortex):
    chip = "nrf52832"


class SamD21(_Cortex):
    chip = "samd21g18"


del _Cortex, Conduct  # which are no tests of their own
_ = BOARDS
