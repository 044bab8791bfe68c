"""Write the manual's tables that the code knows (keys, hookups, moves, findings): `python docs/make_tables.py`."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

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


def main() -> None:
    for name, made in tables():
        page = DOCS / name
        head = "".join(made.splitlines(keepends=True)[:2])
        before, _, after = page.read_text("utf-8").partition(head)
        _, _, rest = after.partition("\n\n")
        page.write_text(before + made + "\n" + rest, "utf-8")


if __name__ == "__main__":
    main()
