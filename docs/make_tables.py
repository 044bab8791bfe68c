"""Write the manual's tables that the code knows (keys, options, hookups, moves, findings); and the page of all
commands: `python docs/make_tables.py`."""

from __future__ import annotations

import inspect
from collections import Counter
from collections.abc import Iterable, Iterator
from pathlib import Path

import click

from greenstep.bench.address import KEYS as BENCH_KEYS
from greenstep.cli.command_groups import SECTIONS, section_of
from greenstep.cli.main import _COMMANDS
from greenstep.cli.main import main as tool
from greenstep.cli.options import VARIABLES
from greenstep.core.dialects.registry import dialect_names, facts_of
from greenstep.core.findings.explained import explanations
from greenstep.core.hookup.circuits import NAMED, TABLE_KEYS
from greenstep.core.hookup.sequence import STATEMENTS
from greenstep.store.board_keys import KEYS

DOCS = Path(__file__).parent


def table(heads: Iterable[str], rows: Iterable[Iterable[str]]) -> str:
    """In Markdown, with a blank line after it."""
    heads = list(heads)
    lines = [heads, ["---"] * len(heads), *rows]
    return "".join("|" + "|".join(f" {cell} " if cell != "---" else cell for cell in line) + "|\n" for line in lines)


def _own(name: str) -> list[tuple[str, str]]:
    """The options that a command has besides those of many."""
    for path, command, context in commands():
        if path == f"greenstep {name}":
            return _rows(option for option in options_of(command, context) if not section_of(option[1]))
    raise KeyError(name)


def tables() -> list[tuple[str, str]]:
    """Page and table, for every table that is made."""
    return [
        (
            "project-file.md",
            table(("key", "value", "default"), ((f"`{key.name}`", key.value, key.default) for key in KEYS)),
        ),
        ("hookups.md", table(("name", "circuit"), ((f"`{name}`", words) for name, words in NAMED.items()))),
        ("hookups.md", table(("key", "meaning"), ((f"`{name}`", words) for name, words in TABLE_KEYS.items()))),
        ("hookups.md", table(("move", "meaning"), ((f"`{name}`", words) for name, words in STATEMENTS.items()))),
        (
            "bench.md",
            table(
                ("setting", "meaning"),
                ((f"`{name}={_cell(key.value)}`", _cell(key.meaning)) for name, key in BENCH_KEYS.items()),
            ),
        ),
        ("listen.md", table(("option", "meaning"), _own("listen"))),
        (
            "causes.md",
            table(
                ("finding", "about", "cause", "seen by", "try"),
                (
                    (f"`{one.key}`", one.about, one.cause, one.shows, "; ".join(one.attempts))
                    for one in explanations().values()
                ),
            ),
        ),
    ]


RESTS_ON = "## What it rests on\n"
_MEANS = """
*How sure* is how certain the fact is of silicon. Section names, and all that is *from memory*, were not compared with
the document. Where a fact is unsure, a short trial on a real board settles it.
"""


def with_facts(page: str, dialect: str) -> str:
    """A dialect's page with the facts that matter at its end, and how to settle the unsure ones."""
    facts = facts_of(dialect)
    rows = ((fact.about, _cell(fact.text), _cell(fact.source), fact.sureness) for fact in facts)
    trials = [
        f"- **{fact.about}**: {fact.experiment}.\n  - {fact.if_so}\n  - {fact.if_not}\n"
        for fact in facts
        if fact.experiment
    ]
    before = page.partition(RESTS_ON)[0].rstrip("\n")
    made = f"{before}\n\n{RESTS_ON}{_MEANS}\n{table(('about', 'fact', 'document', 'how sure'), rows)}"
    return made + ("\n" + "".join(trials) if trials else "")


def commands() -> Iterator[tuple[str, click.Command, click.Context]]:
    """Every command that does something, with its whole name, in the order of the help."""

    def below(command: click.Command, context: click.Context) -> Iterator[tuple[str, click.Command, click.Context]]:
        if not isinstance(command, click.Group):
            yield context.command_path, command, context
            return
        for name in command.list_commands(context):
            found = command.get_command(context, name)
            assert found is not None
            yield from below(found, click.Context(found, info_name=name, parent=context))

    yield from below(tool, click.Context(tool, info_name="greenstep"))


def options_of(command: click.Command, context: click.Context) -> list[tuple[click.Option, str, str]]:
    """Each option, how it is written, and what it does."""
    options = [one for one in command.params if isinstance(one, click.Option)]
    records = [(one, one.get_help_record(context)) for one in options]
    return [(one, *record) for one, record in records if record]


def variables() -> dict[str, str]:
    """Environment variables and what they mean."""
    found = {}
    for _, command, context in commands():
        for option, written, _ in options_of(command, context):
            if option.envvar:
                found[str(option.envvar)] = f"`{written.partition(' ')[0]}`"
    return {**dict(sorted(found.items())), **VARIABLES}


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("<", "\\<")


def _rows(options: Iterable[tuple[click.Option, str, str]]) -> list[tuple[str, str]]:
    return [(f"`{_cell(written)}`", _cell(meaning)) for _, written, meaning in options]


def _words(help_text: str) -> str:
    """A command's help: paragraphs, and examples as code."""
    parts = []
    for paragraph in inspect.cleandoc(help_text).split("\n\n"):
        if paragraph.startswith("\b"):
            parts.append("```\n" + paragraph.lstrip("\b\n") + "\n```")
        else:
            parts.append(" ".join(paragraph.split()))
    return "\n\n".join(parts)


def _shared() -> dict[str, dict[str, tuple[click.Option, str, str]]]:
    """By section and name: options that many commands have, as most of them have them."""
    every = [option for _, command, context in commands() for option in options_of(command, context)]
    times = Counter(option[1:] for option in every)
    found: dict[str, dict[str, tuple[click.Option, str, str]]] = {title: {} for title in SECTIONS}
    for option in sorted(every, key=lambda option: -times[option[1:]]):
        if title := section_of(option[1]):
            found[title].setdefault(option[0].opts[-1], option)
    return {
        title: {f"--{name}": found[title][f"--{name}"] for name in names if f"--{name}" in found[title]}
        for title, names in SECTIONS.items()
    }


def commands_page() -> str:
    """The page of all commands and options."""
    shared = _shared()
    lines = ["# Commands and options", "", "What `greenstep COMMAND --help` says, on one page.", ""]
    begun = ""
    for path, command, context in commands():
        section = _COMMANDS[path.split()[1]][1].capitalize()
        if section != begun:
            lines += [f"## {section}", ""]
            begun = section
        usage = " ".join(command.collect_usage_pieces(context))
        lines += [f"### {path}", "", f"`{path} {usage}`", "", _words(command.help or ""), ""]
        own, more = [], {title: [] for title in SECTIONS}  # type: ignore[var-annotated]
        for option in options_of(command, context):
            title = section_of(option[1])
            name = option[0].opts[-1]
            if title and shared[title][name][1:] == option[1:]:
                more[title].append(f"`{name}`")
            else:
                own.append(option)
        if own:
            lines += [table(("option", "meaning"), _rows(own))]
        for title, names in more.items():
            if names:
                lines += [f"[{title}](#{title.lower()}-options): {', '.join(names)}", ""]
    for title, options in shared.items():
        lines += [f"## {title} options", "", table(("option", "meaning"), _rows(options.values()))]
    rows = ((f"`{name}`", meaning) for name, meaning in variables().items())
    lines += ["## Environment variables", "", table(("variable", "the same as, or meaning"), rows)]
    return "\n".join(lines).rstrip("\n") + "\n"


def main() -> None:
    (DOCS / "commands.md").write_text(commands_page(), "utf-8")
    for name, made in tables():
        page = DOCS / name
        head = "".join(made.splitlines(keepends=True)[:2])
        before, _, after = page.read_text("utf-8").partition(head)
        _, _, rest = after.partition("\n\n")
        page.write_text(before + made + "\n" + rest, "utf-8")
    for dialect in dialect_names():
        page = DOCS / "dialects" / f"{dialect}.md"
        page.write_text(with_facts(page.read_text("utf-8"), dialect), "utf-8")


if __name__ == "__main__":
    main()
