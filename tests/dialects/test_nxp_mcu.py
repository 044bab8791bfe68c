"""NXP's MCU bootloader: what secures a Kinetis, and frames that have no number."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.dialects.nxp_packets import COMMAND, Command, command, framed, is_whole
from greenstep.core.image import Piece
from greenstep.core.plan.write_options import WriteOptions

BOARD = "mkl27z256"


class Frames(unittest.TestCase):
    def test_as_the_manual_has_them(self) -> None:
        frame = framed(COMMAND, command(Command.GET_PROPERTY, 1, 0))
        self.assertEqual(frame[:4] + frame[6:], bytes.fromhex("5A A4 0C 00 07 00 00 02 01 00 00 00 00 00 00 00"))
        self.assertEqual(frame[4:6], bytes.fromhex("4B 33"))
        self.assertTrue(is_whole(frame))
        self.assertFalse(is_whole(frame[:-1] + b"\x01"))


class Security(unittest.TestCase):
    def test_once_for_secure_and_twice_for_good(self) -> None:
        image = sample_for(BOARD, 3000)
        for at, value, words, status in (
            (0x0C, 0xFF, (), 5), (0x0C, 0xFF, ("protection",), 0), (0x0C, 0xEC, ("protection",), 5),
            (0x0C, 0xEC, ("protection", "lock-out"), 0), (0x0D, 0x3F, ("protection",), 5),
            (0x0D, 0x3D, (), 0), (0x0C, 0xEE, (), 0),
        ):  # fmt: skip
            with self.subTest(at=at, value=value, words=words):
                data = bytearray(image.pieces[0].data)
                data[0x400 + at] = value
                trial = run(BOARD, {"flash": replace(image, pieces=(Piece(0, bytes(data)),))}, start=False,
                            options=WriteOptions(even_if=frozenset(words)))  # fmt: skip
                self.assertEqual(trial.end.exit_code, status, trial.findings)

    def test_an_erase_leaves_the_chip_open(self) -> None:
        trial = run(BOARD, purpose="erase", region=("flash", 0, 0x1000))
        flash = bytes(trial.line.chip.flash)
        self.assertEqual((trial.end.exit_code, flash[0x40C]), (0, 0xFE), trial.findings)
        self.assertEqual(set(flash[:0x400] + flash[0x410:0x1000]), {0xFF})

    def test_a_secured_chip_is_unlocked_by_erasing_it(self) -> None:
        trial = run(BOARD, purpose="unlock", faults=("locked",))
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
        self.assertEqual(trial.line.chip.violations, [])


class OtherChips(unittest.TestCase):
    def silicon(self, board: str, purpose: Any = "upload", faults: tuple[str, ...] = (), **chip: Any) -> Trial:
        images = {"flash": sample_for(board, 3000)} if purpose == "upload" else None
        runner, trial = prepare(board, images, purpose=purpose, faults=faults)
        for name, value in chip.items():
            setattr(trial.line.chip, name, value)
        trial.events.extend(runner.run())
        return trial

    def test_size_and_number_are_compared_with_the_declared_part(self) -> None:
        trial = self.silicon(BOARD, told_bytes=64 * 1024)
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "other-chip"))
        self.assertIn("--chip mkl27z64", trial.findings[0].attempts)
        trial = self.silicon(BOARD, device_id=0x17151502)
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "other-chip"))
        for told in (630, 640):
            self.assertEqual(self.silicon("lpc55s69", told_bytes=told * 1024).end.exit_code, 0)

    def test_security_of_the_lpc55_generation(self) -> None:
        self.assertEqual(self.silicon("lpc55s69", "greet").step("chip").outcome, "green")
        locked = self.silicon("lpc55s69", faults=("locked",))
        self.assertEqual((locked.end.exit_code, locked.findings[0].key), (5, "locked"))
        trial = self.silicon("lpc55s69", "unlock", ("locked",))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "cannot-unlock"))
        self.assertEqual(trial.end.chip_state, "nothing on the chip was changed")

    def test_the_chip_s_own_layout_counts(self) -> None:
        image = sample_for("lpc55s69", 9000)
        runner, trial = prepare("lpc55s69", {"flash": image})
        chip = trial.line.chip
        chip.kind = replace(chip.kind, sector=32768)  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
        self.assertIn("32 KiB", trial.step("erase").evidence)


if __name__ == "__main__":
    unittest.main()
