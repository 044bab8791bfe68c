"""The PIC18 loader's machine code in gpsim."""

from __future__ import annotations

import unittest

from greenstep.bench.families.doorstep import KINDS
from greenstep.bench.trial import run, sample_for
from tests.machines import boards
from tests.machines.conduct import Conduct
from tests.machines.emulated import Layout


def setUpModule() -> None:
    boards.join_the_bench()


class Pic18f46k22(Conduct):
    erases_when_asked = False

    @classmethod
    def setUpClass(cls) -> None:
        cls.kind = KINDS["pic18f46k22"]
        cls.machine = boards.pic18()
        cls.layout = Layout(cls.kind.begin, cls.kind.seal, cls.kind.top, cls.kind.program)
        cls.loader = boards.loader_of("pic18f46k22")
        cls.unit = cls.erase_unit = cls.kind.erase_unit
        cls.data = cls.kind.data_bytes

    def test_uploads_over_a_good_line_and_a_bad_one(self) -> None:
        image = sample_for("machine-pic18f46k22", 9000)
        bad = [f"flip-to-chip={at}:{1 << at % 8:02X}" for at in range(60, 12000, 401)]
        bad += [f"drop-to-host={at}" for at in range(100, 900, 97)]
        for faults in ((), tuple(bad)):
            trial = run("machine-pic18f46k22", {"flash": image}, faults)
            self.assertTrue(trial.end.green, (trial.end, trial.findings))
            self.assertTrue(trial.holds(image))
            self.assertEqual(trial.line.chip.violations, [])


del Conduct
_ = unittest
