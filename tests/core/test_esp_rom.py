"""`esp-rom`: frames byte for byte as Espressif's description has them, and a strict chip told the wrong things."""

from __future__ import annotations

import hashlib
import unittest
import zlib
from functools import reduce
from operator import xor

from greenstep.bench.boards import BOARDS
from greenstep.bench.families.esp import SimulatedEsp
from greenstep.bench.trial import Trial, prepare, sample_for
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.errors import ChipRefusal
from greenstep.core.dialects.esp_chip import mac_of, size_to_ask_for
from greenstep.core.dialects.esp_rom import Command, EspRom, slip
from greenstep.core.dialects.results import WriteBlock
from greenstep.core.events import Noted
from greenstep.core.hookup.circuits import named_hookup
from greenstep.core.hookup.drive import Driver
from greenstep.core.image import Image
from greenstep.core.link import LineSettings
from greenstep.core.spans import Span

from .scripted import ScriptedLink

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
        dialect.met = part  # type: ignore[assignment]
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


if __name__ == "__main__":
    unittest.main()
