"""SMP: packets in lines of text, what a slot proves, and the way a new image comes to stay."""

from __future__ import annotations

import unittest
from base64 import b64encode
from typing import Any

from greenstep.bench.crc16 import crc16
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.dialects.smp import decoded, encoded
from greenstep.core.dialects.smp_frames import READ, WRITE, Command, Packet, in_lines, letters_of, packet_of
from greenstep.core.dialects.smp_images import read_signed
from greenstep.core.wishes import Wishes

PROGRAM, RECOVERY = "nrf52840", "nrf5340"


class Lines(unittest.TestCase):
    def test_an_echo_as_the_specification_has_it(self) -> None:
        packet = Packet(WRITE, Command.ECHO, 1, encoded({"d": "hive"}))
        self.assertEqual(packet.raw.hex(), "0200000800000100" + "a1616464" + "68697665")
        data = b"\x00\x12" + packet.raw + crc16(packet.raw).to_bytes(2, "big")
        self.assertEqual(in_lines(packet), b"\x06\x09" + b64encode(data) + b"\n")

    def test_long_packets_go_in_several_lines_and_come_back_whole(self) -> None:
        packet = Packet(READ, Command.STATE, 200, encoded({"data": bytes(range(256)) * 2}))
        lines = in_lines(packet).split(b"\n")
        self.assertTrue(all(len(line) <= 126 for line in lines))
        self.assertEqual({line[:2] for line in lines[1:-1]}, {b"\x04\x14"})
        letters = b"".join(
            letters_of(b"log> " * (not at) + line, bool(at)) or b"" for at, line in enumerate(lines[:-1])
        )
        self.assertEqual(packet_of(letters), packet)
        self.assertIsNone(packet_of(letters[:-8]))
        with self.assertRaises(ValueError):
            packet_of(letters[:30] + b"A" + letters[31:])

    def test_what_is_no_map_is_no_answer(self) -> None:
        for body in (b"", b"\xff", b"\x83\x01", b"\x01"):
            self.assertIsNone(decoded(body))


class Slots(unittest.TestCase):
    def uploaded(self, **settings: Any) -> Trial:
        return run(PROGRAM, {"flash": sample_for(PROGRAM, 3000)}, wishes=Wishes(settings=settings))

    def marks(self, trial: Trial) -> tuple[bool, str]:
        chip: Any = trial.line.chip
        return chip.confirmed, chip.pending

    def test_a_new_image_stays_once_it_has_answered(self) -> None:
        trial = self.uploaded()
        self.assertEqual((trial.end.exit_code, trial.end.green), (0, True), trial.findings)
        self.assertIn("runs and is confirmed", trial.step("start").evidence)
        self.assertEqual(self.marks(trial), (True, ""))

    def test_or_at_once_or_not_by_this_tool(self) -> None:
        self.assertEqual(self.marks(self.uploaded(confirm="at-once")), (True, ""))
        trial = self.uploaded(confirm="never")
        self.assertEqual((trial.end.exit_code, self.marks(trial)), (0, (False, "")))

    def test_a_lost_answer_to_the_reset_does_not_swap_back(self) -> None:
        clean = self.uploaded()
        for place in range(clean.line.to_host_count - 900, clean.line.to_host_count, 41):
            trial = run(PROGRAM, {"flash": sample_for(PROGRAM, 3000)}, faults=(f"drop-to-host={place}",))
            self.assertEqual((trial.end.exit_code, self.marks(trial)), (0, (True, "")), place)

    def test_what_a_slot_has_already_is_not_sent(self) -> None:
        image = sample_for(RECOVERY, 9000)
        climb, trial = prepare(RECOVERY, {"flash": image})
        trial.line.chip.flash[: len(image.pieces[0].data)] = image.pieces[0].data
        trial.events.extend(climb.run())
        self.assertEqual(trial.end.exit_code, 0, trial.findings)
        self.assertIn("nothing to write", trial.step("write").evidence)

    def test_another_image_is_told_by_its_hash(self) -> None:
        image = sample_for(RECOVERY, 3000)
        trial = run(RECOVERY, {"flash": image}, purpose="verify")
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (7, "other-image"))
        self.assertIn("slot 0: version 1.99.0", trial.findings[0].evidence[0])
        self.assertEqual(read_signed(image.pieces[0].data).version, "1.1.0")

    def test_no_backup_and_an_empty_slot_after_an_erase(self) -> None:
        trial = run(RECOVERY, purpose="backup")
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "cannot-backup"))
        trial = run(RECOVERY, purpose="erase")
        self.assertEqual((trial.end.exit_code, set(trial.line.chip.flash)), (0, {0xFF}), trial.findings)


if __name__ == "__main__":
    unittest.main()
