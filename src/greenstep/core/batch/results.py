"""Many boards: the result of each, and of all together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field, replace

from ..errors import Finding
from ..frozen import changing, frozen


@frozen
class BoardResult:
    """One board of a batch. `number` counts from 1 in the order in which they ended; `at` is ISO 8601; `seconds` is
    the upload's. `same_as` is the number of an earlier board whose chip had the same number of its own, else 0;
    `journal` is its row there, else 0; `own_values` are those that this board alone has."""

    at: str
    port: str
    board: str
    chip: str
    unique_id: str
    green: bool
    exit_code: int
    seconds: float
    summary: str
    finding: str = ""
    cause: str = ""
    journal: int = 0
    number: int = 0
    same_as: int = 0
    own_values: str = ""


@frozen
class BoardTrouble:
    """A finding with which boards of a batch ended, and their numbers."""

    finding: Finding
    boards: tuple[int, ...]


@changing
class Batch:
    """The boards so far."""

    results: list[BoardResult] = field(default_factory=list)
    _findings: dict[str, Finding] = field(default_factory=dict)
    _seen: dict[str, int] = field(default_factory=dict)

    def add(self, result: BoardResult, finding: Finding | None = None) -> BoardResult:
        """Count a board. Returns it with its number."""
        number = len(self.results) + 1
        same = self._seen.get(result.unique_id, 0) if result.unique_id else 0
        numbered = replace(result, number=number, same_as=same)
        if result.unique_id and not same:
            self._seen[result.unique_id] = number
        self.results.append(numbered)
        if finding is not None:
            self._findings.setdefault(finding.key, finding)
        return numbered

    @property
    def green(self) -> int:
        return sum(result.green for result in self.results)

    @property
    def done(self) -> int:
        """Boards that ended well, though not everything was proven."""
        return sum(not result.green and result.exit_code == 0 for result in self.results)

    @property
    def failed(self) -> Sequence[BoardResult]:
        return [result for result in self.results if result.exit_code]

    @property
    def chips(self) -> int:
        """How many different boards: chips with a number of their own are recognised."""
        return sum(not result.same_as for result in self.results)

    @property
    def troubles(self) -> list[BoardTrouble]:
        """The findings, those of most boards first."""
        boards: dict[str, list[int]] = {}
        for result in self.failed:
            boards.setdefault(result.finding, []).append(result.number)
        known = ((key, numbers) for key, numbers in boards.items() if key in self._findings)
        found = [BoardTrouble(self._findings[key], tuple(numbers)) for key, numbers in known]
        return sorted(found, key=lambda trouble: -len(trouble.boards))

    @property
    def exit_code(self) -> int:
        """0 if every board ended well; else that of the first whose last upload did not: a board that was tried again
        and is well then counts as well."""
        last = {result.unique_id or f"board {result.number}": result for result in self.results}
        return next((result.exit_code for result in last.values() if result.exit_code), 0)
