"""Words that people try: each is answered with the one that does it, from one table, and is none of ours itself."""

from __future__ import annotations

import re
import unittest
from collections.abc import Iterator

import click

from greenstep.cli.main import main
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.registry import dialect_names, find_dialect
from greenstep.core.hookup.circuits import NAMED
from greenstep.core.hookup.sequence import PINS
from greenstep.core.suggestions import COMMANDS, NAMES, OPTIONS
from greenstep.store.board_keys import KEYS

from .support import ToolTest


def commands_below(group: click.Group, path: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], click.Command]]:
    """All commands, with the words that call each."""
    context = click.Context(group)
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        assert command is not None
        yield (*path, name), command
        if isinstance(command, click.Group):
            yield from commands_below(command, (*path, name))


class Table(unittest.TestCase):
    def setUp(self) -> None:
        every = dict(commands_below(main))
        self.calls = {" ".join(words) for words in every}
        self.options = {
            name
            for command in every.values()
            for parameter in command.params
            if isinstance(parameter, click.Option)
            for name in (*parameter.opts, *parameter.secondary_opts)
        } | {"--help", "--version"}

    def test_none_is_a_command_and_each_answer_begins_with_one(self) -> None:
        for word, answer in COMMANDS.items():
            with self.subTest(word):
                self.assertNotIn(word, self.calls)
                self.assertTrue(any(re.match(rf"{call}\b", answer) for call in self.calls), answer)

    def test_options_that_answers_name_are_there(self) -> None:
        for word, answer in (*OPTIONS.items(), *COMMANDS.items()):
            with self.subTest(word):
                self.assertNotIn(word, self.options)
                self.assertLessEqual(set(re.findall(r"--[a-z-]+", answer)), self.options)

    def test_names_lead_to_names_that_are_there(self) -> None:
        dialects = [find_dialect(name) for name in dialect_names()]
        settings = [setting.name for dialect in dialects for setting in dialect.spec.settings]
        there = {
            *NAMED, *PINS, "hang-up", *dialect_names(), *Catalogue.load().names(), *settings,
            *(key.name for key in KEYS), "remembered", "opening", "closing",
        }  # fmt: skip
        for word, now in NAMES.items():
            with self.subTest(word):
                self.assertIn(now, there)


class Answered(ToolTest):
    def test_each_kind_of_word(self) -> None:
        probe = ("plan", "brood-probe.hex", "--chip", "stm32f072rb")
        for words, answer in (
            (("flash", "a.hex"), "It is: greenstep upload"),
            (("lines",), "It is: greenstep hookup"),
            ((*probe, "--force"), "--even-if"),
            (("upload", "brood-probe.hex", "-p", "/dev/ttyUSB0"), "the port is --port"),
            ((*probe, "--despite", "vectors"), "now it is --even-if"),
            (("hookup", "show", "--chip", "stm32", "--hookup", "direct-dtr-reset"), "use dtr-reset-rts-boot"),
            (("hookup", "show", "--chip", "stm32", "--enter", "touch 1200"), "'hang-up'"),
            ((*probe, "--dialect", "avr-v1"), "use avr-061"),
            (("plan", "brood-probe.hex", "--chip", "resident"), "any"),
        ):
            with self.subTest(words):
                run = self.run_tool(*words)
                self.assertEqual(run.status, 2, run.text)
                self.assertIn(answer, " ".join(run.err.split()))

    def test_keys_of_a_project_file(self) -> None:
        for line, answer in (
            ('despite = ["vectors"]', "did you mean 'even_if'?"),
            ("trust_journal = true", "did you mean 'compare'?"),
            ('protocol = "avr-061"', "did you mean 'dialect'?"),
        ):
            with self.subTest(line):
                self.project(f'[board.hive-scale]\nchip = "atmega328p"\n{line}\n')
                run = self.run_tool("plan", "hive-scale")
                self.assertEqual((run.status, answer in run.err), (2, True), run.text)


if __name__ == "__main__":
    unittest.main()
