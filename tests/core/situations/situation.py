"""One row of the table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from greenstep.bench.trial import Trial, run


@dataclass(frozen=True)
class Situation:
    """`number` is that of the list of situations; `key` and `exit_code` are what must come out.

    `said` is a text that the first finding must contain, in its cause or evidence. `arrange` changes the
    simulated board before the climb.
    """

    number: int
    name: str
    board: str
    key: str
    exit_code: int
    options: dict[str, Any] = field(default_factory=dict)
    said: str = ""
    arrange: Callable[[Any], None] | None = None

    def climb(self) -> Trial:
        if self.arrange is None:
            return run(self.board, **self.options)
        from greenstep.bench.trial import prepare

        climb, trial = prepare(self.board, **self.options)
        self.arrange(trial.line)
        trial.events.extend(climb.run())
        return trial
