"""What every dialect must do alike, on each of its simulated boards, and what a board's settings change."""

from __future__ import annotations

import re
import unittest
from dataclasses import replace
from typing import Any
from unittest.mock import patch

from greenstep.bench.boards import BOARDS
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.registry import dialect_names, find_dialect
from greenstep.core.dialects.settings import read_settings
from greenstep.core.errors import RefusedFault, UsageFault
from greenstep.core.events import Noted
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings
from greenstep.core.plan.write_options import Keep, TalkLine, WriteOptions

from ..sample import KINDS, boards, some
from .scripted import ScriptedLink

SIZES = (700, 1800)

_XMODEM = {"smoke-fan", "xmodem-sum", "xmodem-crc", "ymodem", "ymodem-once", "ymodem-twice", "efr32", "efm32", "w600"}
SHOW_A_PART = {"esp8266", "lpc812", "lpc845", "lpc1114", "lpc1769", "m480", *_XMODEM}
"""Boards whose loader hides some of the image, shows it too slowly to read it all unasked, or shows no more than that
it was sent something: never green."""


def dialect_of(board: str) -> Any:
    stand = BOARDS[board]
    return find_dialect(stand.dialect or Catalogue.load().find(stand.chip).dialect)


def shows_bytes(board: str) -> bool:
    """Without a password, and after a reset."""
    spec = dialect_of(board).spec
    wants_password = any(setting.name == "old" for setting in spec.settings)
    return bool(spec.reads and not spec.shows_sums_only and not spec.into_ram and not wants_password)


def notes(trial: Trial) -> str:
    return " | ".join(event.text for event in trial.events if isinstance(event, Noted))


def strict(trial: Trial) -> list[str]:
    return [v for v in trial.line.chip.violations if "busy" not in v]


class OnEveryBoard(unittest.TestCase):
    def test_uploads_are_green_and_keep_to_the_document(self) -> None:
        for board, stand in KINDS.items():
            for size in SIZES if board in boards(0) else SIZES[:1]:
                with self.subTest(board, size=size):
                    image = sample_for(board, size)
                    trial = run(
                        board, {"flash": image}, expect=stand.texts[1].removesuffix(" ready"), turnaround_s=0.004
                    )
                    self.assertEqual(
                        (trial.end.exit_code, trial.end.green), (0, board not in SHOW_A_PART), trial.findings
                    )
                    self.assertTrue(trial.holds(image))
                    self.assertEqual(strict(trial), [])

    def test_answers_without_delay_lose_nothing(self) -> None:
        """As on the UART of a single-board computer: what is sent at once meets a chip that still programs. (One
        receiver is first offered blocks that it does not take.)"""
        for board in boards(1).keys() - {"xmodem-crc"}:
            with self.subTest(board):
                trial = run(board, {"flash": sample_for(board, 2300)}, turnaround_s=0.0)
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertNotIn("repeated", notes(trial))
                self.assertNotIn("damaged", notes(trial))

    def test_a_second_upload_over_the_first(self) -> None:
        for board in boards(2):
            with self.subTest(board):
                runner, trial = prepare(board, {"flash": sample_for(board, 1800, seed=8)})
                for piece in BOARDS[board].held(sample_for(board, 2400, seed=7)).pieces:
                    at = piece.address - trial.line.chip.base
                    trial.line.chip.flash[at : at + len(piece.data)] = piece.data
                trial.events.extend(runner.run())
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertTrue(trial.holds(sample_for(board, 1800, seed=8)))

    def test_verify_says_equal_and_says_different(self) -> None:
        for board in boards(3):
            if not shows_bytes(board) or BOARDS[board].chip == "esp8266":
                continue
            with self.subTest(board):
                image = sample_for(board, 3000)
                for wrong, status in ((False, 0), (True, 7)):
                    runner, trial = prepare(board, {"flash": image}, purpose="verify")
                    for piece in BOARDS[board].held(image).pieces:
                        at = piece.address - trial.line.chip.base
                        trial.line.chip.flash[at : at + len(piece.data)] = piece.data
                    place = image.pieces[-1].address if board.startswith("esp") else image.pieces[0].address
                    trial.line.chip.flash[place - trial.line.chip.base + 1500] ^= 1 if wrong else 0
                    before = bytes(trial.line.chip.flash)
                    trial.events.extend(runner.run())
                    self.assertEqual(trial.end.exit_code, status, trial.findings)
                    self.assertEqual(bytes(trial.line.chip.flash), before)
                    self.assertEqual(strict(trial), [])

    def test_backup_reads_what_is_there(self) -> None:
        for board in boards(4):
            if not shows_bytes(board) or "esp" in BOARDS[board].chip:
                continue
            with self.subTest(board):
                runner, trial = prepare(board, purpose="backup", region=("flash", trial_base(board) + 0x400, 0x321))
                trial.events.extend(runner.run())
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertEqual(runner.outcome.backup[0].data, bytes(trial.line.chip.flash[0x400 : 0x400 + 0x321]))

    def test_backup_of_an_esp(self) -> None:
        for board in ("esp8266", "esp32", "esp32s3"):
            with self.subTest(board):
                runner, trial = prepare(board, purpose="backup", region=("flash", 0x1000, 200))
                trial.line.chip.flash[0x1000:0x10C8] = bytes(range(200))
                trial.events.extend(runner.run())
                self.assertEqual((trial.end.exit_code, runner.outcome.backup[0].data), (0, bytes(range(200))))

    def test_erase_leaves_blank_room_and_the_loader_alone(self) -> None:
        for board in some(KINDS, 40):
            kind = getattr(trial_chip(board), "kind", None)
            if not shows_bytes(board) or getattr(kind, "flash_bytes", 0) > 40_000:
                continue
            with self.subTest(board):
                room = getattr(kind, "loader_bytes", None)
                runner, trial = prepare(board, purpose="erase", bootloader_bytes=room)
                trial.events.extend(runner.run())
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertEqual(strict(trial), [])
                part = runner.outcome.part
                assert part is not None
                low, high = part.flash.usable_start - part.flash.start, part.flash.usable_end - part.flash.start
                blank = getattr(kind, "blank", bytes([part.flash.erased]))  # of a PIC16 words of 14 bits
                self.assertEqual(set(trial.line.chip.flash[low:high]), set(blank))

    def test_erase_of_a_region_of_an_esp(self) -> None:
        for board in ("esp8266", "esp32"):
            runner, trial = prepare(board, purpose="erase", region=("flash", 0xF000, 0x3000))
            trial.line.chip.flash[0xE000:0x14000] = b"\x00" * 0x6000
            trial.events.extend(runner.run())
            self.assertEqual(trial.end.exit_code, 0, trial.findings)
            flash = trial.line.chip.flash
            self.assertEqual(
                (set(flash[0xF000:0x12000]), set(flash[0xE000:0xF000]), set(flash[0x12000:0x14000])),
                ({255}, {0}, {0}),
            )

    def test_start_alone(self) -> None:
        for board in KINDS:
            with self.subTest(board):
                text = BOARDS[board].texts[0].removesuffix(" ready")
                trial = run(board, purpose="start", expect=text)
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertIn(f'heard "{text}', trial.step("start").evidence)

    def test_an_eeprom_where_there_is_one(self) -> None:
        settings = Image("settings.bin", (Piece(3, bytes(range(1, 100))),))
        for board in ("atmega2560", "atmega1280", "atmega32u4", "at90usb1286", "pic18f4520", "pic18f46k22"):
            with self.subTest(board):
                trial = run(board, {"eeprom": settings}, start=False)
                self.assertEqual(trial.end.exit_code, 0, trial.findings)
                self.assertTrue(trial.holds(settings, "eeprom"))

    def test_each_is_asked_in_an_order_and_none_shares_its_turn(self) -> None:
        turns = [find_dialect(name).spec.asking.order for name in dialect_names()]
        self.assertEqual(len(set(turns)), len(turns))
        self.assertEqual(min(turns), find_dialect("xmodem").spec.asking.order)


def trial_chip(board: str) -> Any:
    return BOARDS[board].build().chip


def trial_base(board: str) -> int:
    return int(trial_chip(board).base)


class OwnSettings(unittest.TestCase):
    def test_values_are_read_and_checked(self) -> None:
        lpc, xmodem, stm32 = (find_dialect(name) for name in ("lpc-isp", "xmodem", "stm32-rom"))
        self.assertEqual(read_settings(lpc, [("crystal-khz", "14746")]), {"crystal-khz": 14746})
        self.assertEqual(read_settings(lpc, [("crystal-khz", 16000)]), {"crystal-khz": 16000})
        self.assertEqual(
            read_settings(xmodem, [("pad", "0xFF"), ("block", "ymodem")]), {"pad": 255, "block": "ymodem"}
        )
        self.assertEqual(lpc(ScriptedLink()).setting("crystal-khz"), 12000)
        self.assertEqual(xmodem(ScriptedLink(), {"pad": 0}).setting("pad"), 0)
        for dialect, pairs, said in (
            (stm32, [("crystal-khz", 1)], "it has unit"), (lpc, [("crystal", 1)], "it has crystal-khz"),
            (lpc, [("crystal-khz", True)], "whole number"), (lpc, [("crystal-khz", "twelve")], "number"),
            (xmodem, [("block", 256)], "write auto, 128, 1024, ymodem"), (xmodem, [("opening", "u")], "a list of turns"),
        ):  # fmt: skip
            with self.subTest(pairs), self.assertRaises(UsageFault) as caught:
                read_settings(dialect, pairs)
            self.assertIn(said, " ".join(caught.exception.finding.attempts))

    def test_every_default_is_one_of_its_choices(self) -> None:
        for name in dialect_names():
            for setting in find_dialect(name).spec.settings:
                with self.subTest(name, setting=setting.name):
                    self.assertTrue(not setting.choices or setting.default in setting.choices)
                    self.assertTrue(setting.help)


class LargeAvr(unittest.TestCase):
    def test_above_128_kib(self) -> None:
        image = sample_for("atmega2560", 140_000)
        trial = run("atmega2560", {"flash": image})
        self.assertEqual(trial.end.exit_code, 0)
        self.assertTrue(trial.holds(image))
        self.assertEqual(strict(trial), [])

    def test_a_core_whose_signature_is_made_up(self) -> None:
        part = Catalogue.load().find("pic32mx").first
        image = Image("lift.hex", (Piece(part.flash.start, bytes(range(1, 200)) * 3),))
        trial = run("atmega2560", {"flash": image}, choice=Catalogue.load().find("pic32mx"), start=False)
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn("signature 1E 98 01, PIC32MX", trial.step("chip").evidence)
        self.assertTrue(trial.holds(image, start=part.flash.start))


class Esp(unittest.TestCase):
    def options(self, **settings: str) -> WriteOptions:
        return WriteOptions(settings={name.replace("_", "-"): value for name, value in settings.items()})

    def test_the_rate_goes_up_after_the_sync(self) -> None:
        image = sample_for("esp32", 9000)
        trial = run("esp32", {"flash": image}, settings=LineSettings(921600))
        self.assertEqual(trial.end.exit_code, 0)
        self.assertIn("now at 921600 baud", notes(trial))
        self.assertTrue(trial.holds(image))
        # the ESP8266 measures it, and has no such command
        trial = run("esp8266", {"flash": sample_for("esp8266", 3000)}, settings=LineSettings(230400))
        self.assertEqual(trial.end.exit_code, 0)
        self.assertNotIn("now at", notes(trial))

    def test_a_sample_is_called_one_and_the_whole_is_had_on_request(self) -> None:
        image = sample_for("esp8266", 9000)
        trial = run("esp8266", {"flash": image})
        self.assertIn("a sample, 1,600 of 9,024 bytes", trial.step("verify").evidence)
        trial = run("esp8266", {"flash": image}, options=self.options(verify="whole"))
        self.assertIn("read back, 9,024 bytes equal", trial.step("verify").evidence)

    def test_a_wrong_byte_of_a_later_esp_is_one(self) -> None:
        image = sample_for("esp32s3", 3000)
        runner, trial = prepare("esp32s3", {"flash": image}, purpose="verify")
        for piece in image.pieces:
            trial.line.chip.flash[piece.address : piece.end] = piece.data
        trial.line.chip.flash[0x10000 + 1501] ^= 0x40
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 7)
        self.assertIn("1 byte", str(trial.findings[0]))

    def test_sums_are_asked_of_whole_words_and_the_rest_is_read(self) -> None:
        odd = Image("pages.bin", (Piece(0x20003, bytes(range(1, 250)) * 3),))
        for change, status in (
            (None, 0),
            (0x20003, 7),
            (0x20003 + 746, 7),
            (0x20100, 7),
            (0x20002, 0),
            (0x20003 + 747, 0),
        ):
            with self.subTest(change):
                runner, trial = prepare("esp32", {"flash": odd}, purpose="verify")
                flash = trial.line.chip.flash
                flash[0x20000:0x20400] = b"\x55" * 0x400
                flash[odd.lowest : odd.end] = odd.pieces[0].data
                if change is not None:
                    flash[change] ^= 1
                trial.events.extend(runner.run())
                self.assertEqual(trial.end.exit_code, status, trial.findings)
                asked = runner.outcome.link.between(0, None, "sent")
                for place in (m.start() for m in re.finditer(rb"\xc0\x00\x13\x10\x00", asked)):
                    self.assertEqual(asked[place + 9] % 4, 0)

    def test_what_is_read_is_believed_only_when_its_md5_agrees(self) -> None:
        from greenstep.core.dialects import esp_chip

        wrong = {**esp_chip._LAYOUTS, "late": replace(esp_chip._LAYOUTS["late"], address_shift=8)}
        with patch.object(esp_chip, "_LAYOUTS", wrong):
            runner, trial = prepare("esp32s3", purpose="backup", region=("flash", 0x9000, 200))
            trial.line.chip.flash[0x9000:0x90C8] = bytes(range(200))
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "reads-differ"))
            kept = WriteOptions(keep=(Keep(0x10F00, 40),))
            trial = run("esp32s3", {"flash": sample_for("esp32s3", 2000)}, options=kept)
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "reads-differ"))
            self.assertEqual(trial.end.chip_state, "nothing on the chip was changed")

    def test_what_the_esp8266_erases_along_is_told_and_written_back(self) -> None:
        runner, trial = prepare("esp8266", purpose="erase", region=("flash", 0x20000, 0x1000))
        trial.line.chip.flash[0x1F000:0x23000] = b"\x00" * 0x4000
        trial.events.extend(runner.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn("00021000-00021FFF would be erased too", notes(trial))
        flash = trial.line.chip.flash
        self.assertEqual((set(flash[0x20000:0x21000]), set(flash[0x21000:0x23000])), ({255}, {0}))

    def test_an_encrypting_chip_takes_no_plain_image_unless_told(self) -> None:
        for board in ("esp32", "esp32c3"):
            with self.subTest(board):
                image = {"flash": sample_for(board, 900)}
                trial = run(board, image, faults=("encrypted",))
                self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "encryption"))
                told = run(
                    board,
                    image,
                    faults=("encrypted",),
                    options=WriteOptions(even_if=frozenset({"encryption"})),
                    start=False,
                )
                self.assertEqual(told.end.exit_code, 0, told.findings)

    def test_secure_download_mode_still_tells_which_chip_it_is(self) -> None:
        trial = run("esp32c3", purpose="greet", faults=("locked",))
        self.assertEqual((trial.end.exit_code, trial.step("chip").figures["part"]), (0, "esp32c3"), trial.findings)
        self.assertIn("secure download is on", notes(trial))

    def test_a_crystal_that_the_rom_takes_for_another(self) -> None:
        trial = run("esp32c2", {"flash": sample_for("esp32c2", 9000)}, settings=LineSettings(460800))
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn("now at 460800 baud", notes(trial))

    def test_speeds_in_headers_are_the_chips_own(self) -> None:
        for board, said, other in (("esp32c2", "30 MHz", "80"), ("esp32c3", "40 MHz", "60")):
            self.assertIn(said, notes(run(board, {"flash": sample_for(board, 900)})))
            trial = run(board, {"flash": sample_for(board, 900)}, options=self.options(header_speed=other))
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "setting"))

    def test_an_image_larger_than_its_partition(self) -> None:
        whole = sample_for("esp32", 2000)
        table = next(piece for piece in whole.pieces if piece.address == 0x8000)
        large = Piece(0xF000, bytes(range(256)) * 17)  # radio has 1000 there
        for name, pieces in (("its own table", (table, large)), ("the chip's", (large,))):
            with self.subTest(name):
                runner, trial = prepare("esp32", {"flash": Image("radio.bin", pieces)}, start=False)
                before = bytes(trial.line.chip.flash)
                trial.events.extend(runner.run())
                self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "vectors"))
                self.assertIn("larger than its partition, radio", trial.findings[0].cause)
                self.assertEqual(bytes(trial.line.chip.flash), before)
        application = sample_for("esp32", 5000).pieces[2].data
        rows = table.data[:72] + (0x1000).to_bytes(4, "little") + table.data[76:128] + b"\xff" * 32
        merged = Image("whole.bin", (Piece(0x8000, (rows.ljust(0x8000, b"\xff") + application)),))
        trial = run("esp32", {"flash": merged})
        self.assertIn("larger than its partition, gateway", trial.findings[0].cause)
        even_if = run(
            "esp32",
            {"flash": Image("radio.bin", (large,))},
            start=False,
            options=WriteOptions(even_if=frozenset({"vectors"})),
        )
        self.assertEqual(even_if.end.exit_code, 0, even_if.findings)

    def test_the_header_is_rewritten_with_its_sums(self) -> None:
        trial = run(
            "esp32s3",
            {"flash": sample_for("esp32s3", 2000)},
            options=self.options(header_size="chip", header_mode="qio"),
            expect="apiary gateway 1.1",
        )
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn("qio, 8M, 40 MHz; its checksum and SHA-256 recomputed", notes(trial))
        self.assertEqual(trial.line.chip.flash[2:4], bytes([0, 0x30]))

    def test_a_mode_or_speed_that_there_is_not(self) -> None:
        piece = sample_for("esp8266", 2000).pieces[0].data
        for at, value, said in ((2, 7, "SPI mode 7"), (3, 0x4E, "speed E")):
            image = Image("gauge.bin", (Piece(0, piece[:at] + bytes([value]) + piece[at + 1 :]),))
            trial = run("esp8266", {"flash": image})
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "vectors"))
            self.assertIn(said, trial.findings[0].cause)

    def test_the_header_is_told(self) -> None:
        self.assertIn("boot header: dio, 4M, 40 MHz", notes(run("esp8266", {"flash": sample_for("esp8266", 2000)})))

    def test_a_smaller_size_in_the_header_is_told(self) -> None:
        trial = run("esp32s3", {"flash": sample_for("esp32s3", 2000)})
        self.assertIn("says 4M of flash, the chip has 8 MiB", notes(trial))

    def test_stored_settings_in_the_way_are_told(self) -> None:
        image = sample_for("esp32", 2000)
        whole = Image("whole.bin", (Piece(0x1000, image.cut(0x1000, image.end - 0x1000, 0xFF)),))
        trial = run("esp32", {"flash": whole})
        self.assertIn("greenstep backup --from 0x9000 --size 0x6000", " ".join(trial.findings[0].attempts))

    def test_deflate_packs(self) -> None:
        trial = run("esp32", {"flash": Image("pages.bin", (Piece(0x290000, b"41.3 kg\n" * 8192),))}, start=False)
        self.assertEqual(trial.end.exit_code, 0)
        self.assertLess(trial.line.to_chip_count, 3000)
        self.assertTrue(trial.holds(Image("", (Piece(0x290000, b"41.3 kg\n" * 8192),))))


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


class Pic(unittest.TestCase):
    def test_the_jump_at_0_leads_to_the_loader_and_the_own_one_is_kept(self) -> None:
        trial = run("pic18f46k22", {"flash": sample_for("pic18f46k22", 3000)})
        flash = trial.line.chip.flash
        self.assertEqual(bytes(flash[:4]), bytes.fromhex("00 EF 7E F0"))  # GOTO FC00
        self.assertEqual(bytes(flash[0xFBFC:0xFC00]), bytes.fromhex("20 EF 00 F0"))  # GOTO 0040
        self.assertIn("configuration words 00300000-00300003 left out, 4 bytes", notes(trial))
        self.assertIn("in words 0000-", notes(trial))

    def test_an_upload_that_breaks_off_leaves_a_loader_that_stays(self) -> None:
        trial = run(
            "pic18f4520", {"flash": sample_for("pic18f4520", 3000)}, faults=("silence-after=120",), compare=False
        )
        self.assertEqual((trial.end.exit_code, trial.line.chip.eeprom[-1]), (6, 0xFF))  # type: ignore[attr-defined]
        trial = run("pic18f4520", {"flash": sample_for("pic18f4520", 3000)})
        self.assertEqual((trial.end.exit_code, trial.line.chip.eeprom[-1]), (0, 0))  # type: ignore[attr-defined]

    def test_a_loader_that_measures_each_request(self) -> None:
        trial = run("pic18f67j50", {"flash": sample_for("pic18f67j50", 4000)})
        self.assertEqual(trial.end.exit_code, 0)
        self.assertIn("units", trial.step("erase").evidence)


class Xmodem(unittest.TestCase):
    told: tuple[TalkLine, ...] = (TalkLine("u uploads", 5.0, "u"),)

    def options(self, **settings: Any) -> WriteOptions:
        return WriteOptions(settings={"opening": self.told, "closing": (TalkLine("g goes", 5.0, "g"),), **settings})

    def test_long_blocks_give_way_to_short_ones(self) -> None:
        trial = run("xmodem-crc", {"flash": sample_for("xmodem-crc", 3000)})
        self.assertEqual(trial.end.exit_code, 0)
        self.assertIn("3 exchanges repeated", notes(trial))
        trial = run("xmodem-crc", {"flash": sample_for("xmodem-crc", 3000)}, options=self.options(block="128"))
        self.assertNotIn("repeated", notes(trial))

    def test_the_last_block_is_filled(self) -> None:
        for pad in (0x1A, 0xFF):
            trial = run("smoke-fan", {"flash": sample_for("smoke-fan", 3000)}, options=self.options(pad=pad))
            self.assertEqual(set(trial.line.chip.flash[3000:3072]), {pad})

    def test_gaps_are_filled_and_told(self) -> None:
        image = Image("fan.hex", (Piece(0x100, b"abc" * 50), Piece(0x300, b"xyz" * 50)))
        trial = run("smoke-fan", {"flash": image}, start=False, options=self.options())
        self.assertIn("1 gap filled with FF", notes(trial))
        self.assertIn("sent from 0100 on", notes(trial))
        self.assertEqual(bytes(trial.line.chip.flash[0x200:0x203]), b"xyz")

    def test_it_is_said_that_nothing_is_read_back(self) -> None:
        trial = run("smoke-fan", {"flash": sample_for("smoke-fan", 3000)})
        self.assertIn("cannot be read back", trial.step("verify").evidence)

    def test_what_only_reading_back_could_answer_is_refused(self) -> None:
        for purpose in ("verify", "backup", "erase"):
            trial = run(
                "smoke-fan", {"flash": sample_for("smoke-fan", 300)} if purpose == "verify" else None, purpose=purpose
            )
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, f"cannot-{purpose}"))
            self.assertIsNone(trial.link)

    def test_the_sender_cancels_too(self) -> None:
        trial = run(
            "smoke-fan", purpose="greet", hookup=named_hookup("by-hand", ""), link_options={"on_for_s": 0.005}
        )
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        assert trial.link is not None
        self.assertGreaterEqual(trial.line.to_chip_count, 4)  # 'u' and CAN CAN CAN


if __name__ == "__main__":
    unittest.main()
