"""Characters heard at the wrong rate or in the wrong frame, and what can be told from them."""

from __future__ import annotations

import random
import unittest

from greenstep.bench.wire import received
from greenstep.core.clock.rate_inference import FACTORS, Sample, hear, likely_factors, reads_as_talk
from greenstep.core.link import Frame, LineSettings

EIGHT_N, EIGHT_E = Frame(), Frame(8, "even", 1)
LINES = (
    b"hive scale 2.4 ready\r\ncell 41.3 kg, 18.2 C\r\n",
    b"apiary gateway: 3 hives in reach\r\nqueue 0\r\n",
    b"frame lift v1.0\r\nmotor idle, limit open\r\n",
)


class Hearing(unittest.TestCase):
    def test_the_same_rate_is_whole(self) -> None:
        heard = hear(LINES[0], EIGHT_N, 1.0, EIGHT_N)
        self.assertEqual((heard.data, heard.framing_errors, heard.parity_errors), (LINES[0], 0, 0))

    def test_ack_looks_alike_with_and_without_parity(self) -> None:
        self.assertEqual(hear(b"\x79", EIGHT_E, 1.0, EIGHT_N).data, b"\x79")

    def test_half_the_rate_by_hand(self) -> None:
        # 0x55 at half our rate: 00 11 00 11 … in our bits: start and 1 low, then pairs
        self.assertEqual(hear(b"\x55", EIGHT_N, 0.5, EIGHT_N).data[0], 0b01100110)

    def test_the_two_models_of_a_receiver_agree(self) -> None:
        source = random.Random(4)
        for _ in range(60):
            data = source.randbytes(source.randrange(1, 20))
            ours = LineSettings(115200, source.choice((EIGHT_N, EIGHT_E)))
            theirs = LineSettings(round(115200 * source.choice((0.251, 0.497, 1.0, 1.493, 1.97, 3.93))), EIGHT_N)
            with self.subTest(theirs=str(theirs), ours=str(ours), data=data.hex()):
                simulated = bytes(value for _, value, _ in received(data, theirs, ours))
                self.assertEqual(hear(data, theirs.frame, theirs.baud / ours.baud, ours.frame).data, simulated)


class Guessing(unittest.TestCase):
    def test_nine_of_ten_factors_are_told(self) -> None:
        source = random.Random(11)
        right = total = 0
        for _ in range(150):
            factor = source.choice((0.25, 0.5, 2 / 3, 0.926, 1.08, 1.5, 2.0, 4.0))
            text = source.choice(LINES) + source.choice(LINES)
            settings = LineSettings(round(115200 * factor), EIGHT_N)
            heard = bytes(value for _, value, _ in received(text, settings, LineSettings(115200, EIGHT_N)))
            guesses = likely_factors(Sample(heard, EIGHT_N))
            total += 1
            right += bool(guesses) and guesses[0] == factor
        self.assertGreaterEqual(right / total, 0.9)

    def test_replies_tell_it_too(self) -> None:
        replies = (b"\x14\x10", b"\x15")
        for factor in (0.25, 0.5, 2.0, 1.08):
            heard = b"".join(hear(reply, EIGHT_N, factor, EIGHT_N).data for reply in replies * 6)
            self.assertEqual(likely_factors(Sample(heard, EIGHT_N, EIGHT_N, replies))[0], factor)

    def test_too_little_is_no_guess(self) -> None:
        self.assertEqual(likely_factors(Sample(b"\x80\x80", EIGHT_N)), [])

    def test_text_is_told_from_slow_garbage_in_letters(self) -> None:
        self.assertTrue(all(reads_as_talk(line, EIGHT_N) for line in LINES))
        slow = hear(LINES[0], EIGHT_N, 0.25, EIGHT_N).data
        self.assertFalse(reads_as_talk(slow, EIGHT_N))

    def test_all_factors_are_told_apart_by_enough_text(self) -> None:
        for factor in (factor for factor in FACTORS if factor <= 4):
            heard = hear(b"".join(LINES) * 3, EIGHT_N, factor, EIGHT_N).data
            if len(heard) >= 30:
                with self.subTest(factor):
                    self.assertEqual(likely_factors(Sample(heard, EIGHT_N))[0], factor)


if __name__ == "__main__":
    unittest.main()
