"""SAM-BA: the routine, and that what a damaged letter does never ends in wrong flash."""

from __future__ import annotations

import unittest
import zlib
from dataclasses import replace
from typing import Any

from greenstep.bench.thumb import ThumbCpu, ThumbFault
from greenstep.bench.trial import prepare, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.dialects.sam_ba_ram import CONTROLLER, DONE, WRONG_DATA, RamJob, Workshop, crc32
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import WriteOptions

from ..sample import some

RESIDENT, USB, ROM, ROM4 = "samd21g18", "samd51j19", "sam3x8e", "sam4s16"
_BASE, _READY = 0x20001000, 0x40000008


class Desk:
    """RAM, and one register that is ready after it has been looked at twice."""

    def __init__(self) -> None:
        self.ram = bytearray(0x4000)
        self.stored: list[tuple[int, int, int]] = []
        self.looks = 0
        self.error = 0

    def load(self, address: int, size: int) -> int:
        if address == _READY:
            self.looks += 1
            return self.error | (self.looks % 3 == 0)
        at = address - 0x20000000
        if not 0 <= at < len(self.ram):
            raise ThumbFault(f"{address:08X}")
        return int.from_bytes(self.ram[at : at + size], "little")

    def store(self, address: int, size: int, value: int) -> None:
        at = address - 0x20000000
        if 0 <= at < len(self.ram):
            self.ram[at : at + size] = (value & (1 << 8 * size) - 1).to_bytes(size, "little")
        else:
            self.stored.append((address, size, value & (1 << 8 * size) - 1))

    def put(self, address: int, data: bytes) -> None:
        self.ram[address - 0x20000000 : address - 0x20000000 + len(data)] = data


class Routine(unittest.TestCase):
    def setUp(self) -> None:
        self.desk, self.shop = Desk(), Workshop(_BASE)
        self.desk.put(_BASE, self.shop.content())

    def done(self, *jobs: RamJob) -> int:
        """How the first job ends."""
        for index, job in enumerate(jobs):
            self.desk.put(self.shop.jobs + 128 * index, job.words())
        cpu = ThumbCpu(self.desk)
        cpu.r[4:8] = [4, 5, 6, 7]
        entry, stack = (self.desk.load(_BASE + at, 4) for at in (4, 0))
        self.assertTrue(cpu.call(entry, stack, 100_000))
        self.assertEqual(cpu.r[4:8], [4, 5, 6, 7])
        word = self.desk.load(self.shop.result, 4)
        self.assertEqual(word >> 8, jobs[0].number)
        return word & 0xFF

    def test_it_computes_the_crc_32_that_everyone_does(self) -> None:
        data = b"the queen is in hive 3" * 7
        self.desk.put(self.shop.data, data)
        job = RamJob(number=7, crc_size=len(data), crc_at=self.shop.data, crc=zlib.crc32(data))
        self.assertEqual((self.done(job), crc32(data)), (DONE, zlib.crc32(data)))
        self.assertEqual(self.done(replace(job, number=8, crc=job.crc ^ 1)), WRONG_DATA)

    def test_pages_commands_and_waiting(self) -> None:
        self.desk.put(self.shop.data, bytes(range(16)))
        ways: dict[str, Any] = {"command_at": 0x40000004, "ready_at": _READY, "ready_mask": 1, "error_mask": 0xE}
        writing = RamJob(
            number=3, copies=1, source=self.shop.data, target=0x80000, page=8, count=2, command=0x5A000103,
            command_step=0x100, address_at=0x4000001C, address_shift=1, **ways,
        )  # fmt: skip
        self.assertEqual(self.done(writing), DONE)
        words = [(0x80000, 0x03020100), (0x80004, 0x07060504), (0x80008, 0x0B0A0908), (0x8000C, 0x0F0E0D0C)]
        wanted = [(0x4000001C, 0x40000), *words[:2], (0x40000004, 0x5A000103)]
        wanted += [(0x4000001C, 0x40004), *words[2:], (0x40000004, 0x5A000203)]
        self.assertEqual([(at, value) for at, _, value in self.desk.stored], wanted)
        self.assertEqual(self.desk.looks, 6)

    def test_half_words_errors_and_a_second_job(self) -> None:
        ways: dict[str, Any] = {"count": 1, "command_at": 0x40000004, "width": 2, "ready_at": _READY, "ready_mask": 1}
        first = RamJob(number=4, command=0xA502, next=self.shop.jobs + 128, **ways)
        self.assertEqual(self.done(first, RamJob(command=0xA504, **ways)), DONE)
        self.assertEqual(self.desk.stored, [(0x40000004, 2, 0xA502), (0x40000004, 2, 0xA504)])
        self.desk.error = 4
        self.assertEqual(self.done(RamJob(number=5, command=0xA502, error_mask=0xE, **ways)), CONTROLLER)

    def test_what_has_ended_is_not_done_again_and_wrong_data_never(self) -> None:
        job = RamJob(number=9, count=1, command_at=0x40000004, command=1, ready_at=_READY, ready_mask=1)
        self.assertEqual(self.done(job), DONE)
        cpu = ThumbCpu(self.desk)
        self.assertTrue(cpu.call(self.desk.load(_BASE + 4, 4), self.desk.load(_BASE, 4), 1000))
        self.assertEqual(len(self.desk.stored), 1)
        self.desk.put(self.shop.jobs, b"\x0a\x00\x00\x00" + bytes(4))  # only the beginning of another has come
        self.assertTrue(cpu.call(self.desk.load(_BASE + 4, 4), self.desk.load(_BASE, 4), 10_000))
        self.assertEqual((self.desk.load(self.shop.result, 4), len(self.desk.stored)), (0x0A04, 1))
        self.assertEqual(self.done(replace(job, number=10, crc_size=4, crc_at=self.shop.data, crc=1)), WRONG_DATA)
        self.assertEqual(len(self.desk.stored), 1)


class SamBa(unittest.TestCase):
    def test_only_what_differs_is_written_and_what_is_beside_it_stays(self) -> None:
        for board in (RESIDENT, ROM4):
            image = sample_for(board, 20_000)
            runner, trial = prepare(board, {"flash": image})
            chip = trial.line.chip
            for piece in image.pieces:
                chip.flash[piece.address - chip.base : piece.end - chip.base] = piece.data
            chip.flash[image.lowest - chip.base + 9000] ^= 1
            chip.flash[image.end - chip.base + 8192 :][:5] = b"honey"
            before = bytes(chip.flash[image.end - chip.base + 8192 :])
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code, chip.violations), (0, []), trial.findings)
            self.assertTrue(trial.holds(image))
            self.assertEqual(bytes(chip.flash[image.end - chip.base + 8192 :]), before)
            self.assertIn("compared before", trial.step("verify").evidence)

    def test_letters_and_blocks_damaged_anywhere(self) -> None:
        for board in (RESIDENT, USB, ROM):
            image = sample_for(board, 600)
            count = run(board, {"flash": image}, start=False).line.to_chip_count
            for place in some(range(3, count, 307), 5):
                trial = run(board, {"flash": image}, faults=(f"flip-to-chip={place}:20",), start=False)
                with self.subTest(board, place=place):
                    self.assertTrue(trial.holds(image) or trial.end.exit_code)
                    self.assertNotIn("security", str(trial.line.chip.violations))

    def test_data_that_did_not_arrive_are_not_written(self) -> None:
        image = sample_for(RESIDENT, 600)
        clean = run(RESIDENT, {"flash": image}, start=False)
        place = clean.line.to_chip_count - 700
        for offset in range(0, 60, 15):
            trial = run(RESIDENT, {"flash": image}, faults=(f"repeat-to-chip={place + offset}",), start=False)
            self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), offset)
            self.assertEqual(trial.line.chip.violations, [])

    def test_start_makes_the_chip_boot_from_flash(self) -> None:
        runner, trial = prepare(ROM, {"flash": sample_for(ROM, 900)}, expect="frame lift 1.1")
        trial.line.chip.boots = False  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
        self.assertTrue(trial.line.chip.boots)  # type: ignore[attr-defined]

    def test_a_call_that_the_monitor_takes_otherwise_changes_nothing_and_is_told(self) -> None:
        for board, wrong, other in ((ROM, "vectors", "code"), (RESIDENT, "code", "vectors")):
            runner, trial = prepare(
                board, {"flash": sample_for(board, 600)}, options=WriteOptions(settings={"calls": wrong})
            )
            trial.line.chip.calls_code = other == "code"  # type: ignore[attr-defined]
            before = bytes(trial.line.chip.flash)
            trial.events.extend(runner.run())
            self.assertEqual(bytes(trial.line.chip.flash), before)
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (6, "refused-command"))
            self.assertIn(f"--set calls={other}", trial.findings[0].evidence[0])

    def test_two_pieces_in_one_erase_unit(self) -> None:
        pieces = (*sample_for(USB, 300).pieces, Piece(0x4400, b"wax" * 40), Piece(0x6100, b"smoke" * 9))
        trial = run(USB, {"flash": Image("lift.hex", pieces)}, start=False)
        self.assertEqual((trial.end.exit_code, trial.line.chip.violations), (0, []), trial.findings)
        self.assertTrue(trial.holds(Image("lift.hex", pieces)))

    def test_a_lock_bit_is_an_error_of_the_controller(self) -> None:
        runner, trial = prepare(ROM, {"flash": sample_for(ROM, 900)})
        chip: Any = trial.line.chip
        chip._eefc = lambda first, at, value: chip._registers.__setitem__(at + 8, 4)
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (6, "refused-data"))
        self.assertIn("locked?", trial.findings[0].evidence[0])


class Silicon(unittest.TestCase):
    def on(self, board: str, purpose: Any = "upload", **options: Any) -> Any:
        image = {"flash": sample_for(board, 3000)} if purpose in ("upload", "verify") else None
        silicon = {
            name: options.pop(name) for name in ("calls_code", "erases_at_hangup", "hangs", "kind") if name in options
        }
        runner, trial = prepare(board, image, purpose=purpose, **options)
        for name, value in silicon.items():
            setattr(trial.line.chip, name, value)
        trial.events.extend(runner.run())
        return trial

    def test_vectors_are_tried_and_then_code(self) -> None:
        for board in (ROM, ROM4, RESIDENT):
            for calls_code in (False, True):
                trial = self.on(board, calls_code=calls_code)
                self.assertEqual(
                    (trial.end.exit_code, trial.end.green), (0, True), (board, calls_code, trial.findings)
                )

    def test_a_hang_up_that_erases_is_an_erase(self) -> None:
        touched = named_hookup("usb-hangup", "high")
        for purpose in ("greet", "backup", "verify"):
            trial = self.on(ROM, purpose, hookup=touched, erases_at_hangup=True)
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "would-erase"), purpose)
            self.assertNotEqual(set(trial.line.chip.flash), {0xFF})
        trial = self.on(ROM, hookup=touched, erases_at_hangup=True)
        self.assertIn("erases all of the flash", str(trial.events))
        self.assertIn("was not seen to go", trial.step("enter").evidence)
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        trial = self.on(ROM, hookup=touched, erases_at_hangup=True, faults=("silence-after=200",))
        self.assertIn("holds no whole application", trial.end.chip_state)

    def test_by_usb_no_read_is_a_power_of_two(self) -> None:
        kind = prepare(ROM)[1].line.chip.kind  # type: ignore[attr-defined]
        trial = self.on(ROM, kind=replace(kind, usb=True), start=False)
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)

    def test_the_smallest_parts_have_room_for_the_routine(self) -> None:
        for part in Catalogue.load().of_dialect("sam-ba"):
            room = find_dialect("sam-ba").write_block(part.flash)
            end = Workshop(part.extra["work_at"]).data + room
            self.assertLessEqual(end, part.ram[0].start + part.ram[0].size, part.name)


if __name__ == "__main__":
    unittest.main()
