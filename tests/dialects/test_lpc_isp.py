"""`lpc-isp`: lines as NXP UM10360 has them, and what a strict part refuses."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from greenstep.bench.boards import BOARDS
from greenstep.bench.families.lpc import RAM, SimulatedLpc
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.errors import ChipRefusal, RefusalKind
from greenstep.core.dialects.lpc_isp import Command, LpcIsp, uu_line
from greenstep.core.dialects.results import WriteBlock
from greenstep.core.errors import RefusedFault
from greenstep.core.events import Noted
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.hookup.drive import Driver
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings
from greenstep.core.plan.write_options import WriteOptions

from ..scripted import ScriptedLink
from .observed import dialect_of, notes, strict

LPC1769 = Catalogue.load().find("lpc1769").first
LPC812 = Catalogue.load().find("lpc812").first


class Lines(unittest.TestCase):
    def talk(self, *script: tuple[str, str], part: object = LPC1769) -> LpcIsp:
        link = ScriptedLink(*((sent.encode("latin-1").hex(), reply.encode().hex()) for sent, reply in script))
        self.addCleanup(lambda: self.assertTrue(link.finished(), "the script was not played to its end"))
        dialect = LpcIsp(link)
        dialect.examined_part = part  # type: ignore[assignment]
        dialect._ends_with_ok = {"W": False, "R": False}
        return dialect

    def test_the_handshake(self) -> None:
        dialect = self.talk(
            ("?", "Synchronized\r\n"), ("Synchronized\r\n", "Synchronized\r\nOK\r\n"), ("12000\r\n", "12000\r\nOK\r\n"),
            ("A 0\r\n", "A 0\r\n0\r\n"),
        )  # fmt: skip
        self.assertEqual(dialect.ask(0.2), '"Synchronized"')

    def test_an_echo_that_ends_in_cr_alone(self) -> None:
        dialect = self.talk(
            ("?", "Synchronized\r\n"), ("Synchronized\r\n", "Synchronized\rOK\r\n"), ("12000\r\n", "12000\rOK\r\n"),
            ("A 0\r\n", "A 0\r0\r\n"),
        )  # fmt: skip
        self.assertEqual(dialect.ask(0.2), '"Synchronized"')

    def test_who_is_there(self) -> None:
        identity = self.talk(("J\r\n", "0\r\n638664503\r\n"), ("K\r\n", "0\r\n2\r\n4\r\n")).identify()
        self.assertEqual((identity.ident, identity.details), (0x26113F37, (("loader", "4.2"),)))

    def test_uu_lines(self) -> None:
        # the manual's own way: a length character, four characters for three bytes, zero as '`'
        self.assertEqual(uu_line(b"\x00\x00\x00"), b"#````\r\n")
        self.assertEqual(uu_line(b"Cat"), b"#0V%T\r\n")
        self.assertEqual(len(uu_line(bytes(45))), 63)

    def test_an_encoded_copy(self) -> None:
        data = bytes(range(256))
        lines = [data[at : at + 45] for at in range(0, 256, 45)]
        sent = b"".join(uu_line(line) for line in lines).decode() + f"{sum(data)}\r\n"
        dialect = self.talk(
            ("U 23130\r\n", "0\r\n"), ("W 268437504 256\r\n", "0\r\n"), (sent, "RESEND\r\n"), (sent, "OK\r\n"),
            ("P 16 16\r\n", "0\r\n"), ("C 65536 268437504 256\r\n", "0\r\n"),
        )  # fmt: skip
        blocks = [WriteBlock(0x10000, data)]
        self.assertEqual(list(dialect.write(LPC1769.flash, blocks)), blocks)
        self.assertEqual(dialect.retries, 1)

    def test_sectors_are_prepared_before_they_are_erased(self) -> None:
        dialect = self.talk(
            ("U 23130\r\n", "0\r\n"), ("A 1\r\n", "0\r\n"), ("P 0 2\r\n", "P 0 2\r\n0\r\n"),
            ("E 0 2\r\n", "E 0 2\r\n0\r\n"), ("A 0\r\n", "A 0\r\n0\r\n"), ("P 17 17\r\n", "0\r\n"), ("E 17 17\r\n", "0\r\n"),
        )  # fmt: skip
        units = [*LPC1769.flash.units_touched(0, 0x3000), *LPC1769.flash.units_touched(0x18000, 1)]
        self.assertEqual([unit.number for unit in units], [0, 1, 2, 17])
        self.assertEqual(list(dialect.erase(LPC1769.flash, units)), [3, 4])

    def test_reading_asks_for_whole_words_and_says_ok(self) -> None:
        shown = uu_line(bytes(range(8))).decode() + "28\r\n"
        damaged = shown.replace("28", "29")
        dialect = self.talk(("R 512 8\r\n", "0\r\n" + damaged), ("RESEND\r\n", shown), ("OK\r\n", ""))
        self.assertEqual(dialect.read(LPC1769.flash, 0x202, 5), bytes([2, 3, 4, 5, 6]))

    def test_plain_data(self) -> None:
        dialect = self.talk(("R 1024 4\r\n", "0\r\nabcd"), part=LPC812)
        self.assertEqual(dialect.read(LPC812.flash, 0x400, 4), b"abcd")

    def test_copies_are_of_the_counts_there_are(self) -> None:
        data = b"\x11" * 320  # 256 + 64
        dialect = self.talk(
            ("U 23130\r\n", "0\r\n"), ("W 268437504 256\r\n", "0\r\n"), ("\x11" * 256 + "P 1 1\r\n", "0\r\n"),
            ("C 1024 268437504 256\r\n", "0\r\n"), ("W 268437504 64\r\n", "0\r\n"), ("\x11" * 64 + "P 1 1\r\n", "0\r\n"),
            ("C 1280 268437504 64\r\n", "0\r\n"), part=LPC812,
        )  # fmt: skip
        list(dialect.write(LPC812.flash, [WriteBlock(0x400, data)]))

    def test_codes_are_said_in_words(self) -> None:
        for code, said, kind in (
            (19, "code read protection on", RefusalKind.LOCKED),
            (13, "address error", RefusalKind.BAD_ADDRESS),
            (8, "sector not blank", RefusalKind.BAD_DATA),
        ):
            with self.subTest(code), self.assertRaises(ChipRefusal) as caught:
                self.talk(("R 512 4\r\n", f"{code}\r\n"))._command(Command.READ, 512, 4)
            self.assertEqual((caught.exception.said, caught.exception.kind), (f"return code {code}, {said}", kind))

    def test_rate(self) -> None:
        dialect = self.talk(("B 230400 1\r\n", "0\r\n"), ("J\r\n", "0\r\n1\r\n"))
        dialect.move_to_rate(LPC1769, 230400)
        self.assertEqual(dialect.link.settings.baud, 230400)


class DamagedOrders(unittest.TestCase):
    def test_an_address_that_the_chip_does_not_know_is_said_once_more(self) -> None:
        image = sample_for("lpc812", 300)
        runner, _ = prepare("lpc812", {"flash": image})
        list(runner.run())
        sent = runner.outcome.link.between(0, None, "sent")
        for order in (b"R 512", b"W 268437504"):
            place = sent.index(order) + 2
            for fault in (f"drop-to-chip={place}", f"flip-to-chip={place}:08"):
                trial = run("lpc812", {"flash": image}, faults=(fault,))
                self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), (order, fault))


class Unseen(unittest.TestCase):
    def test_what_the_rom_hides_is_ordered_aloud(self) -> None:
        """A damaged erase, prepare or copy of the bytes hidden by the boot ROM would be seen by nothing else."""
        image = sample_for("lpc812", 300)
        clean = run("lpc812", {"flash": image})
        taken_up = 0
        faults = [f"flip-to-chip={place}:02" for place in range(54, 66)]
        faults += [f"flip-to-chip={clean.line.to_chip_count - at}:01" for at in range(1, 36)]
        for fault in faults:
            runner, trial = prepare("lpc812", {"flash": image}, faults=(fault,))
            trial.line.chip.flash[:] = bytes(len(trial.line.chip.flash))
            trial.events.extend(runner.run())
            self.assertTrue(trial.end.exit_code or trial.holds(image), fault)
            again = any(isinstance(event, Noted) and "resumed" in event.text for event in trial.events)
            taken_up += trial.end.exit_code == 0 and again
        self.assertGreater(taken_up, 5)


class StrictPart(unittest.TestCase):
    def setUp(self) -> None:
        line = BOARDS["lpc1769"].build()
        hookup = named_hookup("dtr-reset-rts-boot", "low")
        self.link = VirtualLink(line, LineSettings(115200), hookup.idle_lines)
        assert hookup.enter is not None and isinstance(line.chip, SimulatedLpc)
        Driver(self.link, hookup).run(hookup.enter)
        self.chip = line.chip
        self.talk = [self.say(text) for text in ("?", "Synchronized\r\n", "12000\r\n", "A 0\r\n")]

    def say(self, text: str) -> str:
        self.link.write(text.encode())
        return self.link.read(200, 0.2).decode().strip()

    def test_the_handshake_is_echoed(self) -> None:
        self.assertEqual(self.talk, ["Synchronized", "Synchronized\r\nOK", "12000\r\nOK", "A 0\r\n0"])

    def test_refusals(self) -> None:
        for text, code in (
            ("P 0 0", "15"), ("U 1", "16"), ("U 23130", "0"), ("E 0 0", "9"), ("P 0 99", "7"), (f"C 0 {RAM + 0x800} 256", "9"),
            (f"C 100 {RAM + 0x800} 256", "3"), (f"C 0 {RAM + 0x800} 300", "6"), ("R 1 4", "13"), ("R 0 5", "6"), ("S 0 4", "1"),
            ("Q", "1"), ("R 0", "12"), ("B 1234 1", "17"),
        ):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(self.say(text + "\r\n"), code)

    def test_the_rom_lies_over_the_first_bytes(self) -> None:
        self.assertNotEqual(self.chip._seen(0, 64), bytes(self.chip.flash[:64]))
        self.assertEqual(self.chip._seen(64, 64), bytes(self.chip.flash[64:128]))
        self.assertEqual(self.say("M 64 68 4\r\n").split("\r\n")[0], "10")

    def test_another_character_than_the_question_measures_a_wrong_rate(self) -> None:
        line = BOARDS["lpc1769"].build()
        hookup = named_hookup("dtr-reset-rts-boot", "low")
        link = VirtualLink(line, LineSettings(115200), hookup.idle_lines)
        assert hookup.enter is not None
        Driver(link, hookup).run(hookup.enter)
        link.write(b"A?")
        self.assertEqual(link.read(20, 0.2), b"")
        self.assertIn("rate measured on 41", line.chip.violations[0])


class TwoBanks(unittest.TestCase):
    """LPC18xx and 43xx: P and E name a bank, J tells two words, the flash does not begin at 0."""

    def test_both_words_of_the_number_and_no_more(self) -> None:
        part = Catalogue.load().find("lpc4357").first
        link = ScriptedLink(
            *(
                (sent.encode().hex(), reply.encode().hex())
                for sent, reply in (("J\r\n", "0\r\n2684471344\r\n4278190148\r\n"), ("K\r\n", "0\r\n2\r\n4\r\n"))
            )
        )
        dialect = LpcIsp(link)
        identity = dialect.identify()
        self.assertTrue(link.finished())
        self.assertEqual((identity.ident, identity.said), (0xA001C83044, "part id A001C830 FF000044"))
        self.assertEqual(part.ident, 0xA001C83000)

    def test_an_upload_with_its_sum_and_a_backup_of_all(self) -> None:
        image = sample_for("lpc4357", 3000)
        runner, trial = prepare("lpc4357", {"flash": image}, expect="entrance counter 1.2")
        before = bytes(trial.line.chip.flash[0x4000:])
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.end.green, trial.line.chip.violations), (0, True, []))
        self.assertTrue(trial.holds(image))
        self.assertEqual(bytes(trial.line.chip.flash[0x4000:]), before)
        vectors = bytes(trial.line.chip.flash[:32])
        self.assertEqual(
            sum(int.from_bytes(vectors[at : at + 4], "little") for at in range(0, 32, 4)) & 0xFFFFFFFF, 0
        )
        saved = run("lpc4357", purpose="backup", region=("flash", 0x1A000000, 0x400))
        self.assertEqual((saved.end.exit_code, saved.end.green), (0, True), saved.findings)
        self.assertNotIn("hidden", saved.step("read").evidence)

    def test_the_second_bank_and_a_smaller_chip_are_refused(self) -> None:
        image = sample_for("lpc4357", 900)
        second = Image(image.name, (*image.pieces, Piece(0x1B000000, bytes(512))))
        trial = run("lpc4357", {"flash": second})
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "does-not-fit"))
        trial = run("lpc4357", purpose="greet", chip="lpc4353")
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "other-chip"))
        self.assertIn("LPC4357", trial.findings[0].cause)


class Lpc(unittest.TestCase):
    def protected(self, word: int) -> dict[str, Image]:
        piece = sample_for("lpc1769", 3000).pieces[0]
        data = piece.data[:0x2FC] + word.to_bytes(4, "little") + piece.data[0x300:]
        return {"flash": Image("counter.hex", (Piece(0, data),))}

    def test_the_vector_sum_is_put_in_and_the_file_left_alone(self) -> None:
        image = sample_for("lpc1769", 3000)
        before = image.pieces[0].data
        trial = run("lpc1769", {"flash": image})
        self.assertIn("filled in at 001C", notes(trial))
        self.assertEqual(image.pieces[0].data, before)
        self.assertIn("2,936 bytes equal", trial.step("verify").evidence)
        self.assertIn("the first 64 are hidden by the boot ROM", trial.step("verify").evidence)

    def test_what_lies_behind_the_rom_is_not_green_even_if_the_program_runs(self) -> None:
        image = sample_for("lpc812", 3000)
        for faults, expect, status in (
            ((), "", 0), ((), "entrance", 0), (("worn=0x10",), "", 0), (("worn=0x10",), "entrance", 8),
            (("worn=0x110",), "entrance", 0),
        ):  # fmt: skip
            with self.subTest(faults=faults, expect=expect):
                trial = run("lpc812", {"flash": image}, faults=faults, expect=expect)
                self.assertEqual((trial.end.green, trial.end.exit_code), (False, status), trial.findings)
                self.assertEqual(trial.step("verify").outcome, "unproven")
        self.assertEqual(self.verified(image, wrong_at=None), (False, 0, "unproven"))
        self.assertEqual(self.verified(image, wrong_at=0x20), (False, 0, "unproven"))
        self.assertEqual(self.verified(image, wrong_at=0x220), (False, 7, "failed"))

    def verified(self, image: Image, wrong_at: int | None) -> tuple[bool, int, str]:
        runner, trial = prepare("lpc812", {"flash": image}, purpose="verify")
        for piece in BOARDS["lpc812"].held(image).pieces:
            trial.line.chip.flash[piece.address : piece.end] = piece.data
        if wrong_at is not None:
            trial.line.chip.flash[wrong_at] ^= 1
        trial.events.extend(runner.run())
        self.assertNotIn("before the copy", trial.step("verify").evidence)
        return trial.end.green, trial.end.exit_code, trial.step("verify").outcome

    def test_a_backup_lacks_what_the_rom_hides_and_is_not_restored_without(self) -> None:
        runner, trial = prepare("lpc812", purpose="backup", region=("flash", 0, 0x800))
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.green, trial.end.exit_code, trial.step("read").outcome), (False, 0, "unproven"))
        self.assertIn("the first 512 are hidden by the boot ROM, and are missing", trial.step("read").evidence)
        pieces = runner.outcome.backup
        self.assertEqual(pieces, (Piece(0x200, bytes(trial.line.chip.flash[0x200:0x800])),))
        with_roms_own = (Piece(0, bytes(range(3, 255)) * 2 + bytes(8) + pieces[0].data),)
        for held in (pieces, with_roms_own):
            restored = run("lpc812", {"flash": Image("saved", held)}, options=WriteOptions(as_it_was=True))
            self.assertEqual((restored.end.exit_code, restored.findings[0].key), (5, "hidden"))
        whole = BOARDS["lpc812"].held(sample_for("lpc812", 2048))
        restored = run("lpc812", {"flash": whole}, options=WriteOptions(as_it_was=True), expect="entrance")
        self.assertEqual((restored.end.exit_code, restored.holds(whole)), (0, True), restored.findings)

    def test_protection_must_be_meant_and_for_good_twice(self) -> None:
        for word, even_if, status in (
            (0x12345678, (), 5), (0x12345678, ("protection",), 0), (0x4E697370, ("protection",), 5),
            (0x4E697370, ("lock-out",), 5), (0x4E697370, ("protection", "lock-out"), 0),
        ):  # fmt: skip
            with self.subTest(f"{word:X}", even_if=even_if):
                trial = run(
                    "lpc1769", self.protected(word), options=WriteOptions(even_if=frozenset(even_if)), start=False
                )
                self.assertEqual(trial.end.exit_code, status)
                self.assertEqual(trial.holds(self.protected(word)["flash"]), status == 0)

    def test_an_image_that_is_all_hidden_is_not_called_proven(self) -> None:
        trial = run("lpc1114", {"flash": sample_for("lpc1114", 300)}, start=False)
        self.assertEqual((trial.end.green, trial.step("verify").outcome), (False, "unproven"))
        self.assertIn("the first 300 are hidden by the boot ROM", trial.step("verify").evidence)

    def test_the_crystal_is_what_was_said(self) -> None:
        runner, trial = prepare("lpc1769", purpose="greet", options=WriteOptions(settings={"crystal-khz": 14746}))
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0)
        sent = runner.outcome.link.between(0, None, "sent")
        self.assertIn(b"14746\r\n", sent)

    def test_crc_where_the_part_has_it(self) -> None:
        trial = run("lpc845", {"flash": sample_for("lpc845", 9000)})
        self.assertIn("the chip's own checksum, 8,488 bytes", trial.step("verify").evidence)

    def test_a_faster_rate_is_told_to_the_rom(self) -> None:
        trial = run("lpc1769", {"flash": sample_for("lpc1769", 3000)}, settings=LineSettings(230400))
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn("now at 230400", notes(trial))

    def answers(self, ident: int, **options: Any) -> Trial:
        runner, trial = prepare("lpc1114", {"flash": sample_for("lpc1114", 2000)}, **options)
        kind = trial.line.chip.kind  # type: ignore[attr-defined]
        trial.line.chip.kind = replace(kind, ident=ident)  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        return trial

    def test_numbers_of_other_lots_and_packages_are_the_parts(self) -> None:
        for ident in (0x2540102B, 0x0A40902B, 0x1A40902B, 0x00040070):
            trial = self.answers(ident)
            self.assertEqual(
                (trial.end.exit_code, trial.step("chip").figures["part"]), (0, "lpc1114"), trial.findings
            )

    def test_another_parts_number_is_another_chip_and_an_unknown_one_is_asked_about(self) -> None:
        other = self.answers(0x3D00002B)
        self.assertEqual((other.end.exit_code, other.findings[0].key), (5, "other-chip"))
        self.assertIn("LPC1343 answered", other.findings[0].cause)
        unknown = self.answers(0x2540AAAA)
        self.assertEqual((unknown.end.exit_code, unknown.findings[0].key), (5, "other-chip"))
        self.assertIn("--also-accept", unknown.findings[0].attempts[1])
        self.assertEqual(self.answers(0x2540AAAA, also_accepts=frozenset({0x2540AAAA})).end.exit_code, 0)

    def test_the_protection_word_of_an_arm7_stands_elsewhere(self) -> None:
        part = Catalogue.load().find("lpc2148").first
        vectors = b"".join(word.to_bytes(4, "little") for word in (0xE59FF018,) * 8)
        for place, refused in ((0x1FC, True), (0x2FC, False)):
            data = bytearray(vectors.ljust(0x400, b"\x00"))
            data[place : place + 4] = (0x87654321).to_bytes(4, "little")
            images = {"flash": Image("counter", (Piece(0, bytes(data)),))}
            if refused:
                with self.assertRaises(RefusedFault) as caught:
                    dialect_of("lpc1769").fit(part, images, {}, frozenset())
                self.assertIn("01FC", caught.exception.findings[0].evidence[0])
                continue
            told = dialect_of("lpc1769").fit(part, images, {"crystal-khz": 14746}, frozenset())
            self.assertIn("crystal taken as 14746 kHz", told.notes[-1])

    def test_a_rate_that_the_rom_refuses_is_not_gone_to(self) -> None:
        trial = run("lpc1769", {"flash": sample_for("lpc1769", 900)}, settings=LineSettings(460800))
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn("460800 baud is refused: still at 115200 baud", notes(trial))

    def test_unlocking_erases(self) -> None:
        trial = run("lpc1769", purpose="unlock")
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "not-locked"))
        trial = run("lpc1769", purpose="unlock", faults=("locked",))
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
        self.assertIn("it can be read", trial.step("unlock").evidence)
        self.assertEqual((set(trial.line.chip.flash), strict(trial)), ({0xFF}, []))


if __name__ == "__main__":
    unittest.main()
