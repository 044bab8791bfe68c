"""What lies beside the image stays as it was: every kind of upload, erase, keep and restore on chips that hold another
program."""

from __future__ import annotations

import unittest

from benchmarks.beside import (
    BOARDS,
    KINDS,
    Bench,
    after_a_cut,
    cases,
    differing,
    erase_region,
    first,
    kept,
    restored,
    with_gaps,
)

from ..sample import some

TRIED = ("stm32l053", "atmega328p", "atmega2560", "at90usb1286", "esp32c3", "lpc1114", "pic18f4520", "pic18f46k22", "ymodem")  # fmt: skip
"""All kinds on these, and those that ask the most of it on one board of every other dialect; `python -m
benchmarks.beside` tries all."""
MOST_ASKED = (first, with_gaps, after_a_cut, kept, restored)


class EveryKindOfUpload(unittest.TestCase):
    def test_on_a_board_of_each_dialect(self) -> None:
        # an ESP8266 is read by a thousand questions: of it the kinds in which its ROM erases along
        others = {boards[0] for boards in BOARDS.values() if not {*boards} & {*TRIED}}
        rows = [
            case for case in cases(BOARDS)
            if case[1] in TRIED or (case[1] in others and KINDS[case[2]] in MOST_ASKED)
            or (case[1] == "esp8266" and KINDS[case[2]] in (kept, erase_region))
        ]  # fmt: skip
        self.assertEqual({dialect for dialect, _, _ in rows}, set(BOARDS))
        for dialect, board, number in some(rows, 60):
            with self.subTest(board, kind=KINDS[number].__name__):
                row = KINDS[number](Bench(dialect, board))
                self.assertEqual((row.exit_code, row.wrong, row.beside), (0, 0, 0), row.said)

    def test_what_changes_beside_an_image_is_counted(self) -> None:
        """Else the rows above could not fail."""
        bench = Bench("avr-061", "atmega328p")
        before = bench.flash
        trial = bench.run({"flash": bench.stand.program("scale", 900, 1)})
        pieces = bench.stand.program("scale", 900, 1).pieces
        changed = bytearray(before)
        changed[0x700] ^= 1
        self.assertEqual(bench.judged("", trial, pieces, bytes(changed)).beside, 1)
        self.assertEqual(bench.judged("", trial, bench.stand.program("scale", 901, 1).pieces, before).wrong, 1)
        self.assertGreater(differing(before, bytes(len(before))), 20_000)


if __name__ == "__main__":
    unittest.main()
