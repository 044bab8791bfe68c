"""Findings: the table of situations on the bench, and rules that only plain observations reach."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from typing import Any

from greenstep.core.dialects.errors import ChipRefusal, RefusalKind
from greenstep.core.dialects.registry import dialect_names
from greenstep.core.findings.diagnosis import diagnose
from greenstep.core.findings.observations import Difference, LineHeard, Observations
from greenstep.core.findings.port_rules import PortListed, PortSeen, diagnose_port
from greenstep.core.findings.signatures import Signature
from greenstep.core.link import Frame, LineErrors, LineSettings, ResetBy

from ..sample import some
from .situations import ALL, BOARD_OF, BY_DIALECT, seeded
from .situations.situation import Situation


class Situations(unittest.TestCase):
    def test_each_has_its_first_finding(self) -> None:
        for row in some(ALL, 320):
            with self.subTest(row.name, board=row.board):
                trial = row.run()
                keys = [finding.key for finding in trial.findings]
                self.assertEqual(keys[:1], [row.key])
                self.assertEqual(trial.end.exit_code, row.exit_code)
                first = trial.findings[0]
                self.assertIn(row.said, " | ".join((first.cause, *first.evidence)))
                self.assertTrue(first.attempts)
                assert trial.link is None or trial.link.closed

    def test_all_that_are_due_are_there_for_every_dialect(self) -> None:
        self.assertEqual(set(BY_DIALECT), set(dialect_names()))
        for dialect, rows in BY_DIALECT.items():
            with self.subTest(dialect):
                self.assertEqual({row.number for row in rows}, set(range(1, 16)))
        self.assertGreaterEqual(len(ALL), 200)


class DrawnByLot(unittest.TestCase):
    def right(self, kind: Callable[[str, int], Situation], seeds: int) -> tuple[int, list[str]]:
        rows = some([kind(dialect, seed) for dialect in BOARD_OF for seed in range(seeds)], 30)
        missed = [f"{row.board} {row.name}" for row in rows if not row.came_first(row.run())]
        return len(rows), missed

    def test_nine_of_ten_wrong_rates(self) -> None:
        total, missed = self.right(seeded.wrong_rate, 3)
        self.assertLessEqual(len(missed), total // 10, missed)

    def test_frames_echo_and_strangers_in_all(self) -> None:
        for kind, seeds in ((seeded.wrong_frame, 1), (seeded.echo, 1), (seeded.stranger, 2)):
            with self.subTest(kind.__name__):
                self.assertEqual(self.right(kind, seeds)[1], [])


class Ports(unittest.TestCase):
    listed = (PortListed("/dev/ttyUSB3", "USB serial 1A86:7523", "0042"), PortListed("/dev/ttyACM0"))

    def test_situations(self) -> None:
        cases: list[tuple[PortSeen, str, str]] = [
            (PortSeen("/dev/ttyUSB0", "missing"), "no-ports", "nor any other"),
            (PortSeen("/dev/ttyUSB0", "missing", listed=self.listed), "no-such-port", "no port /dev/ttyUSB0"),
            (PortSeen("/dev/ttyUSB0", "missing", listed=self.listed, serial="0042"), "port-moved", "/dev/ttyUSB3"),
            (PortSeen("/dev/ttyUSB0", "busy", holders=("minder (812)",)), "port-busy", "held by minder (812)"),
            (PortSeen("/dev/ttyUSB0", "busy"), "port-busy", "another program"),
            (PortSeen("/dev/ttyUSB0", "forbidden", group="dialout"), "port-forbidden", "the group dialout"),
            (PortSeen("/dev/ttyUSB0", "vanished"), "port-vanished", "in the middle"),
            (PortSeen("/dev/null", "not a port"), "port-not-serial", "not a serial port"),
            (PortSeen("rfc2217://x:1", "unreachable", "refused"), "port-unreachable", "nothing serves"),
            (PortSeen("/dev/ttyUSB0", "setting", setting="9 8N1"), "port-setting", "does not take 9 8N1"),
            (PortSeen("/dev/ttyUSB0", "other", "odd"), "port", "cannot be opened"),
        ]
        for seen, key, said in cases:
            with self.subTest(key):
                finding = diagnose_port(seen)
                self.assertEqual(finding.key, key)
                self.assertIn(said, finding.cause)
                self.assertTrue(finding.attempts)

    def test_the_group_is_in_the_remedy(self) -> None:
        finding = diagnose_port(PortSeen("/dev/ttyUSB0", "forbidden", group="uucp"))
        self.assertIn("usermod -aG uucp", finding.attempts[0])


def seen(**changes: Any) -> Observations:
    values: dict[str, Any] = {
        "phase": "sync",
        "settings": LineSettings(115200, Frame(8, "even", 1)),
        "frame_wanted": Frame(8, "even", 1),
        "dialect_title": "STM32 ROM bootloader",
        "sync_sent": b"\x7f",
        "sync_answers": (b"\x79", b"\x1f"),
        "boot_pin": True,
        "reset_by": ResetBy.LINES,
        "sent": b"\x7f" * 12,
        "others": (
            Signature("AVR bootloader, AVR061", (b"\x14\x10",), ()),
            Signature("XMODEM receiver", (), (rb"C{2,}",)),
        ),
    }
    return Observations(**{**values, **changes})


def difference(expected: bytes, found: bytes, **changes: Any) -> Observations:
    first = next(i for i, (a, b) in enumerate(zip(expected, found, strict=True)) if a != b)
    values: dict[str, Any] = {"erased": 0xFF, **changes}
    return seen(phase="verify", synced=True, difference=Difference(0x08000000 + first, expected, found, **values))


DATA = bytes((n * 73 + 5) & 0xFF for n in range(1024))


class PlainObservations(unittest.TestCase):
    def first(self, observations: Observations) -> str:
        return diagnose(observations)[0].key

    def test_line(self) -> None:
        cases: dict[str, Observations] = {
            "other-dialect": seen(heard=LineHeard(answers=b"\x14\x10" * 3)),
            "silent-since-reset": seen(heard=LineHeard(before=b"hive scale 2.3 ready\r\n")),
            "garbage": seen(heard=LineHeard(answers=b"\x41")),
            "wrong-frame": seen(heard=LineHeard(answers=b"\x93" * 8), errors=LineErrors(parity=7)),
            "application": seen(heard=LineHeard(after=b"hive scale 2.3 ready\r\n")),
        }
        for key, observations in cases.items():
            with self.subTest(key):
                self.assertEqual(self.first(observations), key)

    def test_echo_is_the_whole_of_what_was_sent(self) -> None:
        self.assertEqual(self.first(seen(heard=LineHeard(answers=b"\x7f" * 12))), "echo")
        self.assertEqual(self.first(seen(heard=LineHeard(answers=b"\x7f\x7f\x7f\x41"))), "garbage")

    def test_verify_patterns(self) -> None:
        blank = DATA[:256] + b"\xff" * 768
        lost = DATA[:300] + DATA[301:] + b"\xff"
        worn = bytearray(DATA)
        for at in (17, 300, 901):
            worn[at] ^= 0x08
        anded = bytes(a & b for a, b in zip(DATA, DATA[::-1], strict=True))
        blocks = tuple((at, 256) for at in range(0, 1024, 256))
        cases = {
            "not-written": difference(DATA, blank),
            "last-block": difference(DATA, DATA[:768] + bytes(256), blocks=blocks),
            "shifted": difference(DATA, lost),
            "worn-flash": difference(DATA, bytes(worn)),
            "not-erased": difference(DATA, anded),
            "no-effect": difference(DATA, DATA[::-1], before=DATA[::-1]),
            "unstable-read": difference(DATA, DATA[::-1], reads_differ=True),
            "verify-differs": difference(DATA, DATA[511::-1] + DATA[512:]),
        }
        for key, observations in cases.items():
            with self.subTest(key):
                self.assertEqual(self.first(observations), key)

    def test_one_stuck_byte_in_the_last_block_is_no_end_that_was_not_written(self) -> None:
        blocks = tuple((at, 256) for at in range(0, 1024, 256))
        stuck = DATA[:1000] + bytes([DATA[1000] ^ 0x10]) + DATA[1001:]
        for guarded, key in ((True, "worn-flash"), (False, "verify-differs")):
            found = diagnose(difference(DATA, stuck, blocks=blocks, guarded=guarded))
            self.assertEqual([finding.key for finding in found], [key])

    def test_a_refusal_is_a_damaged_line_only_where_the_line_was_seen_to_be(self) -> None:
        for kind, repeated, keys in (
            (RefusalKind.BAD_DATA, 0, ["refused-data"]), (RefusalKind.BAD_DATA, 3, ["refused-data"]),
            (RefusalKind.BAD_DATA, 40, ["damaged-line"]), (RefusalKind.BAD_ADDRESS, 0, ["bad-address"]),
        ):  # fmt: skip
            refusal = ChipRefusal("write memory", kind, b"\x1f", 0x08000400)
            found = diagnose(seen(phase="write", synced=True, untouched=False, refusal=refusal, repeated=repeated))
            self.assertEqual([finding.key for finding in found], keys)

    def test_looking_only_speaks_of_no_write(self) -> None:
        for found, key, said in (
            (DATA[::-1], "other-image", "another image"),
            (DATA[:40] + b"\x00" + DATA[41:], "other-image", "almost this image"),
            (DATA[:256] + b"\xff" * 768, "blank", "are blank (FF)"),
        ):
            finding = diagnose(difference(DATA, found, written=False))[0]
            self.assertEqual(finding.key, key)
            self.assertIn(said, finding.cause)

    def test_one_flipped_bit_is_worn_flash_only_where_writes_are_guarded(self) -> None:
        found = DATA[:40] + bytes([DATA[40] ^ 2]) + DATA[41:]
        self.assertEqual(self.first(difference(DATA, found, guarded=True)), "worn-flash")
        self.assertEqual(self.first(difference(DATA, found)), "verify-differs")

    def test_a_difference_names_place_number_and_bytes(self) -> None:
        found = DATA[:40] + bytes([DATA[40] ^ 2]) + DATA[41:]
        evidence = diagnose(difference(DATA, found))[0].evidence
        self.assertIn("1 byte of 1,024 compared differ", evidence[0])
        self.assertIn("08000028", evidence[0])
        self.assertIn(f"expected {DATA[40]:02X}", evidence[1])

    def test_certain_findings_stand_alone(self) -> None:
        self.assertEqual(len(diagnose(seen(heard=LineHeard(answers=b"\x7f" * 12)))), 1)
        self.assertEqual(len(diagnose(seen(heard=LineHeard(answers=b"\x41")))), 1)


if __name__ == "__main__":
    unittest.main()
