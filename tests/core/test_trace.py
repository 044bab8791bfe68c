"""Recordings: what was on the line, into a value change dump and back, decoded and counted."""

from __future__ import annotations

import random
import re
import unittest
from itertools import pairwise
from typing import Any

from hypothesis import strategies as st

from greenstep.bench.trial import prepare, sample_for
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.engine.job import OpenedPort
from greenstep.core.engine.runner import Runner
from greenstep.core.link import Frame, LineSettings
from greenstep.core.safety.secrets import MaskedStream, Secrets
from greenstep.core.trace.decoding import decode_exchanges
from greenstep.core.trace.exchanges import exchanges_of, time_shares
from greenstep.core.trace.recording import LineEvent, RecordingLink, Trace
from greenstep.core.trace.story import TraceRow, explain_trace
from greenstep.core.trace.vcd import VcdError, read_vcd, write_vcd

from ..sample import some
from .examples import with_examples
from .situations import BOARD_OF

EIGHT_E = LineSettings(115200, Frame(8, "even", 1))


def recorded(board: str, size: int = 5000, **options: Any) -> Trace:
    """An upload on the bench, recorded."""
    runner, _ = prepare(board, {"flash": sample_for(board, size)}, **options)
    open_link = runner.open_link
    links: list[RecordingLink] = []

    def open_recorded(line: LineSettings, lines: tuple[bool, bool]) -> OpenedPort:
        links.append(RecordingLink(open_link(line, lines).link, None))
        first.append((line, lines))
        return OpenedPort(links[0], "recorded")

    first: list[tuple[LineSettings, tuple[bool, bool]]] = []
    for _ in Runner(runner.job, open_recorded).run():
        pass
    notes = {"dialect": runner.job.dialect.name, "board": board}
    return Trace.of(links[0].events, 0.0, *first[0], Secrets(), notes)


def again(trace: Trace) -> Trace:
    return read_vcd(write_vcd(trace, "1"))


class Dump(unittest.TestCase):
    def test_an_upload_comes_back_whole(self) -> None:
        for board in ("stm32f072", "atmega328p"):
            with self.subTest(board):
                trace = recorded(board)
                back = again(trace)
                self.assertEqual(
                    [(b.way, b.value) for b in back.bytes_seen], [(b.way, b.value) for b in trace.bytes_seen]
                )
                for one, other in zip(trace.bytes_seen, back.bytes_seen, strict=True):
                    self.assertAlmostEqual(one.at_s, other.at_s, delta=1.1e-7)
                self.assertEqual(back.notes, trace.notes)
                self.assertEqual(back.changes[-1].settings, trace.changes[-1].settings)
                self.assertAlmostEqual(back.end_s, trace.end_s, delta=1e-6)

    def test_the_text_is_what_the_standard_asks_for(self) -> None:
        text = "".join(write_vcd(recorded("atmega328p"), "1"))
        declared = re.findall(r"^\$var (\w+) (\d+) (\S) (\w+)(?: \[\d:0\])? \$end$", text, re.MULTILINE)
        kinds = {kind for kind, *_ in declared}
        self.assertLessEqual(kinds, {"reg", "wire", "event", "integer"})
        identifiers = {identifier for _, _, identifier, _ in declared}
        head, _, body = text.partition("$enddefinitions $end\n")
        self.assertIn("$timescale 100 ns $end", head)
        times = [int(t) for t in re.findall(r"^#(\d+)$", body, re.MULTILINE)]
        self.assertEqual(times, sorted(set(times)))
        for line in body.splitlines():
            if line.startswith("$"):
                self.assertIn(line, ("$dumpvars", "$end"))
            elif not line.startswith("#"):
                match = re.fullmatch(r"b([01]+|z) (\S)|[01](\S)", line)
                assert match is not None, line
                self.assertIn(match[2] or match[3], identifiers)

    def test_equal_bytes_in_a_row_are_as_many(self) -> None:
        events = [LineEvent(0, 1.0, "sent", b"\x7f\x7f\x7f"), LineEvent(1, 1.1, "heard", b"\x79")]
        trace = Trace.of(events, 1.0, EIGHT_E, (False, False), Secrets(), {})
        self.assertEqual([b.value for b in again(trace).bytes_seen], [0x7F, 0x7F, 0x7F, 0x79])
        self.assertAlmostEqual(trace.bytes_seen[1].at_s, 11 / 115200)
        self.assertAlmostEqual(trace.bytes_seen[3].end_s, 0.1)

    @with_examples(
        st.lists(
            st.tuples(st.sampled_from(["sent", "heard"]), st.floats(0, 0.01), st.binary(min_size=1, max_size=40)),
            max_size=30,
        ),
        most=40,
    )
    def test_bytes_keep_their_order_however_quick_the_port(self, said: list[tuple[Any, float, bytes]]) -> None:
        at_s, events = 0.0, []
        for number, (way, later_s, data) in enumerate(said):
            at_s += later_s
            events.append(LineEvent(number, at_s, way, data))
        trace = Trace.of(events, 0.0, EIGHT_E, (False, False), Secrets(), {})
        self.assertEqual(
            [(b.way, b.value) for b in again(trace).bytes_seen], [(way, v) for way, _, data in said for v in data]
        )
        for one, following in pairwise(trace.bytes_seen):
            self.assertLess(one.at_s, following.at_s)

    def test_what_is_no_recording(self) -> None:
        good = "".join(write_vcd(recorded("atmega328p"), "1"))
        cases = {
            "hello": "not a value change dump",
            "$var wire 1 ! clk $end $enddefinitions $end #0": "no signal",
            "": "ends before",
            good.replace("100 ns", "3 ns"): "not a time scale",
            good + "#12x\n": "is not a time",
            good + "b1 Q\n": "not a signal",
            good + "b12 q\n": "not a value",
        }
        for text, said in cases.items():
            with self.subTest(said), self.assertRaisesRegex(VcdError, said):
                read_vcd(text.splitlines())


class Explained(unittest.TestCase):
    """What a recording says of loaders that are unlike the others."""

    def rows(self, board: str, size: int = 700) -> list[str]:
        trace = recorded(board, size)
        said = [(exchange.sent, exchange.heard) for exchange in exchanges_of(trace)]
        told = decode_exchanges(find_dialect(trace.notes["dialect"]), said)
        return [f"{row.command} {row.detail}".strip() for row in told]

    def test_in_words(self) -> None:
        for board, said in (
            ("p8x32a", ("handshake 258 bits back", "room for an answer FE")),
            ("p2x8c4m64p", ('check "Prop_Ver G"',)),
            ("rp2350", ("version", "back to the start", "run")),
            ("cy8c4245", ("enter", "get flash size", "program row array 0, row 40", "verify application", "exit")),
            ("nrf52832", ("ping", "create object packet, 101 bytes", "get CRC 700 bytes before", "execute object")),
            ("msp430g2553", ("version", "mass erase", "password", "write C000, 240 bytes", "write FFE0, 32 bytes")),
            ("msp430f5438a", ("transmit BSL version locked", "mass erase", "CRC check 05C00, 700 bytes")),
            (
                "samd21g18",
                ("binary mode", "read word E000ED00: 410FC601", "go 20003000", "send file 20003700, 128 bytes"),
            ),
            ("stm8s105", ("sync 79", "get 05 13 00 11 21 31 43", "go 00008000")),
        ):
            rows = self.rows(board)
            for row in said:
                with self.subTest(board, row=row):
                    self.assertIn(row, rows)

    def test_no_password_is_shown(self) -> None:
        _, trial = prepare("msp430g2553")
        secret = bytes(trial.line.chip.flash[0xFFE0 - 0xC000 : 0x10000 - 0xC000])
        for text in self.rows("msp430g2553"):
            self.assertNotIn(secret[:2].hex(" ").upper(), text)


class Damaged(unittest.TestCase):
    def read(self, text: str) -> None:
        """To its end, as `trace show` does; VcdError is what damage may come to."""
        try:
            trace = read_vcd(text.splitlines(keepends=True))
            told = list(explain_trace(trace, exchanges_of(trace), find_dialect("stm32-rom")))
            self.assertTrue(time_shares(trace) and told is not None)
        except VcdError as error:
            self.assertTrue(str(error))

    def test_one_value_that_no_byte_has(self) -> None:
        text = "".join(write_vcd(recorded("stm32f072", 300), "1"))
        values = [found.span() for found in re.finditer(r"(?m)^b[01]+ ", text)]
        for start, end in values[:: len(values) // 5]:
            for other in ("b1" + "0" * 63 + " ", "b2 ", "b ", "bx ", "r1e400 "):
                self.read(text[:start] + other + text[end:])
        for time in ("#-1", "#99999999999999999999", "#²", "#"):
            self.read(re.sub(r"(?m)^#\d{4,}$", time, text, count=1))

    def test_any_byte(self) -> None:
        text = "".join(write_vcd(recorded("stm32f072", 300), "1"))[:6000]
        dice = random.Random(5)
        for _ in range(60):
            at = dice.randrange(len(text))
            self.read(text[:at] + chr(dice.randrange(256)) + text[at + dice.randrange(3) :])

    def test_every_dialect_s_frames_cut_short_or_with_other_bytes(self) -> None:
        dice = random.Random(7)
        for dialect, board in BOARD_OF.items():
            with self.subTest(dialect):
                said = [(exchange.sent, exchange.heard) for exchange in exchanges_of(recorded(board, 300))][:40]
                rows = decode_exchanges(find_dialect(dialect), said)
                self.assertEqual(sum(row.count for row in rows), len(said))
                self.assertTrue([row for row in rows if row.command])
                for _ in some(range(300), 60):
                    hurt = [(damaged(dice, sent), damaged(dice, heard)) for sent, heard in said]
                    rows = decode_exchanges(find_dialect(dialect), hurt)
                    self.assertEqual(sum(row.count for row in rows), len(said))


def damaged(dice: random.Random, data: bytes) -> bytes:
    """As it was, cut short, or with one other byte."""
    kind, at = dice.randrange(5), dice.randrange(len(data) + 1)
    if kind > 1:
        return data
    return data[:at] if kind else data[:at] + bytes([dice.randrange(256)]) + data[at + 1 :]


class Sense(unittest.TestCase):
    def rows(self, trace: Trace, **options: Any) -> list[TraceRow]:
        return explain_trace(trace, exchanges_of(trace), find_dialect(trace.notes["dialect"]), **options)

    def test_an_stm32_upload_is_told_command_by_command(self) -> None:
        trace = again(recorded("stm32f072"))
        rows = [row for row in self.rows(trace) if row.what not in ("lines", "heard")]
        self.assertEqual(
            list(dict.fromkeys(row.what for row in rows)),
            ["sync", "get", "get id", "read memory", "extended erase", "write memory"],
        )
        self.assertIn("3 units", next(row.detail for row in rows if row.what == "extended erase"))
        self.assertIn("5,000 bytes", rows[-1].detail)
        self.assertFalse([row for row in self.rows(trace, joined=False) if row.what == "unknown"])

    def test_an_avr_upload_likewise(self) -> None:
        trace = again(recorded("atmega328p", expect="hive scale 2.4"))
        rows = self.rows(trace)
        written = next(row for row in rows if row.what == "write page (flash)")
        self.assertEqual((written.times, written.detail), (40, "0000-13FF, 5,120 bytes"))
        self.assertIn("hive scale", next(row.detail for row in rows if row.what == "leave programming"))
        self.assertFalse([row for row in rows if row.what == "unknown"])

    def test_refusals_and_silence_are_told(self) -> None:
        locked = self.rows(recorded("stm32f072", faults=("locked",)))
        self.assertTrue([row for row in locked if row.what == "read memory" and "refused, 1F" in row.detail])
        dead = self.rows(recorded("stm32f072", faults=("dead",)))
        self.assertTrue([row for row in dead if row.what == "sync" and row.detail == "no answer"])

    def test_every_second_has_its_share(self) -> None:
        for board in ("stm32f072", "atmega328p"):
            with self.subTest(board):
                shares = time_shares(recorded(board))
                parts = (shares.sending_s, shares.hearing_s, shares.turns_s, shares.busy_s, shares.unanswered_s,
                         shares.lines_s, shares.own_s)  # fmt: skip
                self.assertAlmostEqual(sum(parts), shares.total_s, delta=0.02 * shares.total_s)
                self.assertGreater(shares.busy_s, 0.1)
                self.assertAlmostEqual(shares.turn_s, 0.001, delta=0.0006)


class Hidden(unittest.TestCase):
    def test_a_secret_is_masked_though_it_came_in_pieces(self) -> None:
        secrets = Secrets()
        secrets.add("honey-17")
        events = [
            LineEvent(0, 0.0, "sent", b"honey-17\r\n"),
            *(LineEvent(n + 1, 0.1 + n * 0.01, "heard", bytes([c])) for n, c in enumerate(b"key honey-17 ok")),
        ]
        trace = again(Trace.of(events, 0.0, EIGHT_E, (False, False), secrets, {}))
        heard = bytes(b.value for b in trace.bytes_seen if b.way == "heard")
        self.assertEqual(heard, b"key ******** ok")
        self.assertNotIn(b"honey", bytes(b.value for b in trace.bytes_seen if b.way == "sent"))

    @with_examples(st.lists(st.integers(0, 30), max_size=8))
    def test_a_stream_shows_none_of_it_however_it_is_cut(self, cuts: list[int]) -> None:
        secrets = Secrets()
        secrets.add("honey-17")
        text = b"the key is honey-17, honestly"
        stream, shown, at = MaskedStream(secrets), b"", 0
        for cut in [*sorted(cuts), len(text)]:
            shown += stream.feed(text[at:cut])
            at = max(at, cut)
        shown += stream.flush()
        self.assertEqual(shown, b"the key is ********, honestly")
        self.assertNotIn(b"honey-17", shown)
        self.assertEqual(len(shown), len(text))


if __name__ == "__main__":
    unittest.main()
