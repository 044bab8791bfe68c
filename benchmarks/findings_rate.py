"""How many first findings are right, by situation and dialect: `python -m benchmarks.findings_rate`.

Every row of the situation table, and situations drawn by lot, run on the bench. `--write` keeps the table in
docs/findings.md.
"""

from __future__ import annotations

import sys
from collections import defaultdict
from pathlib import Path

from tests.core.situations import BY_DIALECT
from tests.core.situations.seeded import KINDS

SEEDS = 20
TITLES = {
    1: "no such port, or under another name",
    2: "port held, forbidden, or gone in the middle",
    3: "silence",
    4: "echo",
    5: "the application answers: boot pin not set",
    6: "ROM boot text",
    7: "rates differ",
    8: "wrong parity or data bits",
    9: "another dialect",
    10: "locked, refused, another chip",
    11: "the image does not suit",
    12: "resets while it is written",
    13: "verify differs",
    14: "not heard after start",
    15: "reset came too early",
}


def main() -> int:
    right: dict[tuple[int, str], list[bool]] = defaultdict(list)
    missed = []
    for dialect, table in BY_DIALECT.items():
        rows = [*table, *(kind(dialect, seed) for kind in KINDS for seed in range(SEEDS))]
        for row in rows:
            trial = row.run()
            good = row.came_first(trial)
            right[row.number, dialect].append(good)
            if not good:
                found = trial.findings[0].cause if trial.findings else "green"
                missed.append(f"{dialect} {row.number}, {row.name}: {found}")
    dialects = list(BY_DIALECT)
    lines = [f"|   | situation | {' | '.join(dialects)} |", f"|---|---|{'---|' * len(dialects)}"]
    for number, title in TITLES.items():
        cells = " | ".join(f"{sum(right[number, d])} of {len(right[number, d])}" for d in dialects)
        lines.append(f"| {number} | {title} | {cells} |")
    totals = {d: [good for (_, at), goods in right.items() if at == d for good in goods] for d in dialects}
    lines.append(f"| | all | {' | '.join(f'{sum(totals[d])} of {len(totals[d])}' for d in dialects)} |")
    table_text = "\n".join(lines)
    missed_text = "\n".join(f"- {line}" for line in missed) or "none"
    print(f"{table_text}\n\nmissed:\n{missed_text}")
    if "--write" in sys.argv[1:]:
        text = (
            "# How often the first finding is right\n\nMade by `make findings`: every row of the situation table in "
            f"tests/core/situations, and {SEEDS} each drawn by lot\nof wrong rates, wrong frames, echoes and other "
            f"bootloaders, run on the bench.\n\n{table_text}\n\nMissed:\n\n{missed_text}\n"
        )
        (Path(__file__).parents[1] / "docs" / "findings.md").write_text(text)
    every = [good for goods in right.values() for good in goods]
    return 0 if sum(every) >= 0.95 * len(every) else 1


if __name__ == "__main__":
    sys.exit(main())
