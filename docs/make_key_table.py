"""Write the table of a board's keys into docs/project-file.md: `python docs/make_key_table.py`."""

from __future__ import annotations

from pathlib import Path

from greenstep.store.board_keys import KEYS

PAGE = Path(__file__).parent / "project-file.md"
HEAD = "| key | value | default |\n|---|---|---|\n"


def table() -> str:
    return HEAD + "".join(f"| `{key.name}` | {key.value} | {key.default} |\n" for key in KEYS)


def main() -> None:
    before, _, after = PAGE.read_text("utf-8").partition(HEAD)
    _, _, rest = after.partition("\n\n")
    PAGE.write_text(before + table() + "\n" + rest, "utf-8")


if __name__ == "__main__":
    main()
