"""What is in the chip already is not written again; what must survive is written back."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.engine.runner import Runner
from greenstep.core.events import StepEnded
from greenstep.core.image import Image, Piece
from greenstep.core.image.edit import cut_out, with_bytes
from greenstep.core.image.granules import Granules, Remembered, granules_of, unpacked
from greenstep.core.plan.layout import make_plan, narrowed, rooms_of
from greenstep.core.plan.write_options import CompareWith, Keep, WriteOptions
from greenstep.core.spans import Span

READERS = ("stm32f072", "stm32l053", "atmega328p", "atmega2560", "lpc1769", "pic18f4620", "pic18f46k22")
SUMMERS = ("stm32c031", "lpc845", "esp32")
ALL_AT_ONCE = "atmega32u4"


def changed(image: Image, *offsets: int) -> Image:
    """The image with a bit of some bytes turned, offsets from its lowest address."""
    for offset in offsets:
        at = image.lowest + offset
        image = with_bytes(image, at, bytes([image.cut(at, 1, 0xFF)[0] ^ 1]))
    return image


def over(board: str, held: Image | None, image: Image, **options: Any) -> Trial:
    """An upload to a chip that holds another image; None: one that is blank."""
    runner, trial = prepare(board, {"flash": image}, **options)
    chip = trial.line.chip
    chip.flash[:] = bytes([0 if board == "stm32l053" else 0xFF]) * len(chip.flash)
    if held is not None:
        written = run(board, {"flash": held})
        for memory in ("flash", "eeprom"):
            if hasattr(chip, memory):
                getattr(chip, memory)[:] = getattr(written.line.chip, memory)
    trial.events.extend(runner.run())
    return trial


class OnlyWhatDiffers(unittest.TestCase):
    def green(self, trial: Trial, image: Image) -> None:
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertTrue(trial.holds(image))

    def test_nothing_changed_nothing_written(self) -> None:
        for board in (*READERS, *SUMMERS):
            with self.subTest(board):
                image = sample_for(board, 4500)
                again = over(board, image, image)
                self.green(again, image)
                hidden = "lpc" in board  # whose first bytes are hidden by the boot ROM
                self.assertEqual(int(again.step("compare").figures["differing"]), 1 if hidden else 0)
                if not hidden:
                    self.assertEqual(again.step("write").evidence, "nothing to write")
                    self.assertIn("compared before, ", again.step("verify").evidence)
                    self.assertGreaterEqual(int(again.step("compare").figures["same_bytes"]), 4500)

    def test_one_changed_unit_is_all_that_is_erased_and_written(self) -> None:
        for board in (*READERS, "stm32c031", "lpc845"):
            if board == "atmega2560":  # all or nothing
                continue
            with self.subTest(board):
                image = sample_for(board, 9000 if "lpc" in board else 6000)
                later = changed(image, 5000)
                trial = over(board, image, later)
                self.green(trial, later)
                number = int(trial.step("compare").figures["differing"])
                self.assertEqual(number, 2 if "lpc" in board else 1)
                self.assertLess(int(trial.step("write").figures["bytes"]), 0.92 * image.size_bytes)
                self.assertIn("; compared before, ", trial.step("verify").evidence)
                self.assertEqual(trial.line.chip.violations, [])

    def test_by_md5_of_an_esp32(self) -> None:
        pages = Image("pages", (Piece(0x290000, bytes(range(1, 251)) * 400),))
        later = changed(pages, 60_000)
        trial = over("esp32", pages, later)
        self.green(trial, later)
        self.assertEqual(trial.step("compare").figures["how"], "checksum")
        self.assertEqual(int(trial.step("write").figures["bytes"]), 4096)

    def test_scattered_changes(self) -> None:
        image = sample_for("atmega328p", 20_000)
        places = (0x30, 300, 4000, 4100, 4200, 4300, 4400, 4500, 12_000, 19_999)
        for end in (3, 6, len(places)):
            later = changed(image, *places[:end])
            trial = over("atmega328p", image, later)
            self.green(trial, later)
            pages = {place // 128 for place in places[:end]}
            written = int(trial.step("write").figures["bytes"]) // 128
            self.assertLessEqual(len(pages), written)
            self.assertLess(written, len(pages) + 6)

    def test_a_blank_chip_is_not_read_all_over(self) -> None:
        for board in ("stm32f072", "stm32l053", "atmega328p", "lpc1769", "pic18f46k22", "esp32"):
            with self.subTest(board):
                image = sample_for(board, 9000)
                trial = over(board, None, image)
                self.green(trial, image)
                self.assertLess(trial.step("compare").elapsed_s, 0.09 * trial.end.elapsed_s)

    def test_a_tail_that_moved(self) -> None:
        """An inserted byte moves all behind it: what lies before is left alone."""
        image = sample_for("stm32f103", 20_000)
        piece = image.pieces[0]
        later = Image("later", (Piece(piece.address, piece.data[:12_000] + b"\x55" + piece.data[12_000:-1]),))
        trial = over("stm32f103", image, later)
        self.green(trial, later)
        self.assertEqual(trial.step("compare").figures["same_bytes"], 11 * 1024)

    def test_all_at_once_is_written_without_reading(self) -> None:
        image = sample_for(ALL_AT_ONCE, 3000)
        trial = over(ALL_AT_ONCE, image, image)
        self.green(trial, image)
        self.assertEqual((trial.step("compare").outcome, trial.step("compare").elapsed_s), ("not reached", 0.0))

    def test_where_it_is_not_wanted(self) -> None:
        image = sample_for("stm32f072", 3000)
        for options in (
            {"compare": False},
            {"options": WriteOptions(erase_all=True)},
            {"options": WriteOptions(verify=False)},
        ):
            trial = over("stm32f072", image, image, **options)
            self.assertIsNone(trial.step_or_none("compare"))
            self.assertEqual(trial.step("write").evidence, "12 blocks of up to 256")

    def test_eeprom_too(self) -> None:
        flash, eeprom = sample_for("atmega2560", 3000), Image("names", (Piece(0, bytes(range(64))),))
        runner, trial = prepare("atmega2560", {"flash": flash, "eeprom": eeprom})
        trial.line.chip.eeprom[:64] = bytes(range(64))  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0)
        self.assertIn("eeprom: read back: nothing differs", trial.step("compare").evidence)

    def test_a_chip_that_refuses_to_be_read_is_not_compared(self) -> None:
        runner, trial = prepare("stm32f072", {"flash": sample_for("stm32f072", 3000)})
        for event in runner.run():
            trial.events.append(event)
            if isinstance(event, StepEnded) and event.step == "chip":
                trial.line.chip.locked = True  # type: ignore[attr-defined]
        self.assertEqual(trial.step("compare").outcome, "not reached")
        self.assertIn("refuses to be read", trial.step("compare").evidence)
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "locked"))


class TakenUpAgain(unittest.TestCase):
    def test_what_was_written_before_the_cut_is_found_by_reading(self) -> None:
        for board, place in (("atmega328p", 9000), ("stm32f072", 9000), ("pic18f46k22", 9000), ("lpc1769", 14_000)):
            with self.subTest(board):
                image = sample_for(board, 12_000)
                runner, broken = prepare(board, {"flash": image}, faults=(f"cut-after={place}",), compare=False)
                broken.events.extend(runner.run())
                self.assertNotEqual(broken.end.exit_code, 0)
                runner, after = prepare(board, {"flash": image})
                for memory in ("flash", "eeprom"):
                    if hasattr(after.line.chip, memory):
                        getattr(after.line.chip, memory)[:] = getattr(broken.line.chip, memory)
                after.events.extend(runner.run())
                self.assertEqual(after.end.exit_code, 0, after.findings)
                self.assertTrue(after.holds(image))
                self.assertGreater(int(after.step("compare").figures["same_bytes"]), 2000)


class DamagedOnTheWay(unittest.TestCase):
    def test_a_sign_of_damage_has_everything_looked_at_again(self) -> None:
        image = sample_for("atmega328p", 6000)
        later = changed(image, 3000)
        clean = over("atmega328p", image, later)
        again = 0
        for place in range(clean.line.to_chip_count - 170, clean.line.to_chip_count - 20, 13):
            trial = over("atmega328p", image, later, faults=(f"flip-to-chip={place}:10",))
            if trial.end.exit_code == 0:
                self.assertTrue(trial.holds(later), place)
                again += trial.step("verify").evidence == "read back, 6,000 bytes equal"
        self.assertGreater(again, 2)

    def test_what_was_read_wrongly_is_not_written_where_nothing_guards_its_address(self) -> None:
        """It could go elsewhere, and would not be missed at its place."""
        image = sample_for("atmega328p", 4500)

        def again(*faults: str) -> tuple[Runner, Trial]:
            runner, trial = prepare("atmega328p", {"flash": image}, faults)
            trial.line.chip.flash[: image.end] = changed(image, 20).pieces[0].data  # type: ignore[attr-defined]
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)
            self.assertEqual(trial.step("compare").figures["differing"], 1)
            return runner, trial

        link = again()[0].outcome.link
        assert link is not None
        place = link.between(0, None, "heard").index(image.cut(0x600, 32, 0xFF)) + 40
        _, hurt = again(f"flip-to-host={place}:04")
        self.assertIn("compared before is checked again", str(hurt.events))


class ByTheJournal(unittest.TestCase):
    """stm32f103: it tells a number of its own, and sums nothing."""

    def runner(
        self, held: Image, image: Image, recall: Any, spoil: int | None = None, board: str = "stm32f103"
    ) -> Trial:
        runner, trial = prepare(board, {"flash": image}, recall=recall)
        job = runner.job
        runner.job = replace(job, options=replace(job.options, compare=CompareWith.JOURNAL))
        written = run(board, {"flash": held})
        trial.line.chip.flash[:] = written.line.chip.flash
        if spoil is not None:
            trial.line.chip.flash[spoil : spoil + 4096] = bytes(4096)
        trial.events.extend(runner.run())
        return trial

    def test_what_differs_from_the_last_upload_is_written_and_the_rest_sampled(self) -> None:
        image = sample_for("stm32f103", 30_000)
        later = changed(image, 15_000)
        asked: list[tuple[str, str]] = []

        def recall(number: str, chip: str) -> Remembered:
            asked.append((number, chip))
            return Remembered(41, granules_of(image, 0xFF))

        trial = self.runner(image, later, recall)
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertTrue(trial.holds(later))
        self.assertEqual(asked, [("303132333435363738393A3B", "stm32f10x-medium")])
        self.assertRegex(
            trial.step("verify").evidence,
            r"^sampled: 1,024 bytes written, read back and equal; [\d,]+ of the other 28,976 seen; the rest by journal 41$",
        )
        self.assertIn("journal 41 and the chip's number agree", trial.step("compare").evidence)
        full = self.runner(image, later, None)
        self.assertLess(_at_work(trial), 0.4 * _at_work(full))

    def test_a_chip_that_was_written_by_others_is_not_trusted(self) -> None:
        image = sample_for("stm32f103", 20_000)
        trial = self.runner(image, image, lambda number, chip: Remembered(7, granules_of(image, 0xFF)), spoil=0x2000)
        notes = " ".join(str(getattr(event, "text", "")) for event in trial.events)
        self.assertIn("journal 7 is not trusted: the chip holds something else", notes)
        self.assertTrue(trial.holds(image))
        self.assertNotIn("sampled", trial.step("verify").evidence)

    def test_without_a_number_or_a_row_it_is_read(self) -> None:
        image = sample_for("atmega328p", 3000)
        trial = self.runner(image, image, None, board="atmega328p")
        self.assertIn("read back: nothing differs", trial.step("compare").evidence)
        self.assertTrue(any("has no number of its own" in getattr(event, "text", "") for event in trial.events))
        trial = self.runner(*2 * [sample_for("stm32f103", 3000)], None)
        self.assertTrue(any("not known, or was not green" in getattr(event, "text", "") for event in trial.events))

    def test_an_esp8266_is_compared_by_the_journal_unasked(self) -> None:
        image = sample_for("esp8266", 30_000)
        written = run("esp8266", {"flash": image})
        runner, trial = prepare(
            "esp8266", {"flash": image}, recall=lambda n, c: Remembered(3, granules_of(image, 0xFF))
        )
        trial.line.chip.flash[:] = written.line.chip.flash
        trial.events.extend(runner.run())
        self.assertEqual(trial.step("compare").figures["how"], "journal")
        self.assertTrue(trial.step("verify").evidence.startswith("sampled: "))
        unknown = run("esp8266", {"flash": image})
        self.assertEqual(unknown.step("compare").evidence, "not compared: reading is slower than writing here")

    def test_sectors_that_go_with_others_are_written_too(self) -> None:
        pages = Image("pages", (Piece(0x80000, b"queen" * 20_000),))
        written = run("esp8266", {"flash": pages})
        for offset in (5000, 99_990):
            later = changed(pages, offset)
            runner, trial = prepare(
                "esp8266", {"flash": later}, recall=lambda n, c: Remembered(3, granules_of(pages, 0xFF))
            )
            trial.line.chip.flash[:] = written.line.chip.flash
            trial.events.extend(runner.run())
            self.assertEqual(trial.end.exit_code, 0, trial.findings)
            self.assertTrue(trial.holds(later), offset)
            self.assertLessEqual(int(trial.step("write").figures["bytes"]), 8192)


def _laid_over(trial: Trial, address: int, aside: bytes) -> bytes:
    """The bytes that were put aside, and where none were what the chip holds."""
    chip = trial.line.chip
    in_chip = chip.flash[address - chip.base : address - chip.base + len(aside)]
    return bytes(a if a != 0xFF else b for a, b in zip(aside, in_chip, strict=True))


def _at_work(trial: Trial) -> float:
    return sum(trial.step(name).elapsed_s for name in ("compare", "erase", "write", "verify"))


class GranulesOfImages(unittest.TestCase):
    def test_packed_and_unpacked(self) -> None:
        small = granules_of(Image("a", (Piece(100, b"hive" * 200), Piece(5000, b"\x01"))), 0xFF)
        self.assertEqual((small.step, sorted(small.digests)), (256, [0, 256, 512, 768, 4864]))
        self.assertEqual(unpacked(small.packed()), small)
        for wrong in (b"", b"gsg1", small.packed()[:-1], b"x" + small.packed()[1:], b"gsg1" + bytes(4)):
            self.assertIsNone(unpacked(wrong))

    def test_same_where_the_bytes_are(self) -> None:
        one = granules_of(Image("a", (Piece(0, bytes(1000)),)), 0xFF)
        other = granules_of(Image("a", (Piece(0, bytes(700) + b"\x01" + bytes(299)),)), 0xFF)
        self.assertTrue(one.same(other, 0, 512))
        self.assertFalse(one.same(other, 500, 100))
        self.assertFalse(one.same(other, 900, 200))
        self.assertFalse(one.same(Granules(4096, one.digests), 0, 10))


class Narrowing(unittest.TestCase):
    def test_rooms_and_what_is_left(self) -> None:
        runner, trial = prepare("stm32f103", {"flash": sample_for("stm32f103", 5000)})
        trial.events.extend(runner.run())
        job, part = runner.job, runner.outcome.part
        assert part is not None
        plan = make_plan(part, job.dialect, job.images, job.options)
        rooms = rooms_of(plan.memories[0], 256)
        self.assertEqual([room.size_bytes for room in rooms], [1024] * 4 + [904])
        made = narrowed(plan, job.dialect, job.options, {"flash": [rooms[1], rooms[4]]}).memories[0]
        self.assertEqual([unit.number for unit in made.units], [1, 4])
        self.assertEqual(made.checks, (Span.of(0x08000400, 1024), Span.of(0x08001000, 904)))
        self.assertEqual(made.compared, (Span.of(0x08000000, 1024), Span.of(0x08000800, 2048)))
        none = narrowed(plan, job.dialect, job.options, {"flash": []})
        self.assertEqual(
            (none.units, none.write_bytes, none.memories[0].compared), (0, 0, (Span.of(0x08000000, 5000),))
        )
        self.assertEqual(narrowed(plan, job.dialect, job.options, {}).memories, plan.memories)


class Drawer:
    """Where room is put aside."""

    name = "kept.hex"
    earlier: tuple[str, ...] = ()

    def __init__(self) -> None:
        self.image: Image | None = None
        self.whose = ""
        self.dropped = False

    def put(self, image: Image, whose: str) -> Drawer:
        self.image, self.whose = image, whose
        return self

    def drop(self) -> None:
        self.dropped = True


class Kept(unittest.TestCase):
    def upload(
        self, board: str, keep: tuple[Keep, ...], content: dict[int, bytes], size: int = 3000, **options: Any
    ) -> Trial:
        runner, trial = prepare(board, {"flash": sample_for(board, size)}, **options)
        job = runner.job
        runner.job = replace(job, options=replace(job.options, keep=keep))
        chip = trial.line.chip
        for address, data in content.items():
            chip.flash[address - chip.base : address - chip.base + len(data)] = data
        trial.events.extend(runner.run())
        return trial

    def survives(self, trial: Trial, content: dict[int, bytes]) -> bool:
        chip = trial.line.chip
        return all(chip.flash[a - chip.base : a - chip.base + len(d)] == d for a, d in content.items())

    def test_beside_the_image_in_the_same_unit(self) -> None:
        for board, address in (("stm32f072", 0x08000DAC), ("atmega328p", 3010), ("atmega32u4", 5010), ("lpc1769", 3700),
                               ("atmega2560", 3010), ("pic18f4620", 0xDBA)):  # fmt: skip
            with self.subTest(board):
                content = {address: bytes(range(40))}
                trial = self.upload(board, (Keep(address, 40, "settings"),), content)
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertTrue(self.survives(trial, content))
                self.assertIn("read in two ways and equal: written back", trial.step("keep").evidence)
                self.assertTrue(trial.holds(sample_for(board, 3000)))

    def test_between_pieces_of_a_sector(self) -> None:
        pieces = Image("pages", (Piece(0x290000, b"queen" * 100), Piece(0x290800, b"drone" * 100)))
        runner, trial = prepare("esp32", {"flash": pieces})
        runner.job = replace(runner.job, options=replace(runner.job.options, keep=(Keep(0x290300, 64),)))
        trial.line.chip.flash[0x290300:0x290340] = b"settings" * 8
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertEqual(bytes(trial.line.chip.flash[0x290300:0x290340]), b"settings" * 8)

    def test_behind_an_odd_number_of_sectors_of_an_esp8266(self) -> None:
        """Its ROM erases them in twos: the sector behind goes with the last."""
        pages = Image("pages", (Piece(0x80000, b"queen" * 700),))
        runner, trial = prepare("esp8266", {"flash": pages})
        runner.job = replace(runner.job, options=replace(runner.job.options, keep=(Keep(0x81100, 64),)))
        trial.line.chip.flash[0x81100:0x81140] = b"settings" * 8
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertEqual(bytes(trial.line.chip.flash[0x81100:0x81140]), b"settings" * 8)

    def test_every_kept_byte_is_proven_where_an_image_is_only_sampled(self) -> None:
        pages = Image("pages", (Piece(0x80000, b"queen" * 12_000),))
        drawer = Drawer()
        keep = (Keep(0x8EB00, 200),)
        for worn in ("", "worn=0x8EB41"):
            runner, trial = prepare("esp8266", {"flash": pages}, put_aside=drawer.put, faults=(worn,) if worn else ())
            runner.job = replace(runner.job, options=replace(runner.job.options, keep=keep))
            trial.line.chip.flash[0x8EB00:0x8EBC8] = bytes(range(200))
            drawer.dropped = False
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code, drawer.dropped), (7, False) if worn else (0, True), trial.findings)

    def test_left_alone_where_nothing_there_is_erased(self) -> None:
        content = {0x08002000: b"settings"}
        trial = self.upload("stm32f072", (Keep(0x08002000, 8),), content)
        self.assertEqual(trial.step("keep").evidence, "08002000-08002007: left alone")
        self.assertTrue(self.survives(trial, content))

    def test_put_aside_until_it_is_proven(self) -> None:
        drawer = Drawer()
        keep, content = (Keep(0x08000DAC, 40),), {0x08000DAC: bytes(range(40))}
        trial = self.upload("stm32f072", keep, content, put_aside=drawer.put)
        assert drawer.image is not None
        self.assertEqual(drawer.whose, "stm32f07x-303132333435363738393A3B")
        self.assertEqual((drawer.image.pieces, drawer.dropped), ((Piece(0x08000DAC, bytes(range(40))),), True))
        drawer.dropped = False
        trial = self.upload("stm32f072", keep, content, put_aside=drawer.put, faults=("cut-after=1500",))
        self.assertNotEqual(trial.end.exit_code, 0)
        self.assertFalse(drawer.dropped)
        self.assertIn("What was to be kept is in kept.hex", trial.end.chip_state)

    def test_wherever_it_is_cut_off_the_bytes_are_in_the_chip_or_put_aside(self) -> None:
        for board, address in (("stm32f072", 0x08000DAC), ("atmega328p", 3010), ("pic18f4620", 0xDBA)):
            keep, data = (Keep(address, 30, "settings"),), bytes(range(100, 130))
            whole = self.upload(board, keep, {address: data})
            outcomes = set()
            for percent in range(4, 108, 8):
                drawer = Drawer()
                place = whole.line.to_chip_count * percent // 100
                fault = f"cut-after={place}"
                trial = self.upload(board, keep, {address: data}, put_aside=drawer.put, faults=(fault,))
                there = self.survives(trial, {address: data})
                # what of the room was never going to be erased is not put aside: that is still in the chip
                held = b"" if drawer.image is None else drawer.image.cut(address, 30, 0xFF)
                aside = not drawer.dropped and _laid_over(trial, address, held) == data
                self.assertTrue(there or aside, (board, percent))
                outcomes.add(there)
            self.assertIn(True, outcomes)

    def test_what_cannot_be_read_refuses_the_upload(self) -> None:
        trial = self.upload("smoke-fan", (Keep(3010, 20, "settings"),), {})
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "keeps"))
        trial = self.upload("lpc1769", (Keep(0x30, 8),), {}, size=3000)
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "keeps"))

    def test_a_changed_unit_elsewhere_leaves_it_alone(self) -> None:
        image = sample_for("stm32f103", 9000)
        keep = (Keep(image.end + 4, 16),)
        runner, trial = prepare("stm32f103", {"flash": changed(image, 100)})
        runner.job = replace(runner.job, options=replace(runner.job.options, keep=keep))
        chip = trial.line.chip
        chip.flash[:9000] = cut_out(image, image.lowest, image.end).pieces[0].data
        chip.flash[9004:9020] = b"0123456789abcdef"
        trial.events.extend(runner.run())
        self.assertIn("left alone", trial.step("keep").evidence)
        self.assertEqual(bytes(chip.flash[9004:9020]), b"0123456789abcdef")


if __name__ == "__main__":
    unittest.main()
