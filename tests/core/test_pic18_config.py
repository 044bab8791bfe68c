"""A PIC18's configuration words, read as the data sheets have them."""

from __future__ import annotations

import unittest

from greenstep.bench.trial import run
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.families.pic18_config import difference, fields_of, in_words, words_for
from greenstep.core.image import Image, Piece, joined

PARTS = {
    name: Catalogue.load().find(name).first for name in ("pic18f46k22", "pic18f4520", "pic18f26k40", "pic18f67j50")
}


def words(at: int, data: bytes) -> Image:
    return Image("pump.hex", (Piece(0x300000 + at, data),))


class Words(unittest.TestCase):
    def test_each_series_has_its_own_places(self) -> None:
        for part, at, data, said in (
            ("pic18f46k22", 1, "28", ("oscillator", "internal oscillator")),
            ("pic18f46k22", 1, "13", ("PLL", "on: four times the oscillator")),
            ("pic18f46k22", 1, "12", ("oscillator", "HS crystal, over 16 MHz")),
            ("pic18f46k22", 3, "03", ("watchdog", "on")),
            ("pic18f46k22", 8, "07", ("code protection", "partly on")),
            ("pic18f4520", 1, "06", ("oscillator", "HS crystal with the PLL: four times it")),
            ("pic18f4520", 3, "1E", ("watchdog", "off, unless the program turns it on")),
            ("pic18f4520", 6, "81", ("low-voltage programming", "off")),
            ("pic18f26k40", 0, "0C", ("oscillator at reset", "internal, 64 MHz")),
            ("pic18f26k40", 4, "60", ("watchdog", "on")),
            ("pic18f26k40", 8, "FE", ("code protection", "on")),
        ):
            with self.subTest(part, at=at, data=data):
                self.assertIn(said, in_words(words(at, bytes.fromhex(data)), PARTS[part]))

    def test_only_what_the_file_holds_is_told(self) -> None:
        self.assertEqual([what for what, _ in in_words(words(3, b"\x3c"), PARTS["pic18f46k22"])], ["watchdog"])
        self.assertEqual(in_words(words(1, b"\x28"), PARTS["pic18f67j50"]), ())
        self.assertEqual(fields_of(PARTS["pic18f67j50"]), ())

    def test_what_a_made_loader_needs_reads_back_as_that(self) -> None:
        part = PARTS["pic18f46k22"]
        for clock, oscillator in (
            (64e6, "internal oscillator"),
            (20e6, "HS crystal, over 16 MHz"),
            (8e6, "HS crystal, 4 to 16 MHz"),
        ):
            made = words_for(part, clock)
            assert made is not None
            told = dict(in_words(words(0, made), part))
            self.assertEqual(
                (told["oscillator"], told["watchdog"], told["boot block writes"]), (oscillator, "off", "protected")
            )
        self.assertIsNone(words_for(PARTS["pic18f4520"], 64e6))

    def test_the_factor_by_which_rates_will_be_off(self) -> None:
        part = PARTS["pic18f46k22"]
        self.assertIn("off by 0.25", difference(words(1, b"\x38"), part, 64e6))
        self.assertIn("HS crystal, over 16 MHz", difference(words(1, b"\x22"), part, 64e6))
        self.assertEqual(difference(words(1, b"\x28"), part, 64e6), "")
        self.assertEqual(difference(words(3, b"\x28"), part, 64e6), "")

    def test_an_upload_through_a_made_loader_warns(self) -> None:
        from greenstep.bench.trial import sample_for

        image = sample_for("doorstep-pic18f46k22", 900)
        with_words = Image("pump.hex", joined([*image.pieces, Piece(0x300001, b"\x38")]))
        trial = run("doorstep-pic18f46k22", {"flash": with_words})
        notes = [str(getattr(event, "text", "")) for event in trial.events]
        self.assertTrue(any("off by 0.25" in note for note in notes), (trial.findings, notes))


if __name__ == "__main__":
    unittest.main()
