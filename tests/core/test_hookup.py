"""Sequences, circuits and what they do to DTR and RTS."""

from __future__ import annotations

import unittest
from typing import Any

from greenstep.core.errors import UsageFault
from greenstep.core.hookup.circuits import hookup_from_table, named_hookup
from greenstep.core.hookup.drive import Driver
from greenstep.core.hookup.sequence import Move, SequenceError, Wait, parse_sequence
from greenstep.core.link import LineErrors, LineSettings


class NotedLines:
    """A link that only notes what happens to its lines, and when."""

    def __init__(self) -> None:
        self.clock = 0.0
        self.noted: list[Any] = []
        self.settings = LineSettings(115200)

    def set_lines(self, dtr: bool, rts: bool) -> None:
        self.noted.append((round(self.clock * 1000), "dtr" * dtr, "rts" * rts))

    def set_break(self, on: bool) -> None:
        self.noted.append((round(self.clock * 1000), "break", on))

    def sleep(self, seconds: float) -> None:
        self.clock += seconds

    def now(self) -> float:
        return self.clock

    def configure(self, settings: LineSettings) -> None: ...
    def write(self, data: bytes) -> None: ...
    def read(self, size: int, timeout_s: float) -> bytes:
        return b""

    def discard(self) -> bytes:
        return b""

    def errors(self) -> LineErrors | None:
        return None

    def close(self) -> None: ...


class Language(unittest.TestCase):
    def test_statements(self) -> None:
        sequence = parse_sequence("Boot on; reset on, rts off ; wait 100 ms; reset off;wait 0.5 s; break on;")
        self.assertEqual(
            sequence.steps,
            (
                Move((("boot", True),)),
                Move((("reset", True), ("rts", False))),
                Wait(0.1),
                Move((("reset", False),)),
                Wait(0.5),
                Move((("break", True),)),
            ),
        )
        self.assertEqual(parse_sequence(str(sequence)), sequence)

    def test_faults_point_at_the_place(self) -> None:
        cases = {
            "": (1, "nothing"),
            "boot on; rest on": (10, "'rest'; expected 'reset'"),
            "boot": (5, "nothing after 'boot'"),
            "boot maybe": (6, "'maybe' after 'boot'; expected 'on' or 'off'"),
            "boot on reset off": (9, "expected ';' between"),
            "wait 100": (6, "'100' after 'wait'; expected a time with its unit"),
            "wait": (5, "nothing after 'wait'"),
            "reset on; wait 90 s": (16, "at most 60 s"),
            "dtr on, dtr off": (9, "'dtr' a second time"),
            "reset on,; wait 1 s": (0, ""),
        }
        for text, (column, message) in cases.items():
            with self.subTest(text):
                if not column:
                    self.assertEqual(len(parse_sequence(text).steps), 2)
                    continue
                with self.assertRaises(SequenceError) as caught:
                    parse_sequence(text)
                self.assertEqual(caught.exception.column, column)
                self.assertIn(message, str(caught.exception))


class Circuits(unittest.TestCase):
    def lines_of(self, hookup: Any, sequence: Any) -> list[Any]:
        link = NotedLines()
        Driver(link, hookup).run(sequence)
        return link.noted

    def test_named_ones_at_rest_and_held(self) -> None:
        # name, boot level -> (DTR, RTS) at rest, in reset, with boot selected
        cases = {
            ("dtr-reset-rts-boot", "high"): ((False, True), (True, True), (False, False)),
            ("rts-reset-dtr-boot", "high"): ((True, False), (True, True), (False, False)),
            ("dtr-reset-rts-boot", "low"): ((False, False), (True, False), (False, True)),
            ("cross-pair", "low"): ((False, False), (False, True), (True, False)),
            ("cap-dtr", ""): ((False, False), (True, False), (False, False)),
            ("cap-rts", ""): ((False, False), (False, True), (False, False)),
            ("rts-reset-only", "high"): ((False, False), (False, True), (False, False)),
        }
        for (name, level), (rest, reset, boot) in cases.items():
            with self.subTest(name, level=level):
                hookup = named_hookup(name, level)
                self.assertEqual(hookup.idle_lines, rest)
                self.assertEqual(hookup.lines_for(True, False), reset)
                self.assertEqual(hookup.lines_for(False, True), boot)
                self.assertFalse(hookup.by_hand)
        self.assertTrue(named_hookup("by-hand", "high").by_hand)

    def test_capacitor_enters_by_one_edge(self) -> None:
        hookup = named_hookup("cap-dtr", "")
        assert hookup.enter is not None
        self.assertEqual(self.lines_of(hookup, hookup.enter), [(0, "", ""), (50, "dtr", "")])

    def test_cross_pair_never_asks_for_both(self) -> None:
        hookup = named_hookup("cross-pair", "low")
        assert hookup.enter is not None
        noted = self.lines_of(hookup, hookup.enter)
        self.assertEqual(noted, [(0, "dtr", ""), (0, "", "rts"), (20, "dtr", ""), (170, "", "")])

    def test_direct_through_an_inverter(self) -> None:
        table = {
            "reset": {"line": "rts", "held": "released"},
            "boot": {"line": "dtr", "selected": "asserted"},
            "enter": "boot on, reset on; wait 10 ms; reset off",
        }
        hookup = hookup_from_table(table, "high")
        self.assertEqual(hookup.idle_lines, (False, True))
        assert hookup.enter is not None
        self.assertEqual(self.lines_of(hookup, hookup.enter), [(0, "dtr", ""), (10, "dtr", "rts")])

    def test_lines_and_break_by_their_own_names(self) -> None:
        hookup = hookup_from_table({"enter": "dtr on; break on; wait 1 ms; dtr off, rts on; break off"}, "")
        assert hookup.enter is not None
        self.assertEqual(
            self.lines_of(hookup, hookup.enter),
            [(0, "dtr", ""), (0, "break", True), (1, "", "rts"), (1, "break", False)],
        )

    def test_table_of_the_sketch(self) -> None:
        table = {
            "reset": {"line": "rts", "held": "asserted"},
            "boot": {"line": "dtr", "selected": "asserted"},
            "cross": True,
            "leave": "boot off; reset on; wait 100 ms; reset off",
        }
        hookup = hookup_from_table(table, "low")
        self.assertTrue(hookup.crossed)
        self.assertEqual(str(hookup.enter), str(named_hookup("cross-pair", "low").enter))

    def test_one_like_another(self) -> None:
        hookup = hookup_from_table({"like": "rts-reset-dtr-boot", "leave": "reset on; wait 5 ms; reset off"}, "high")
        self.assertEqual(hookup.boot, named_hookup("rts-reset-dtr-boot", "high").boot)
        self.assertEqual(str(hookup.leave), "reset on; wait 5 ms; reset off")

    def test_refused_tables(self) -> None:
        cases: list[tuple[dict[str, Any], str]] = [
            ({"rest": {}}, "has no 'rest'"),
            ({"reset": "rts"}, "hookup.reset is 'rts'"),
            ({"reset": {"line": "cts"}}, "hookup.reset.line is 'cts'"),
            ({"reset": {"line": "rts", "held": "low"}}, "hookup.reset.held is 'low'"),
            ({"reset": {"line": "rts"}, "boot": {"line": "rts"}}, "both on RTS"),
            ({"reset": {"line": "rts"}, "cross": True}, "cross pair needs"),
            ({"cross": "yes"}, "hookup.cross is 'yes'"),
            ({"enter": "boot onn"}, "hookup.enter, column 6"),
            ({"like": "cross-pear"}, "no hookup is called"),
        ]
        for table, message in cases:
            with self.subTest(message), self.assertRaises(UsageFault) as caught:
                hookup_from_table(table, "high")
            self.assertIn(message, caught.exception.finding.cause)


if __name__ == "__main__":
    unittest.main()
