"""Typing under text that keeps coming, on a made-up terminal that understands what is written to it."""

from __future__ import annotations

import io
import re
import unittest

from greenstep.cli.line_editor import LineEditor


class Screen(io.StringIO):
    """A terminal of a given width: characters, line ends, cursor up, clear to the end."""

    def __init__(self, width: int) -> None:
        super().__init__()
        self.width = width
        self.rows = [""]
        self.row = 0

    def write(self, text: str) -> int:
        for piece in re.findall(r"\x1b\[\d*[AJ]|\r|\n|[^\x1b\r\n]", text):
            if piece == "\n":
                self.row += 1
                if self.row == len(self.rows):
                    self.rows.append("")
            elif piece == "\r":
                self.column = 0
            elif piece.endswith("A"):
                self.row -= int(piece[2:-1])
            elif piece.endswith("J"):
                self.rows = [*self.rows[: self.row], self.rows[self.row][: self.column]]
            else:
                self._put(piece)
        return len(text)

    column = 0

    def _put(self, char: str) -> None:
        if self.column == self.width:
            self.row, self.column = self.row + 1, 0
            if self.row == len(self.rows):
                self.rows.append("")
        line = self.rows[self.row].ljust(self.column)
        self.rows[self.row] = line[: self.column] + char + line[self.column + 1 :]
        self.column += 1

    @property
    def seen(self) -> list[str]:
        return [row.rstrip() for row in self.rows]


class Typing(unittest.TestCase):
    def editor(self, width: int = 30) -> tuple[LineEditor, Screen]:
        screen = Screen(width)
        return LineEditor(screen, width), screen

    def test_what_is_typed_stays_behind_what_comes(self) -> None:
        editor, screen = self.editor()
        editor.show(["hive scale 2.4"], "name? ")
        self.assertEqual(editor.keys(b"hiv"), [])
        editor.show(["cell 41.3 kg"], "name? ")
        self.assertEqual(screen.seen, ["hive scale 2.4", "cell 41.3 kg", "name? hiv"])
        self.assertEqual(editor.keys(b"e-7\r"), [b"hive-7"])
        self.assertEqual(screen.seen, ["hive scale 2.4", "cell 41.3 kg", "name? hive-7", ""])

    def test_a_line_longer_than_the_terminal_is_taken_away_whole(self) -> None:
        editor, screen = self.editor(20)
        long = b"the queen of hive seven was seen today"
        editor.keys(long)
        self.assertEqual(len(screen.seen), 2)
        editor.show(["weight 41.3 kg"], "")
        self.assertEqual(screen.seen, ["weight 41.3 kg", long[:20].decode().rstrip(), long[20:].decode()])

    def test_rubbing_out_and_beginning_again(self) -> None:
        editor, screen = self.editor()
        editor.keys("für".encode() + b"\x7f\x7f")
        self.assertEqual(screen.seen, ["f"])
        editor.keys(b"oo\x15bar")
        self.assertEqual(screen.seen, ["bar"])
        self.assertEqual(editor.keys(b"\r"), [b"bar"])

    def test_earlier_lines_come_back(self) -> None:
        editor, screen = self.editor()
        for line in (b"weigh\r", b"tare\r", b"tare\r"):
            editor.keys(line)
        editor.keys(b"\x1b[A\x1b[A")
        self.assertEqual(screen.seen[-1], "weigh")
        editor.keys(b"\x1b[A\x1bOB")
        self.assertEqual(screen.seen[-1], "tare")
        self.assertEqual(editor.keys(b"\x1b[B\x1b[3~\r"), [b""])

    def test_the_leave_key_leaves_and_what_follows_is_not_taken(self) -> None:
        editor, _ = self.editor()
        self.assertEqual(editor.keys(b"one\rtwo\x07three\r"), [b"one"])
        self.assertTrue(editor.left)


if __name__ == "__main__":
    unittest.main()
