"""`esp-rom`: frames byte for byte as Espressif's description has them, and a strict chip told the wrong things."""

from __future__ import annotations

import hashlib
import re
import unittest
import zlib
from dataclasses import replace
from functools import reduce
from operator import xor
from typing import Any
from unittest.mock import patch

from greenstep.bench.boards import BOARDS
from greenstep.bench.families.esp import SimulatedEsp
from greenstep.bench.person import Hands
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.errors import ChipRefusal
from greenstep.core.dialects.esp_chip import mac_of, size_to_ask_for
from greenstep.core.dialects.esp_rom import Command, EspRom, slip
from greenstep.core.dialects.results import WriteBlock
from greenstep.core.events import Noted
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.hookup.drive import Driver
from greenstep.core.image import Image, Piece
from greenstep.core.image.granules import Remembered, granules_of
from greenstep.core.link import LineSettings
from greenstep.core.plan.write_options import CompareWith, Keep, WriteOptions
from greenstep.core.spans import Span

from ..scripted import ScriptedLink
from .observed import notes

ESP32, ESP8266 = (Catalogue.load().find(name).first for name in ("esp32", "esp8266"))
SYNC = "07 07 12 20" + "55" * 32


def request(command: int, data: str, checksum: int = 0) -> str:
    body = bytes.fromhex(data)
    return slip(bytes([0, command]) + len(body).to_bytes(2, "little") + checksum.to_bytes(4, "little") + body).hex()


def response(command: int, value: int = 0, data: str = "", status: str = "00 00 00 00") -> str:
    body = bytes.fromhex(data + status)
    return slip(bytes([1, command]) + len(body).to_bytes(2, "little") + value.to_bytes(4, "little") + body).hex()


def words(*values: int) -> str:
    return b"".join(value.to_bytes(4, "little") for value in values).hex()


class Frames(unittest.TestCase):
    def talk(self, *script: tuple[str, str], part: object = ESP32) -> EspRom:
        link = ScriptedLink(*script)
        self.addCleanup(lambda: self.assertTrue(link.finished(), "the script was not played to its end"))
        dialect = EspRom(link)
        dialect.examined_part = part  # type: ignore[assignment]
        return dialect

    def test_slip(self) -> None:
        self.assertEqual(slip(b"\xc0\x01\xdb"), bytes.fromhex("C0 DB DC 01 DB DD C0"))

    def test_one_sync_is_answered_eight_times(self) -> None:
        dialect = self.talk(
            (request(8, SYNC), response(8, 0x20120707) * 8),
            (request(0x14, ""), response(0x14, status="01 05 00 00")),
            (request(0x0A, words(0x40001000)), response(0x0A, 0x00F01D83)),
        )
        self.assertEqual(dialect.ask(0.2), "01 08 … 00 00 00 00")
        self.assertEqual(dialect.identify().ident, 0x00F01D83)

    def test_a_later_chip_is_known_by_its_chip_id_and_not_by_its_rom_word(self) -> None:
        for told, said, name in (
            ("00" * 12 + "05 00 00 00" + "00" * 4, "chip id 5", "esp32c3"), ("00" * 12, "chip id 2", "esp32s2"),
            ("00" * 12 + "17 00 00 00" + "00" * 4, "chip id 23", "esp32c5"), ("00" * 12 + "12 00 00 00" + "00" * 4, "chip id 18", "esp32p4"),
            ("00" * 12 + "63 00 00 00" + "00" * 4, "chip id 99", None),
        ):  # fmt: skip
            identity = self.talk((request(0x14, ""), response(0x14, data=told))).identify()
            part = Catalogue.load().by_ident("esp-rom", identity.ident or 0)
            self.assertEqual((identity.said, part and part.name), (said, name))

    def test_text_before_the_frame_and_two_bytes_of_status(self) -> None:
        text = b"waiting for download\r\n".hex()
        dialect = self.talk((request(8, SYNC), text + response(8, 0, "", "00 00")))
        self.assertEqual(dialect.ask(0.2), "01 08 … 00 00")

    def test_no_answer_and_another_one(self) -> None:
        for reply in ("", "C0", response(9), b"hive scale".hex()):
            self.assertIsNone(self.talk((request(8, SYNC), reply)).ask(0.2))

    def test_escaped_bytes_in_a_reply(self) -> None:
        dialect = self.talk((request(0x0A, words(0x60000200)), response(0x0A, 0xDBC0C0DB)))
        self.assertEqual(dialect._read_register(0x60000200), 0xDBC0C0DB)

    def test_a_status_is_a_refusal(self) -> None:
        with self.assertRaises(ChipRefusal) as caught:
            self.talk((request(0x0F, words(921600, 0)), response(0x0F, 0, "", "01 06 00 00")))._exchange(
                Command.CHANGE_BAUD, 921600, 0
            )
        self.assertEqual((caught.exception.answer, caught.exception.command), (b"\x01\x06", "change baud rate"))

    def test_deflated_blocks_carry_their_sum(self) -> None:
        data = b"41.3 kg\n" * 512
        packed = zlib.compress(data, 9)
        dialect = self.talk(
            (request(0x10, words(4096, 1, 0x400, 0x10000)), response(0x10)),
            (request(0x11, words(len(packed), 0, 0, 0) + packed.hex(), reduce(xor, packed, 0xEF)), response(0x11)),
        )
        blocks = [WriteBlock(0x10000 + at, data[at : at + 1024]) for at in range(0, 4096, 1024)]
        self.assertEqual(list(dialect.write(ESP32.flash, blocks)), blocks)

    def test_later_roms_want_a_fifth_word(self) -> None:
        s3 = Catalogue.load().find("esp32s3").first
        dialect = self.talk((request(0x02, words(4096, 4, 0x400, 0x9000, 0)), response(0x02)), part=s3)
        self.assertEqual(list(dialect.erase(s3.flash, s3.flash.units_touched(0x9000, 4096))), [1])

    def test_plain_blocks_are_filled_and_the_last_blank_ones_left_out(self) -> None:
        data = b"\x5a" * 1100 + b"\xff" * (4096 - 1100)
        second = (b"\x5a" * 76).ljust(1024, b"\xff")
        dialect = self.talk(
            (request(0x02, words(4096, 2, 0x400, 0)), response(0x02, 0, "", "00 00")),
            (request(0x03, words(1024, 0, 0, 0) + "5a" * 1024, 0xEF), response(0x03, 0, "", "00 00")),
            (
                request(0x03, words(1024, 1, 0, 0) + second.hex(), reduce(xor, second, 0xEF)),
                response(0x03, 0, "", "00 00"),
            ),
            part=ESP8266,
        )
        list(dialect.write(ESP8266.flash, [WriteBlock(0, data)]))

    def test_the_first_rom_erases_more_than_asked(self) -> None:
        # sectors of 4 KiB, blocks of 16: (first sector, count) -> sectors to ask for
        for first, count, asked in (
            (0, 4, 2),
            (0, 40, 24),
            (15, 3, 2),
            (10, 6, 3),
            (10, 20, 14),
            (16, 33, 17),
            (0, 1, 1),
        ):
            with self.subTest(first=first, count=count):
                self.assertEqual(size_to_ask_for(Span.of(first * 4096, count * 4096), True), asked * 4096)
        self.assertEqual(size_to_ask_for(Span.of(0, 40 * 4096), False), 40 * 4096)

    def test_md5(self) -> None:
        digest = hashlib.md5(b"bees", usedforsecurity=False).hexdigest()
        script = (request(0x13, words(0x1000, 4, 0, 0)), response(0x13, 0, digest.encode().hex()))
        self.assertTrue(self.talk(script).checksum_equals(ESP32.flash, 0x1000, b"bees"))
        self.assertFalse(self.talk(script).checksum_equals(ESP32.flash, 0x1000, b"wasp"))

    def test_mac_addresses(self) -> None:
        def told(part: object, *registers: tuple[int, int]) -> str:
            script = [(request(0x0A, words(place)), response(0x0A, value)) for place, value in registers]
            return mac_of(part, self.talk(*script, part=part)._read_register)  # type: ignore[arg-type]

        self.assertEqual(told(ESP32, (0x3FF5A004, 0xB0C0D0E0), (0x3FF5A008, 0x123402A1)), "02:A1:B0:C0:D0:E0")
        first = 0x3FF00050
        for middle, high, shown in (
            (0x0200A1B2, 0, "18:FE:34:A1:B2:5A"),
            (0x0201A1B2, 0, "AC:D0:74:A1:B2:5A"),
            (0x0200A1B2, 0x02A0B0, "02:A0:B0:A1:B2:5A"),
        ):
            registers = ((first, 0x5A000000), (first + 4, middle), (first + 8, 0), (first + 12, high))
            self.assertEqual(told(ESP8266, *registers), shown)


class Sizes(unittest.TestCase):
    """Nothing guards the size that a begin has erased, and what is erased along is nobody's to say."""

    def over(self, held: bytes, image: Image, *faults: str) -> Trial:
        """Keeps where the sizes stand that were asked to be erased, by the character."""
        runner, trial = prepare("esp32", {"flash": image}, faults=faults)
        trial.line.chip.flash[: len(held)] = held
        trial.events.extend(runner.run())
        sent = runner.outcome.link.between(0, None, "sent")
        self.sizes = [at + 9 for at in range(len(sent)) if sent[at : at + 5] == b"\xc0\x00\x10\x10\x00"]
        self.sums = [at + 2 for at in range(len(sent)) if sent[at : at + 5] == b"\xc0\x00\x13\x10\x00"]
        return trial

    def test_more_than_was_asked_for_is_seen_where_something_was(self) -> None:
        image = sample_for("esp32", 300)
        other = bytes((5 * n + (n >> 9)) & 0xFF for n in range(0x40000))
        for held, wanted in ((other, {7}), (b"\xff" * 0x40000, {0})):
            self.over(held, image)
            sizes = self.sizes
            self.assertEqual(len(sizes), 3)
            ends = {
                self.over(held, image, f"flip-to-chip={place + byte}:20").end.exit_code
                for place in sizes
                for byte in (1, 2)
            }
            self.assertEqual(ends, wanted)

    def test_a_sum_whose_command_became_a_begin_is_not_green(self) -> None:
        """MD5 of what is at 1000 becomes: erase 1000 bytes from 0 on."""
        image = sample_for("esp32", 300)
        other = bytes((5 * n + (n >> 9)) & 0xFF for n in range(0x40000))
        self.over(other, image)
        for place in (self.sums[0], self.sums[-1]):
            trial = self.over(other, image, f"flip-to-chip={place}:03")
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (7, "erased-beside"))
            self.assertNotIn("nothing on the chip", trial.end.chip_state)
            self.assertNotEqual(bytes(trial.line.chip.flash[:0x1000]), other[:0x1000])

    def test_an_attach_that_became_a_change_to_rate_0_is_got_over(self) -> None:
        image = sample_for("esp32", 300)
        runner, _ = prepare("esp32", {"flash": image})
        list(runner.run())
        attach = runner.outcome.link.between(0, None, "sent").index(b"\xc0\x00\x0d\x08\x00") + 2
        trial = self.over(b"", image, f"flip-to-chip={attach}:02")
        self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True))
        self.assertIn("reset, and resumed", "".join(event.text for event in trial.events if isinstance(event, Noted)))

    def test_what_was_compared_before_is_not_taken_for_granted(self) -> None:
        image = sample_for("esp32", 30_000)
        held = bytearray(self.over(b"", image).line.chip.flash[:0x40000])
        app = image.pieces[-1]
        held[app.address + 100] ^= 1
        self.over(held, image)
        self.assertEqual(len(self.sizes), 1)  # one sector
        trial = self.over(held, image, f"flip-to-chip={self.sizes[0] + 1}:20")
        self.assertTrue(trial.end.exit_code == 7 or trial.holds(image), trial.end)
        self.assertEqual(trial.findings[0].key, "erased-beside")


class StrictChip(unittest.TestCase):
    def setUp(self) -> None:
        line = BOARDS["esp32"].build()
        hookup = named_hookup("cross-pair", "low")
        self.link = VirtualLink(line, LineSettings(115200), hookup.idle_lines)
        assert hookup.enter is not None and isinstance(line.chip, SimulatedEsp)
        Driver(self.link, hookup).run(hookup.enter)
        self.link.sleep(0.1)
        self.chip = line.chip
        self.boot_text = self.link.discard()
        self.say(request(8, SYNC))

    def say(self, frame: str, wait_s: float = 0.3) -> bytes:
        self.link.write(bytes.fromhex(frame))
        return self.link.read(400, wait_s)

    def test_it_says_that_it_waits(self) -> None:
        self.assertIn(b"DOWNLOAD", self.boot_text)

    def test_order_of_things(self) -> None:
        begin = request(0x10, words(4096, 1, 0x400, 0x10000))
        self.assertEqual(self.say(begin).hex(), response(0x10, 0, "", "01 06 00 00"))  # not attached
        self.assertEqual(
            self.say(request(0x11, words(4, 0, 0, 0) + "01020304", 0xEF ^ 4)).hex(),
            response(0x11, 0, "", "01 06 00 00"),
        )
        self.assertEqual(self.say(request(0x0D, words(0, 0))).hex(), response(0x0D))
        self.assertEqual(self.say(begin).hex(), response(0x10))
        packed = zlib.compress(b"bees")
        wrong = request(0x11, words(len(packed), 0, 0, 0) + packed.hex(), 0)
        self.assertEqual(self.say(wrong).hex(), response(0x11, 0, "", "01 07 00 00"))  # its sum
        late = request(0x11, words(len(packed), 1, 0, 0) + packed.hex(), reduce(xor, packed, 0xEF))
        self.assertEqual(self.say(late).hex(), response(0x11, 0, "", "01 06 00 00"))  # its number
        self.assertEqual(self.say(request(0x55, "")).hex(), response(0x55, 0, "", "01 05 00 00"))

    def test_a_rate_that_is_told(self) -> None:
        self.assertEqual(self.say(request(0x0F, words(230400, 0))).hex(), response(0x0F))
        self.link.configure(LineSettings(230400))
        self.link.sleep(0.05)
        self.assertEqual(self.say(request(0x0A, words(0x40001000))).hex(), response(0x0A, 0x00F01D83))


SECTOR = 4096


def on(board: str, purpose: Any = "upload", image: Image | None = None, **options: Any) -> Trial:
    """A run on a board whose simulated chip has these attributes in `silicon`."""
    silicon = options.pop("silicon", {})
    images = {"flash": image or sample_for(board, 3000)} if purpose in ("upload", "verify") else None
    runner, trial = prepare(board, images, purpose=purpose, **options)
    for name, value in silicon.items():
        setattr(trial.line.chip, name, value)
    trial.events.extend(runner.run())
    return trial


def settings(**values: str) -> WriteOptions:
    return WriteOptions(settings={name.replace("_", "-"): value for name, value in values.items()})


def tables(size_bytes: int, logarithm: bool = False) -> bytes:
    """SFDP with one parameter header, whose table stands at 30h."""
    bits = 8 * size_bytes
    word = 1 << 31 | bits.bit_length() - 1 if logarithm else bits - 1
    header = b"SFDP\x06\x01\x00\xff" + b"\x00\x06\x01\x10" + b"\x30\x00\x00\xff"
    return header.ljust(0x30, b"\xff") + b"\xe5\x20\xf1\xff" + word.to_bytes(4, "little") + bytes(8)


class Size(unittest.TestCase):
    def test_no_flash_is_refused(self) -> None:
        for number in (0xFFFFFF, 0):
            trial = on("esp32", silicon={"jedec_id": number})
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "no-flash"))

    def test_its_own_tables_tell_it(self) -> None:
        for board in ("esp8266", "esp32", "esp32s3"):
            for logarithm in (False, True):
                size = 8 << 20 if board == "esp32s3" else 4 << 20
                trial = on(board, "greet", silicon={"jedec_id": 0x01861F, "sfdp": tables(size, logarithm)})
                self.assertEqual(trial.step("chip").figures["flash_bytes"], size, board)

    def test_unknown_is_not_the_largest(self) -> None:
        """The header of the sample says 4 MiB: no further than that."""
        unknown = {"jedec_id": 0x01861F}
        whole = sample_for("esp32", 3000)
        trial = on("esp32", silicon=unknown)
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn("the size of the flash is not known: no further than 4 MiB", str(trial.events))
        far = replace(whole, pieces=(*whole.pieces, Piece(5 << 20, b"pages" * 40)))
        nameless = Image("pages.bin", (Piece(0x200000, b"pages" * 40),))
        blank = {**unknown, "flash": bytearray(b"\xff") * (4 << 20)}
        for image, said in ((far, "4 MiB"), (nameless, "no boot header")):
            trial = on("esp32", image=image, silicon=blank)
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "flash-size-unknown"))
            self.assertIn(said, trial.findings[0].evidence[1])
        trial = on("esp32", image=nameless, silicon=unknown, options=settings(flash_size="4M"), start=False)
        self.assertEqual((trial.end.green, trial.holds(nameless)), (True, True), trial.findings)


class Places(unittest.TestCase):
    def test_one_byte_in_the_last_sector_of_an_esp8266(self) -> None:
        """Its ROM erases two sectors for one; behind the last one the flash begins anew."""
        for sectors in (1, 2, 3):
            size = 4 << 20
            image = Image("pages.bin", (Piece(size - sectors * SECTOR + 5, bytes(range(1, 90)) * 46 * sectors),))
            image = replace(image, pieces=(image.pieces[0].part(Span(image.lowest, size)),))
            runner, trial = prepare("esp8266", {"flash": image}, start=False)
            chip: Any = trial.line.chip
            chip.flash[:] = bytes(range(256)) * (size // 256)
            before = bytes(chip.flash)
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)
            self.assertEqual(bytes(chip.flash[: size - sectors * SECTOR]), before[: size - sectors * SECTOR])

    def test_blanks_in_a_sector_do_not_shift_what_begins_there(self) -> None:
        whole = sample_for("esp32", 9000)
        data = bytearray(bytes(range(1, 251)) * 50)
        data[1024:3072] = b"\xff" * 2048
        image = replace(whole, pieces=(*whole.pieces, Piece(0x100000, bytes(data))))
        trial = on("esp32", image=image, options=WriteOptions(erase_all=True))
        self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)
        self.assertEqual([v for v in trial.line.chip.violations if "busy" not in v], [])


class Whole(unittest.TestCase):
    def test_whole_is_neither_a_sample_nor_the_journal(self) -> None:
        image = sample_for("esp8266", 12_000)

        def recall(number: str, chip: str) -> Remembered:
            return Remembered(3, granules_of(image, 0xFF))

        for options, changed, ended in (
            (settings(verify="whole"), True, "green"), (settings(verify="whole"), False, "green"),
            (settings(), False, "unproven"), (WriteOptions(compare=CompareWith.NO_JOURNAL), True, "unproven"),
        ):  # fmt: skip
            runner, trial = prepare("esp8266", {"flash": image}, recall=recall, options=options)
            chip: Any = trial.line.chip
            chip.flash[: image.end] = image.pieces[0].data
            chip.flash[777] ^= 1 if changed else 0
            trial.events.extend(runner.run())
            self.assertEqual((trial.step("verify").outcome, trial.holds(image)), (ended, True), trial.findings)
            self.assertEqual(trial.end.green, ended == "green")

    def test_blank_is_never_answered_by_a_sample(self) -> None:
        region = ("flash", 0x20000, 0x1803)
        for changed, status in ((None, 0), (0x20F01, 7)):
            runner, trial = prepare("esp8266", purpose="verify", region=region, options=WriteOptions(blank=True))
            chip: Any = trial.line.chip
            if changed is not None:
                chip.flash[changed] = 0x7F
            trial.events.extend(runner.run())
            self.assertEqual((trial.end.exit_code, trial.end.green), (status, not status), trial.findings)


class Starts(unittest.TestCase):
    def test_what_the_rom_says_after_an_acknowledged_reset_counts(self) -> None:
        by_hand = named_hookup("by-hand", "low")
        for board in ("esp8266", "esp32", "esp32c3"):
            for stays, status in ((True, 8), (False, 0)):
                image = sample_for(board, 3000)
                with self.subTest(board, stays=stays):
                    person = {"hands": Hands(1.0), "end_patience_s": 0.0}
                    trial = on(board, image=image, hookup=by_hand, silicon={"stays": stays}, **person)
                    self.assertEqual(trial.end.exit_code, status, trial.findings)
                    if stays:
                        self.assertEqual(trial.findings[0].key, "rom-text")
                        self.assertIn("waits for an upload", trial.findings[0].cause)

    def test_secure_boot_of_either_version(self) -> None:
        for bit in (4, 5):
            trial = on("esp32", silicon={"fuse_words": {0x3FF5A018: 1 << bit}})
            self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "encryption"), bit)


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


if __name__ == "__main__":
    unittest.main()
