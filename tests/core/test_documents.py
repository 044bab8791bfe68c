"""The manual says what the code does: events, settings, commands, files that it links to."""

from __future__ import annotations

import ast
import re
import runpy
import unittest
from collections.abc import Iterator
from dataclasses import fields
from pathlib import Path

import click

from greenstep.cli.command_groups import section_of
from greenstep.cli.main import _COMMANDS
from greenstep.core.dialects.abilities import ProvesRate
from greenstep.core.dialects.registry import all_dialects, dialect_names, facts_of
from greenstep.core.events import (
    Found,
    HandsWanted,
    Noted,
    RunEnded,
    RunStarted,
    StepAdvanced,
    StepEnded,
    StepStarted,
)
from greenstep.core.findings.explained import explanations
from greenstep.core.journal.records import JournalEntry
from greenstep.store.board import BoardSettings
from greenstep.store.board_keys import KEYS

ROOT = Path(__file__).parents[2]
DOCS = ROOT / "docs"


def text_of(name: str) -> str:
    return (DOCS / name).read_text()


class Events(unittest.TestCase):
    def test_every_kind_of_line_is_listed(self) -> None:
        page = text_of("json.md")
        kinds = {
            re.sub(r"(?<!^)(?=[A-Z])", "-", event.__name__).lower()
            for event in (RunStarted, StepStarted, StepAdvanced, HandsWanted, Noted, StepEnded, Found, RunEnded)
        }
        for path in (ROOT / "src" / "greenstep" / "cli").glob("*.py"):
            kinds |= set(re.findall(r"""json_line\(\s*"([a-z-]+)",""", path.read_text()))
        self.assertGreater(len(kinds), 20)
        self.assertEqual({kind for kind in kinds if f"`{kind}`" not in page}, set())
        table = page.partition("| event | keys |")[2].partition("\n\n")[0]
        listed = {kind for row in table.splitlines()[2:] for kind in re.findall(r"`([a-z-]+)`", row.split("|")[1])}
        said = "".join(path.read_text() for path in (ROOT / "src" / "greenstep" / "cli").glob("*.py"))
        self.assertEqual({kind for kind in listed - kinds if f'"{kind}"' not in said}, set())

    def test_keys_of_the_ladder_s_events(self) -> None:
        page = text_of("json.md")
        for event in (RunStarted, StepAdvanced, HandsWanted, StepEnded, RunEnded):
            for field in fields(event):
                with self.subTest(event=event.__name__, key=field.name):
                    self.assertIn(f"`{field.name}`", page)


class Settings(unittest.TestCase):
    def test_every_key_of_a_board_is_explained(self) -> None:
        self.assertEqual({key.name for key in KEYS if not key.joins}, {field.name for field in fields(BoardSettings)})


class Tables(unittest.TestCase):
    made = runpy.run_path(str(DOCS / "make_tables.py"))

    def test_tables_are_as_the_code_has_them(self) -> None:
        """`python docs/make_tables.py` writes them anew."""
        tables = self.made["tables"]()
        self.assertGreater(len(tables), 6)
        for page, table in tables:
            with self.subTest(page, head=table.splitlines()[0]):
                self.assertIn(table, text_of(page))

    def test_each_dialect_says_what_it_rests_on(self) -> None:
        for name in dialect_names():
            with self.subTest(name):
                page, facts = text_of(f"dialects/{name}.md"), facts_of(name)
                self.assertEqual(page, self.made["with_facts"](page, name), "python docs/make_tables.py")
                self.assertLessEqual({"entry", "checksum", "erased", "proof"}, {fact.about for fact in facts})
                for fact in facts:
                    settled = all((fact.experiment, fact.if_so, fact.if_not))
                    self.assertEqual((fact.sureness == "unsure", bool(fact.source)), (settled, True), fact.about)
                    self.assertIn(fact.sureness, ("sure", "fairly", "unsure"))

    def test_every_command_and_option_is_on_its_page(self) -> None:
        page = self.made["commands_page"]()
        self.assertTrue(text_of("commands.md") == page, "python docs/make_tables.py")
        for path, command, context in self.made["commands"]():
            with self.subTest(path):
                self.assertIn(f"### {path}\n", page)
                for option, written, meaning in self.made["options_of"](command, context):
                    self.assertIn(f"`{option.opts[-1]}", page.partition(f"### {path}\n")[2])
                    self.assertTrue(meaning.strip(), written)

    def test_the_man_page_is_as_the_code_has_it(self) -> None:
        """`python docs/make_man_page.py` writes it anew."""
        made = runpy.run_path(str(DOCS / "make_man_page.py"))["page"]()
        self.assertTrue(text_of("greenstep.1") == made, "python docs/make_man_page.py")

    def test_what_the_manual_names_is_there(self) -> None:
        """Options, environment variables, hookups, findings and events that any page mentions."""
        options = {"--help", "--version"}
        for _, command, _ in self.made["commands"]():
            options |= {name for one in command.params for name in (*one.opts, *one.secondary_opts)}
        for page in (ROOT / "README.md", ROOT / "CONTRIBUTING.md", *DOCS.rglob("*.md")):
            text = page.read_text()
            with self.subTest(page.name):
                named = set(re.findall(r"(?<![\w-])--[a-z][a-z-]*[a-z]\b", text))
                self.assertEqual(named - options, set())
                variables = set(re.findall(r"\bGREENSTEP_[A-Z_]+[A-Z]\b", text))
                self.assertEqual(variables - self.made["variables"]().keys(), set())

    def test_every_loader_whose_rate_can_be_raised_is_named(self) -> None:
        section = text_of("connect.md").partition("## The fastest rate")[2].partition("\n## ")[0]
        named = set(re.findall(r"`([a-z0-9]+(?:-[a-z0-9]+)?)`", section.partition("```")[0]))
        self.assertEqual(named, {dialect.name for dialect in all_dialects() if issubclass(dialect, ProvesRate)})

    def test_every_environment_variable_in_the_code_is_listed(self) -> None:
        listed = self.made["variables"]()
        for path in (ROOT / "src" / "greenstep").rglob("*.py"):
            found = set(re.findall(r"(?<!_)\bGREENSTEP_[A-Z_]+[A-Z]\b", path.read_text()))
            self.assertEqual(found - listed.keys(), set(), path)

    def test_long_help_says_what_follows_and_shared_options_have_a_section(self) -> None:
        for path, command, context in self.made["commands"]():
            page = click.Context(command, parent=context.parent, info_name=context.info_name, terminal_width=80)
            text = command.get_help(page)
            with self.subTest(path):
                self.assertEqual([line for line in text.splitlines() if len(line) > 80], [])
                below = re.search(r"(?m)^  Below, in (\d+) lines: (.+)\.$", text)
                if len(text.splitlines()) > 26:
                    assert below is not None
                    self.assertLess(text[: below.start()].count("\n"), 23)
        self.assertEqual({key.name for key in KEYS if not section_of(f"--{key.name.replace('_', '-')}")}, set())


def keys_of_findings() -> Iterator[str]:
    """The keys that the package's own code gives to findings; of a composed one, an expression for it."""
    for path in (ROOT / "src" / "greenstep").rglob("*.py"):
        for call in ast.walk(ast.parse(path.read_text())):
            if isinstance(call, ast.Call) and call.args:
                called = call.func.attr if isinstance(call.func, ast.Attribute) else getattr(call.func, "id", "")
                if called in ("usage", "Finding", "of"):
                    yield from _words_of(call.args[0])


def _words_of(word: ast.expr) -> Iterator[str]:
    if isinstance(word, ast.Constant) and isinstance(word.value, str):
        yield word.value
    elif isinstance(word, ast.IfExp):
        yield from (*_words_of(word.body), *_words_of(word.orelse))
    elif isinstance(word, ast.JoinedStr):
        yield "".join(part.value if isinstance(part, ast.Constant) else "[a-z-]+" for part in word.values)  # type: ignore[misc]


class Findings(unittest.TestCase):
    def test_every_finding_is_explained_and_none_besides(self) -> None:
        given = set(keys_of_findings())
        self.assertGreater(len(given), 100)
        unexplained = [key for key in given if not any(re.fullmatch(key, one) for one in explanations())]
        self.assertEqual(unexplained, [])
        for key in explanations().keys() - given:  # given by a helper, or as a value
            said = [path for path in (ROOT / "src").rglob("*.py") if f'"{key}"' in path.read_text()]
            composed = any("[" in pattern and re.fullmatch(pattern, key) for pattern in given)
            self.assertTrue(said or composed, key)

    def test_each_says_what_to_try(self) -> None:
        for one in explanations().values():
            with self.subTest(one.key):
                self.assertTrue(one.cause.endswith(".") and one.shows.endswith(".") and all(one.attempts))


class Pages(unittest.TestCase):
    def test_links_lead_somewhere(self) -> None:
        pages = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *DOCS.rglob("*.md")]
        self.assertGreater(len(pages), 15)
        for page in pages:
            for target in re.findall(r"\]\(([^)#\s]+)(?:#[^)]*)?\)", page.read_text()):
                if "://" not in target:
                    with self.subTest(page=page.name, target=target):
                        self.assertTrue((page.parent / target).exists())

    def test_anchors_are_headings(self) -> None:
        for page in (ROOT / "README.md", *DOCS.rglob("*.md")):
            for target, anchor in re.findall(r"\]\(([^)#\s]*)#([^)]+)\)", page.read_text()):
                there = (page.parent / target if target else page).read_text()
                heads = {
                    re.sub(r"[^a-z0-9 -]", "", line.lstrip("# ").lower()).replace(" ", "-")
                    for line in re.findall(r"(?m)^#.*$", there)
                }
                with self.subTest(page=page.name, anchor=anchor):
                    self.assertIn(anchor, heads)

    def test_every_page_and_picture_is_linked(self) -> None:
        linked = "".join(page.read_text() for page in (ROOT / "README.md", *DOCS.rglob("*.md")))
        for path in (*DOCS.glob("*.md"), *(DOCS / "screenshots").glob("*.png")):
            with self.subTest(path.name):
                self.assertIn(path.name, linked)
        self.assertLess(len(list((DOCS / "screenshots").glob("*.png"))), 20)

    def test_every_command_is_in_the_manual(self) -> None:
        said = "".join(page.read_text() for page in (ROOT / "README.md", *DOCS.rglob("*.md")))
        self.assertEqual([name for name in _COMMANDS if f"greenstep {name}" not in said], [])

    def test_commands_that_the_manual_shows_are_there(self) -> None:
        for page in (ROOT / "README.md", *DOCS.rglob("*.md")):
            for name in re.findall(r"(?m)^\s*(?:\$ )?greenstep ([a-z][a-z-]*)\b", page.read_text()):
                with self.subTest(page=page.name, command=name):
                    self.assertIn(name, _COMMANDS)

    def test_what_the_journal_keeps_is_told(self) -> None:
        page = text_of("again.md")
        for word in (
            "when",
            "board",
            "chip",
            "unique id",
            "port",
            "rate",
            "image",
            "version",
            "evidence",
            "outcome",
            "finding",
        ):
            self.assertIn(word, page)
        self.assertIn("unique_id", {field.name for field in fields(JournalEntry)})


if __name__ == "__main__":
    unittest.main()
