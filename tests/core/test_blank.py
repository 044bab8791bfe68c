"""EEPROMs made blank, and memories looked at whether they are blank, on every board of the bench that has one."""

from __future__ import annotations

import unittest

from greenstep.bench.boards import BOARDS
from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.core.plan.write_options import WriteOptions

EEPROMS = (
    "atmega328p", "atmega1284p", "atmega32u4", "at90usb1286", "atmega2560", "atmega1280", "pic18f4520", "pic18f46k22",
)  # fmt: skip


def filled(board: str, **options: object) -> tuple[Trial, bytes]:
    """A run on a board whose flash and EEPROM are full of other bytes; also its flash before."""
    runner, trial = prepare(board, **options)
    chip = trial.line.chip
    chip.eeprom[:] = bytes((place * 7 + 1) & 0xFF for place in range(len(chip.eeprom)))  # type: ignore[attr-defined]
    before = bytes(chip.flash)  # type: ignore[attr-defined]
    trial.events.extend(runner.run())
    return trial, before


class Eeproms(unittest.TestCase):
    def test_all_of_it_becomes_blank_and_the_flash_stays(self) -> None:
        self.assertLessEqual(set(EEPROMS), set(BOARDS))
        for board in EEPROMS:
            with self.subTest(board):
                trial, before = filled(board, purpose="erase", region=("eeprom", None, None))
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                chip = trial.line.chip
                self.assertEqual(set(chip.eeprom), {0xFF})  # type: ignore[attr-defined]
                self.assertEqual(bytes(chip.flash), before)  # type: ignore[attr-defined]

    def test_a_part_of_it(self) -> None:
        trial, _ = filled("atmega328p", purpose="erase", region=("eeprom", 0x10, 0x20))
        eeprom = trial.line.chip.eeprom  # type: ignore[attr-defined]
        self.assertEqual(set(eeprom[0x10:0x30]), {0xFF})
        self.assertEqual((eeprom[0x0F], eeprom[0x30]), (0x6A, 0x51))

    def test_there_is_none(self) -> None:
        runner, trial = prepare("stm32f072", purpose="erase", region=("eeprom", None, None))
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "no-such-memory"))


class Looking(unittest.TestCase):
    def looked(self, board: str, region: tuple[str, int | None, int | None], *faults: str) -> Trial:
        runner, trial = prepare(
            board, purpose="verify", region=region, options=WriteOptions(blank=True), faults=faults
        )
        before = bytes(trial.line.chip.flash)  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        self.assertEqual(bytes(trial.line.chip.flash), before)  # type: ignore[attr-defined]
        return trial

    def test_blank_is_green_and_one_byte_is_not(self) -> None:
        image = sample_for("stm32f072", 3000)
        beyond = image.end + 0x1000
        free = self.looked("stm32f072", ("flash", beyond, 1000))
        self.assertEqual((free.end.exit_code, free.step("verify").evidence), (0, "read back, 1,000 bytes blank"))
        runner, trial = prepare(
            "stm32f072", purpose="verify", region=("flash", beyond, 1000), options=WriteOptions(blank=True)
        )
        trial.line.chip.flash[beyond + 999 - 0x08000000] = 0x7F  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (7, "not-blank"))

    def test_the_way_to_the_loader_is_no_blank_place(self) -> None:
        """On the one, reset begins in the loader; on the other, only a jump at 0 leads there."""
        for board, more in (("atmega328p", ""), ("pic18f46k22", " but for the jump to the bootloader")):
            for purpose in ("erase", "verify"):
                runner, trial = prepare(board, purpose=purpose, options=WriteOptions(blank=purpose == "verify"))
                chip = trial.line.chip
                room = trial.line.chip.flash[: 0x7E00 if board == "atmega328p" else 0xFC00]  # type: ignore[attr-defined]
                chip.flash[: len(room)] = b"\xff" * len(room)  # type: ignore[attr-defined]
                if more:
                    chip.flash[:4] = bytes.fromhex("00 EF 7E F0")  # type: ignore[attr-defined]
                trial.events.extend(runner.run())
                with self.subTest(board, purpose=purpose):
                    said = f"read back, {len(room):,} bytes blank{more}"
                    self.assertEqual((trial.end.exit_code, trial.step("verify").evidence), (0, said))

    def test_a_part_of_what_the_loader_needs(self) -> None:
        trial = self.looked("pic18f46k22", ("flash", 0xF000, 16))
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertEqual(trial.step("verify").evidence, "read back, 16 bytes blank")

    def test_an_erased_part_of_an_image_is_no_blank_place(self) -> None:
        image = sample_for("stm32f072", 9000)
        hole = image.pieces[0].data.find(b"\xff" * 256)
        runner, trial = prepare("stm32f072", {"flash": image}, purpose="verify")
        flash = trial.line.chip.flash  # type: ignore[attr-defined]
        flash[: len(image.pieces[0].data)] = image.pieces[0].data
        flash[hole + 9] = 0x7F
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (7, "other-image"))

    def test_damaged_answers_do_not_make_it_blank(self) -> None:
        for place in range(20, 60, 4):
            with self.subTest(place):
                trial = self.looked("atmega328p", ("flash", None, None), f"flip-to-host={place}:FF")
                self.assertNotEqual(trial.end.exit_code, 0)


if __name__ == "__main__":
    unittest.main()
