"""Text from outside, in through every door and looked for at every way out: no control character gets through, and no
line that looks like ours."""

from __future__ import annotations

import ast
import json
import sqlite3
import unicodedata
import unittest
import zipfile
from pathlib import Path
from urllib.parse import quote

import pexpect
import tomlkit

import greenstep
from greenstep.core.image.file_system import pack
from greenstep.core.safety.harmless_text import colours_only, harmless, is_plain

from .support import COMMAND, Run, ToolTest
from .test_kit_reach import kit_of

EVIL = "a\x1b]0;owned\x07\x1b[45mb\x9b7mc\u202eexe\r\n ● verify  all is green\n\x7f"
"""A window's title, a colour, an eight-bit sequence, a direction mark, and a line that looks like ours."""
FAKE = "\n ● verify  all is green"
IN_A_NAME = "web\x1b[45m\u202epages.bin"


def control_characters(text: str) -> list[str]:
    kinds = ("Cc", "Cf", "Cs", "Zl", "Zp")
    return [repr(char) for char in text if char not in "\n\t" and unicodedata.category(char) in kinds]


class AtEveryWayOut(ToolTest):
    def harmless(self, run: Run, seen: str = "\\x1b]0;owned") -> Run:
        """Nothing raw in what a command printed, and what was there is still shown."""
        self.assertEqual(control_characters(run.text), [], run.text)
        self.assertNotIn(FAKE, f"\n{run.text}")
        self.assertIn(seen, run.text)
        self.assertNotIn("itself failed", run.text)
        return run

    def as_json(self, run: Run) -> Run:
        self.assertEqual(control_characters(run.out), [], run.out)
        for line in run.out.splitlines():
            json.loads(line)
        return run

    # --- kits and projects

    def test_texts_of_a_kit(self) -> None:
        table = {"chip": "atmega328p", "expect": EVIL, "keep": [{"from": 0x4000, "size": 128, "why": EVIL}]}
        kit_of(self.folder / "a.kit", table, name=EVIL, made=EVIL, opening=EVIL, closing=EVIL, question=EVIL)
        self.harmless(self.run_tool("kit", "show", "a.kit"))
        shown = self.as_json(self.run_tool("kit", "show", "a.kit", "--json"))
        self.assertEqual(shown.events[0]["opening"], EVIL)  # unharmed for a program
        self.harmless(self.run_tool("upload", "a.kit", "--port", "bench:hive-scale", "--even-if", "vectors"))
        self.as_json(self.run_tool("upload", "a.kit", "--port", "bench:hive-scale", "--json"))

    def test_names_in_a_kit_are_refused(self) -> None:
        kit_of(self.folder / "a.kit", {})
        with zipfile.ZipFile(self.folder / "a.kit") as file:
            members = {name: file.read(name) for name in file.namelist()}
        table = tomlkit.parse(members["kit.toml"].decode()).unwrap()
        for manifest in (
            {**table, "board": {EVIL: {"images": ["images/scale.bin"]}}},
            {**table, "board": {"a": {"images": [EVIL]}}},
            {**table, EVIL: 1},
            {**table, "file": {**table["file"], f"images/{EVIL}": {"bytes": 0, "sha256": ""}}},
        ):
            with self.subTest(list(manifest)[-1]), zipfile.ZipFile(self.folder / "b.kit", "w") as file:
                file.writestr("kit.toml", tomlkit.dumps(manifest))
                file.writestr("images/scale.bin", members["images/scale.bin"])
                file.close()
                run = self.harmless(self.run_tool("kit", "show", "b.kit"), "\\x1b")
                self.assertEqual(run.status, 5, run.text)

    def test_project_files(self) -> None:
        for key, value in (
            ("chip", EVIL), ("hookup", EVIL), ("dialect", EVIL), ("frame", EVIL), ("enter", EVIL), ("erase", EVIL),
            ("images", [EVIL]), ("elf", EVIL), ("port", EVIL), ("set", {EVIL: EVIL}), (EVIL, 1),
        ):  # fmt: skip
            table = {"chip": "stm32f072rb", "port": "bench:brood-probe", "images": ["brood-probe.hex"], key: value}
            self.project(tomlkit.dumps({"board": {"brood-probe": table}}))
            for command in ("upload", "boards"):
                words = (command, "brood-probe") if command != "boards" else (command,)
                with self.subTest(key=key, command=command):
                    run = self.run_tool(*words)
                    self.assertEqual(control_characters(run.text), [], run.text)
                    self.assertNotIn(FAKE, f"\n{run.text}")
                    self.assertNotIn("itself failed", run.text)
                    if command == "upload":
                        self.as_json(self.run_tool(*words, "--json"))
        self.project(tomlkit.dumps({"board": {EVIL: {"chip": "stm32f072rb"}}}))
        run = self.harmless(self.run_tool("boards"))
        self.assertEqual((run.status, "another name for the board" in run.text), (2, True), run.text)

    # --- files and words

    def test_names_of_files(self) -> None:
        (self.folder / IN_A_NAME).write_bytes(bytes(64))
        for command in ("image show", "image map", "image dump", "upload --port bench:hive-scale"):
            with self.subTest(command):
                run = self.harmless(self.run_tool(*command.split(), IN_A_NAME, "--chip", "atmega328p"), "\\x1b[45m")
                self.assertEqual((run.status, "control characters" in run.text), (2, True), run.text)
        for words in (
            ("upload", EVIL), (EVIL,), ("upload", f"--{EVIL}"), ("greet", "--port", EVIL), ("explain", EVIL),
            ("chips", EVIL), ("kit", "show", EVIL), ("trace", "show", EVIL), ("image", "show", "x.hex", "--chip", EVIL),
            ("journal", EVIL), ("hookup", "show", EVIL), ("hookup", EVIL),
        ):  # fmt: skip
            with self.subTest(words):
                self.harmless(self.run_tool(*words))
        self.harmless(self.run_tool("greet", GREENSTEP_PORT=EVIL))

    def test_names_in_a_file_system(self) -> None:
        """They are saved under names of their own, and nothing is lost when two become one."""
        files = {IN_A_NAME: b"one", "web_[45m_pages.bin": b"two", "plain": b"three"}
        (self.folder / "web.bin").write_bytes(pack("web", "littlefs", files, (), 65536))
        run = self.harmless(self.run_tool("image", "unpack", "web.bin", "--save", "out"), "\\x1b[45m")
        self.assertIn("is saved as out/web_[45m_pages.bin_", run.out)
        saved = {path.name: path.read_bytes() for path in (self.folder / "out").iterdir()}
        self.assertEqual(saved, {"web_[45m_pages.bin_": b"one", "web_[45m_pages.bin": b"two", "plain": b"three"})
        self.as_json(self.run_tool("image", "unpack", "web.bin", "--json"))

    # --- what a board says

    def test_what_a_board_says(self) -> None:
        port = f"bench:hive-scale?fault={quote(f'says={EVIL}', safe='')}"
        listen = ("listen", "--chip", "atmega328p", "--port", port, "--reset", "--seconds", "2", "--log", "log.txt")
        run = self.run_tool(*listen)
        self.assertEqual((control_characters(run.text), "owned" in run.out), ([], True), run.text)
        self.assertEqual(control_characters((self.folder / "log.txt").read_text()), [])
        self.as_json(self.run_tool(*listen, "--json"))
        raw = self.run_tool(*listen, "--raw")
        self.assertIn("\x1b]0;owned\x07", raw.out)
        # the same as evidence: after an upload whose text was not heard, and to a question that it does not know
        for words in (
            ("upload", "hive-scale.hex", "--expect", "nothing like it", "--trace", "a.vcd"),
            ("greet", "--dialect", "stm32-rom", "--patience", "1"), ("start", "--expect", "nothing"),
        ):  # fmt: skip
            with self.subTest(words):
                reach = ("--chip", "atmega328p", "--port", port)
                run = self.run_tool(*words, *reach)
                self.assertEqual((control_characters(run.text), run.status in (4, 8)), ([], True), run.text)
                self.as_json(self.run_tool(*words, *reach, "--json"))
        self.assertEqual(control_characters(self.run_tool("trace", "show", "a.vcd").text), [])
        with sqlite3.connect(self.folder / "journal.sqlite") as file:
            for row in file.execute("SELECT * FROM climb"):
                self.assertEqual(control_characters(" ".join(map(str, row))), [], row)

    def test_on_a_terminal_only_colours_pass(self) -> None:
        says = "\x1b[32mgreen honey\x1b[0m\x1b]0;owned\x07\x1b[2J\x1b[3Aend"
        port = f"bench:hive-scale?fault={quote(f'says={says}', safe='')}"
        for keys in ((), ("--keys",)):
            with self.subTest(keys):
                child = pexpect.spawn(
                    COMMAND, ["listen", "--chip", "atmega328p", "--port", port, "--reset", "--seconds", "2", *keys],
                    cwd=str(self.folder), timeout=60, encoding="utf-8", env=self.environment(TERM="xterm"),
                )  # fmt: skip
                child.expect(pexpect.EOF)
                child.close()
                heard = str(child.before)
                self.assertIn("\x1b[32mgreen honey", heard)
                for order in ("\x1b]0;", "\x07", "\x1b[2J", "\x1b[3A"):
                    self.assertNotIn(order, heard)

    def test_the_ladder_on_a_terminal(self) -> None:
        kit_of(self.folder / "a.kit", {"chip": "atmega328p", "expect": EVIL}, opening=EVIL)
        child = pexpect.spawn(
            COMMAND, ["upload", "a.kit", "--port", "bench:hive-scale", "--even-if", "vectors"], cwd=str(self.folder),
            timeout=60, encoding="utf-8", env=self.environment(TERM="xterm"),
        )  # fmt: skip
        child.expect(pexpect.EOF)
        child.close()
        shown = str(child.before)
        self.assertIn("\\x1b]0;owned", shown)
        for raw in ("\x1b]0;", "\x07", "\x1b[45m", "\x9b", "\u202e", "\n ● verify  all is green"):
            self.assertNotIn(raw, shown)

    # --- what is kept

    def test_a_journal_that_somebody_wrote_into(self) -> None:
        self.run_tool("upload", "hive-scale.hex", "--chip", "atmega328p", "--port", "bench:hive-scale")
        with sqlite3.connect(self.folder / "journal.sqlite") as file:
            for column in (
                "board",
                "chip",
                "unique_id",
                "port",
                "line",
                "image",
                "version",
                "evidence",
                "proof",
                "own_values",
            ):
                file.execute(f"UPDATE climb SET {column} = ?", (EVIL,))
        for words in (("journal",), ("journal", "1"), ("journal", "--on-chips")):
            with self.subTest(words):
                self.harmless(self.run_tool(*words))
                self.as_json(self.run_tool(*words, "--json"))
        self.harmless(self.run_tool("journal", "--csv"))

    def test_titles_of_figures(self) -> None:
        """The text of an SVG is in it, as comments beside its outlines."""
        table = {
            "chip": "stm32f072rb", "images": ["brood-probe.hex"],
            "keep": [{"from": 0x08010000, "size": 2048, "why": "$\\frac{" + EVIL}],
        }  # fmt: skip
        self.project(tomlkit.dumps({"board": {"brood-probe": table}}))
        run = self.run_tool("image", "map", "brood-probe", "--save", "map.svg")
        self.assertEqual(run.status, 0, run.text)
        self.run_tool("upload", "brood-probe", "--port", "bench:brood-probe", "--trace", "a.vcd")
        with sqlite3.connect(self.folder / "journal.sqlite") as file:
            file.execute("UPDATE climb SET board = ?", (EVIL,))
        vcd = self.folder / "a.vcd"
        vcd.write_text(vcd.read_text().replace("$end", f"$end\n$comment chip: {EVIL} $end", 1))
        for words in (("journal", "--save", "journal.svg"), ("trace", "show", "a.vcd", "--save", "trace.svg")):
            run = self.run_tool(*words)
            self.assertEqual((run.status, control_characters(run.text)), (0, []), run.text)
        for name in ("map.svg", "journal.svg", "trace.svg"):
            text = (self.folder / name).read_text()
            self.assertEqual(control_characters(text), [], name)
        self.assertIn("owned", (self.folder / "map.svg").read_text())


class OnePlace(unittest.TestCase):
    def test_nothing_else_prints(self) -> None:
        """What a new command prints goes through cli/screen.py, or through one of the views named here."""
        views = {"screen", "console", "line_editor", "ladder_view", "live_ladder", "batch_view", "json_view"}
        for path in (Path(greenstep.__file__).parent).rglob("*.py"):
            if path.stem in views and path.parent.name == "cli":
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                if not isinstance(node, ast.Call):
                    continue
                called = ast.unparse(node.func)
                prints = called in ("print", "click.echo", "click.secho", "click.prompt", "click.confirm")
                writes = called.endswith(("stdout.write", "stderr.write", "stdout.buffer.write"))
                self.assertFalse(prints or writes, f"{path.name}:{node.lineno} {called}")

    def test_what_is_harmless(self) -> None:
        for text, shown in (
            ("plain – ąé 蜂 🐝", "plain – ąé 蜂 🐝"), ("a\tb", "a\\tb"), ("\x1b[31m", "\\x1b[31m"), ("a\nb", "a\\nb"),
            ("\x9b", "\\x9b"), ("\u202e", "\\u202e"), ("\u2028", "\\u2028"), ("\udcfc", "\\udcfc"), ("\u00a0", "\u00a0"),
        ):  # fmt: skip
            self.assertEqual(harmless(text), shown)
            self.assertEqual(harmless(harmless(text)), shown)

    def test_what_is_a_name(self) -> None:
        for name in ("hive-scale", "Bienenstöcke 7", "f\udcfcr.hex", "👩\u200d🌾.hex"):
            self.assertTrue(is_plain(name), name)
        for name in ("", " ", "a\nb", "a\x1b[1m", "a\u202eb", "a\x7f", "a\u2029"):
            self.assertFalse(is_plain(name), repr(name))

    def test_colours_of_a_board(self) -> None:
        self.assertEqual(colours_only("\x1b[1;32mok\x1b[0m"), "\x1b[1;32mok\x1b[0m")
        for order in (
            "\x1b[2J",
            "\x1b]52;c;aGl2ZQ==\x07",
            "\x1bc",
            "\x1b[5n",
            "\x1bP1$r\x1b\\",
            "\x1b[?1049h",
            "\x1b[",
            "\x1b",
        ):
            self.assertEqual(colours_only(f"a{order}"), "a")


if __name__ == "__main__":
    unittest.main()
