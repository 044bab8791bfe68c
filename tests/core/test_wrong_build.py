"""An image that was built for another chip or another place, or that overwrites what a program has stored."""

from __future__ import annotations

import unittest

from greenstep.bench.trial import Trial, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.families.avr import jump_code, vectors_of
from greenstep.core.image import Image, Piece
from greenstep.core.plan.write_options import Keep, WriteOptions

SETTINGS = Keep(0x9000, 0x6000, "hives")
UNKNOWN = {"atmega88pb", "atmega168pb"}


def avr_program(vectors: int, used: int = 3, flash: int = 262144) -> Image:
    """As a compiler lays it out: the table, most of it going to one place, then code."""
    unused = vectors * 4 + 60
    table = b"".join(jump_code(4 * n, 4 * vectors + 20 * n if n < used else unused, flash) for n in range(vectors))
    return Image("scale.hex", (Piece(0, table + bytes.fromhex("11241FBECFEFD8E0") + bytes(range(200))),))


def cortex_program(built_for: int, at: int = 0x08000000, size: int = 2000) -> Image:
    words = [0x20001000, *(built_for + 0x101 + 16 * n for n in range(47))]
    head = b"".join(word.to_bytes(4, "little") for word in words)
    return Image("probe.bin", (Piece(at, head + b"\x12\x34" * ((size - len(head)) // 2)),), None, "raw binary")


def refused(board: str, image: Image, even_if: tuple[str, ...] = (), **options: object) -> Trial:
    return run(board, {"flash": image}, options=WriteOptions(even_if=frozenset(even_if)), **options)


class Avr(unittest.TestCase):
    def test_a_longer_table_is_another_chips(self) -> None:
        trial = refused("atmega328p", avr_program(57))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "vectors"))
        self.assertIn("its vector table has 57 entries, the ATmega328P's has 26", trial.findings[0].cause)
        self.assertEqual(refused("atmega328p", avr_program(57), ("vectors",)).end.exit_code, 0)

    def test_the_chips_own_and_what_is_no_table(self) -> None:
        for image in (avr_program(26), avr_program(57, used=50), avr_program(30), sample_for("atmega328p", 3000)):
            self.assertEqual(refused("atmega328p", image).end.exit_code, 0)
        self.assertEqual(refused("atmega2560", avr_program(57)).end.exit_code, 0)

    def test_every_avr_of_the_catalogue_has_its_number_or_none(self) -> None:
        known = {part.name: vectors_of(part) for part in Catalogue.load().parts if part.core == "avr"}
        self.assertEqual(
            (known["atmega8"], known["atmega328pb"], known["atmega32u4"], known["atmega1284p"]), (19, 45, 43, 35)
        )
        self.assertEqual({name for name, number in known.items() if number is None}, UNKNOWN)

    def test_a_silent_program_that_was_written_anyway_says_so(self) -> None:
        image = avr_program(57)
        trial = refused("atmega328p", image, ("vectors",), expect="ready", expect_within_s=1.0)
        self.assertEqual(trial.end.exit_code, 8)
        self.assertIn("57 entries", " ".join(trial.findings[0].attempts))


class CortexM(unittest.TestCase):
    def test_a_program_for_behind_a_bootloader_at_the_start(self) -> None:
        trial = refused("stm32f103", cortex_program(0x08002000))
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "vectors"))
        self.assertIn("built for 08002000", trial.findings[0].cause)
        self.assertIn("probe.bin at 0x08002000", trial.findings[0].attempts[0])

    def test_at_its_own_place_or_with_code_elsewhere_it_is_taken(self) -> None:
        both = Image("both.hex", (*cortex_program(0x08002000).pieces, *cortex_program(0x08002000, 0x08002000).pieces))
        for image in (cortex_program(0x08000000), both):
            self.assertEqual(refused("stm32f103", image).end.exit_code, 0, image.name)


class StoredSettings(unittest.TestCase):
    def factory(self, stored: bytes = b"\xff" * 16) -> Image:
        image = sample_for("esp32", 3000)
        data = bytearray(image.cut(0, 0x20000, 0xFF))
        data[SETTINGS.address : SETTINGS.address + len(stored)] = stored
        return Image("factory.bin", (Piece(0, bytes(data)),))

    def test_a_factory_image_is_refused_with_the_ways_on(self) -> None:
        trial = refused("esp32", self.factory())
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "overwrites-settings"))
        for option in ("--keep 0x9000:0x6000", "greenstep backup --from 0x9000", "--even-if settings"):
            self.assertIn(option, " ".join(trial.findings[0].attempts))
        self.assertEqual(refused("esp32", self.factory(), ("settings",)).end.exit_code, 0)

    def test_where_it_is_blank_keep_wins(self) -> None:
        def own(trial: Trial) -> bytes:
            return bytes(trial.line.chip.flash[SETTINGS.address : SETTINGS.address + 0x6000])

        kept = run("esp32", {"flash": self.factory()}, options=WriteOptions(keep=(SETTINGS,)))
        self.assertEqual(kept.end.exit_code, 0, kept.findings)
        before = own(run("esp32", purpose="greet"))
        self.assertEqual(own(kept), before)
        other = run("esp32", {"flash": self.factory(b"other settings")}, options=WriteOptions(keep=(SETTINGS,)))
        self.assertEqual((other.end.exit_code, own(other)), (5, before))


if __name__ == "__main__":
    unittest.main()
