"""SMP: packets in lines of text, what a slot proves, and the way a new image comes to stay."""

from __future__ import annotations

import unittest
from base64 import b64encode
from typing import Any

from greenstep.bench.crc16 import crc16
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.dialects.smp_exchange import (
    READ,
    WRITE,
    Command,
    Packet,
    decoded,
    encoded,
    in_lines,
    letters_of,
    packet_of,
)
from greenstep.core.dialects.smp_images import read_signed
from greenstep.core.plan.write_options import WriteOptions

PROGRAM, RECOVERY = "nrf52840", "nrf5340"


def refused(trial: Trial) -> list[str]:
    """Violations, but for questions to a server that still erases."""
    return [
        violation for violation in trial.line.chip.violations if "busy" not in violation and "while" not in violation
    ]


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
        return run(PROGRAM, {"flash": sample_for(PROGRAM, 3000)}, options=WriteOptions(settings=settings))

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

    def over_itself(self, board: str, wrong: int | None, **silicon: Any) -> Trial:
        """The same image again; a byte of what is there may be wrong."""
        image = sample_for(board, 9000)
        runner, trial = prepare(board, {"flash": image})
        chip: Any = trial.line.chip
        chip.flash[: image.end] = image.pieces[0].data
        if wrong is not None:
            chip.flash[image.end + wrong] ^= 1
        for name, value in silicon.items():
            setattr(chip, name, value)
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, refused(trial)), (0, []), trial.findings)
        return trial

    def test_what_runs_already_is_not_sent(self) -> None:
        trial = self.over_itself(PROGRAM, None)
        self.assertIn("nothing to write", trial.step("write").evidence)
        self.assertTrue(trial.end.green)

    def test_what_recovery_lists_is_not_all_of_it(self) -> None:
        image = sample_for(RECOVERY, 9000)
        runner, trial = prepare(RECOVERY, {"flash": image}, purpose="verify")
        trial.line.chip.flash[: image.end] = image.pieces[0].data  # type: ignore[attr-defined]
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.step("verify").outcome), (0, "unproven"))
        self.assertIn("68 bytes of its signature", trial.step("verify").evidence)
        self.assertIn("all but 68 bytes of apiary-gateway.bin", trial.end.summary)

    def test_a_recovery_that_holds_back_more_than_a_write_unit_is_not_waited_for(self) -> None:
        for size in range(3000, 3100, 20):
            image = sample_for(RECOVERY, size)
            runner, trial = prepare(RECOVERY, {"flash": image}, start=False)
            trial.line.chip.holds_back = 96  # type: ignore[attr-defined]
            trial.events.extend(runner.run())
            with self.subTest(size):
                self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)

    def test_a_signature_that_no_sum_covers_is_sent_again(self) -> None:
        """Recovery checks it, or not: which of them, is seen while the last bytes of it have not come."""
        for checks in (True, False):
            with self.subTest(checks=checks):
                trial = self.over_itself(RECOVERY, -1, checks_signature=checks)
                self.assertEqual((trial.end.green, trial.holds(sample_for(RECOVERY, 9000))), (checks, True))
        self.assertIn("before they have come", trial.step("verify").evidence)

    def test_another_image_is_told_by_its_hash(self) -> None:
        image = sample_for(RECOVERY, 3000)
        trial = run(RECOVERY, {"flash": image}, purpose="verify")
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (7, "other-image"))
        self.assertIn("slot 0: version 1.99.0", trial.findings[0].evidence[0])
        self.assertEqual(read_signed(image.pieces[0].data).version, "1.1.0")

    def test_what_another_slot_holds_is_no_proof(self) -> None:
        image = sample_for(RECOVERY, 3000)
        runner, trial = prepare(RECOVERY, {"flash": image})
        chip: Any = trial.line.chip
        chip.second[: image.size_bytes] = image.pieces[0].data
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.exit_code, trial.holds(image)), (0, True), trial.findings)
        chip.flash[700] ^= 1
        again, other = prepare(RECOVERY, {"flash": image}, purpose="verify")
        other.line.chip.flash[:], other.line.chip.second[:] = chip.flash, chip.second
        other.events.extend(again.run())
        self.assertEqual(other.end.exit_code, 7)

    def test_the_slot_is_named_by_its_number(self) -> None:
        image = sample_for(RECOVERY, 3000)
        trial = run(RECOVERY, {"flash": image}, options=WriteOptions(settings={"image": 2}), start=False)
        chip: Any = trial.line.chip
        self.assertEqual((trial.end.green, trial.holds(image)), (True, False), trial.findings)
        self.assertEqual(bytes(chip.second[: image.size_bytes]), image.pieces[0].data)

    def with_chip(self, board: str, faults: tuple[str, ...] = (), start: bool = True, **silicon: Any) -> Trial:
        runner, trial = prepare(board, {"flash": sample_for(board, 3000)}, faults=faults, start=start)
        for name, value in silicon.items():
            setattr(trial.line.chip, name, value)
        trial.events.extend(runner.run())
        return trial

    def test_a_tag_is_no_sum(self) -> None:
        """A running program tells the hash of the file; only a match, or the boot loader, has computed one."""
        for faults, start, matches, ended in (
            ((), False, True, (0, True)), ((), False, False, (0, False)), ((), True, False, (0, True)),
            (("worn=0x400",), False, True, (7, False)), (("worn=0x400",), False, False, (0, False)),
            (("worn=0x400",), True, False, (8, False)),
        ):  # fmt: skip
            with self.subTest(faults=faults, start=start, matches=matches):
                trial = self.with_chip(PROGRAM, faults, start, matches=matches)
                self.assertEqual((trial.end.exit_code, trial.end.green), ended, trial.findings)

    def test_after_a_mismatch_it_is_sent_again_from_the_beginning(self) -> None:
        image = sample_for(PROGRAM, 3000)
        runner, trial = prepare(PROGRAM, {"flash": image}, start=False)
        chip: Any = trial.line.chip
        chip.second[: image.size_bytes] = image.pieces[0].data
        chip.second[900] ^= 1
        trial.events.extend(runner.run())
        self.assertEqual((trial.end.green, bytes(chip.second[: image.size_bytes])), (True, image.pieces[0].data))

    def test_a_recovery_that_lists_versions_only_leaves_it_unproven(self) -> None:
        trial = self.with_chip(RECOVERY, start=False, lists_hashes=False)
        self.assertEqual((trial.end.exit_code, trial.step("verify").outcome), (0, "unproven"), trial.findings)
        self.assertIn("by its version only", trial.step("verify").evidence)

    def test_a_server_that_does_not_tell_its_buffer(self) -> None:
        trial = self.with_chip(PROGRAM, answers_parameters=False)
        self.assertEqual((trial.end.green, refused(trial)), (True, []), trial.findings)

    def test_packets_leave_room_for_their_length_and_crc(self) -> None:
        for board in (PROGRAM, RECOVERY):
            trial = run(board, {"flash": sample_for(board, 9000)})
            self.assertEqual((trial.end.exit_code, refused(trial)), (0, []))

    def test_a_damaged_first_packet_is_sent_again_at_once(self) -> None:
        clean = run(RECOVERY, {"flash": sample_for(RECOVERY, 900)}, start=False)
        assert clean.link is not None
        for place in range(200, 420, 40):
            trial = run(
                RECOVERY, {"flash": sample_for(RECOVERY, 900)}, start=False, faults=(f"flip-to-chip={place}:04",)
            )
            assert trial.link is not None
            self.assertEqual(trial.end.exit_code, 0)
            self.assertLess(trial.link.now() - clean.link.now(), 12)

    def test_an_encrypted_image_is_taken_by_the_hash_that_it_tells(self) -> None:
        data = bytearray(sample_for(RECOVERY, 3000).pieces[0].data)
        data[16] |= 4
        signed = read_signed(bytes(data))
        self.assertEqual((signed.right, signed.encrypted), (True, True))
        data[16] ^= 4
        data[700] ^= 1
        self.assertFalse(read_signed(bytes(data)).right)

    def test_no_backup_and_an_empty_slot_after_an_erase(self) -> None:
        trial = run(RECOVERY, purpose="backup")
        self.assertEqual((trial.end.exit_code, trial.findings[0].key), (5, "cannot-backup"))
        trial = run(RECOVERY, purpose="erase")
        self.assertEqual((trial.end.exit_code, set(trial.line.chip.flash)), (0, {0xFF}), trial.findings)
        self.assertEqual(trial.step("verify").outcome, "unproven")


if __name__ == "__main__":
    unittest.main()
