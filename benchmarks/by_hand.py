"""Boards with three wires, and a simulated person: is the bootloader reached at whatever moment reset is pressed, is a
forgotten boot pin told at once, and does a power-up start the program after a green end?

    python -m benchmarks.by_hand [BOARD…] [--moments 200]
"""

from __future__ import annotations

import random
import sys
from collections.abc import Sequence
from dataclasses import dataclass, field

from greenstep.bench.boards import BOARDS, BenchBoard
from greenstep.bench.circuits import PinChange
from greenstep.bench.person import HABITS, Habit, Hands
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.dialects.registry import find_dialect
from greenstep.core.engine.runner import Runner
from greenstep.core.events import HandsWanted, HeardMeanwhile
from greenstep.core.hookup.circuits import named_hookup

LONGEST_S, _ON_FOR_S = 20.0, 10.0
_FORGOTTEN_TOLD_S = 1.0
_ENTERED = -1.0
"""Instead of a time: this loader came up all the same, and there was nothing to tell."""


def by_hand_boards() -> list[str]:
    """Every board of the bench whose loader a person can enter."""
    return [name for name, board in BOARDS.items() if _can_be(board)]


def _can_be(board: BenchBoard) -> bool:
    part = Catalogue.load().find(board.chip).first
    hookup = named_hookup(board.circuit.hookup, part.boot_level)
    hangs_up = hookup.enter is not None and hookup.enter.hangs_up
    return not hangs_up and "no hand does that" not in " ".join(part.hands.enter)


@dataclass
class Counts:
    """Of one board: how many of so many."""

    entered: list[int] = field(default_factory=lambda: [0, 0])
    told: list[int] = field(default_factory=lambda: [0, 0])
    runs: list[int] = field(default_factory=lambda: [0, 0])
    missed: list[str] = field(default_factory=list)

    def add(self, name: str, well: bool, what: str = "") -> None:
        pair: list[int] = getattr(self, name)
        pair[0] += well
        pair[1] += 1
        if not well:
            self.missed.append(what)


def entered(board: str, presses: Sequence[float]) -> Trial:
    """A greeting, during which reset is pressed so many seconds after the tool begins to ask."""
    hookup = named_hookup("by-hand", Catalogue.load().find(BOARDS[board].chip).first.boot_level)
    runner, trial = prepare(
        board, purpose="greet", hands=Hands(0.0), hookup=hookup, link_options={"on_for_s": _ON_FOR_S}
    )
    moves = []
    for at_s in presses:
        moves += [PinChange(_ON_FOR_S + at_s, True, True), PinChange(_ON_FOR_S + at_s + 0.1, False, True)]
    trial.line.change_pins(moves)
    asked, last_s = 0, _ON_FOR_S + max(presses) + 0.1
    for event in runner.run():
        trial.events.append(event)
        wanted = isinstance(event, HandsWanted) and event.step == "sync"
        asked += wanted
        again = (wanted and asked > 1) or isinstance(event, HeardMeanwhile)
        if again and trial.link is not None and trial.link.now() > last_s:  # who is told to press again does so
            Hands(2.0).press(trial.line, trial.link.now())
            last_s = trial.link.now() + 2.1
    return trial


def told_after(board: str, press_s: float) -> float | None:
    """How long after the first text it was told that the boot pin was forgotten; None if it was not."""
    runner, trial = _forgetful(board, press_s)
    for event in runner.run():
        trial.events.append(event)
        if isinstance(event, HeardMeanwhile) and trial.link is not None:
            first_s = next((e.at_s for e in runner.outcome.link.events if e.direction == "heard"), None)  # type: ignore[union-attr]
            return None if first_s is None else trial.link.now() - first_s
    return _ENTERED if trial.end.exit_code == 0 else None


def _forgetful(board: str, press_s: float) -> tuple[Runner, Trial]:
    hookup = named_hookup("by-hand", Catalogue.load().find(BOARDS[board].chip).first.boot_level)
    runner, trial = prepare(
        board, purpose="greet", hands=Hands(0.0), hookup=hookup, link_options={"on_for_s": _ON_FOR_S}
    )
    at_s = _ON_FOR_S + press_s
    trial.line.change_pins([PinChange(at_s, True, False), PinChange(at_s + 0.1, False, False)])
    return runner, trial


def uploaded(board: str, after_s: float, habit: Habit) -> Trial:
    """An upload by hand, by a person with a habit."""
    hookup = named_hookup("by-hand", Catalogue.load().find(BOARDS[board].chip).first.boot_level)
    options = {"hands": Hands(after_s, habit=habit), "hookup": hookup, "link_options": {"on_for_s": _ON_FOR_S}}
    return run(board, {"flash": sample_for(board, 900)}, **options)


def starts_after_power_up(trial: Trial) -> bool:
    """Whether the program talks after the supply was off and on, with the pins as the person left them."""
    line = trial.line
    assert trial.link is not None
    at_s = trial.link.now() + 1.0
    line.advance(at_s)
    assert trial.board is not None
    selected = line.boot_selected and bool(Catalogue.load().find(trial.board.chip).first.boot_level)
    line.set_lines(at_s, False, False)
    line.change_pins([PinChange(at_s, True, selected), PinChange(at_s + 0.5, False, selected)])
    before = line.to_host_count
    line.advance(at_s + 6.0)
    return line.to_host_count > before


def measured(board: str, moments: int, seed: int = 1) -> Counts:
    """`moments` presses, a quarter as many forgotten boot pins, and as many uploads."""
    dice, counts = random.Random(f"{board}{seed}"), Counts()
    for number in range(moments):
        first = LONGEST_S * (number + dice.random()) / moments
        presses = [first]
        if number % 2:
            presses += [first + dice.uniform(0.3, 2.0) for _ in range(dice.randrange(1, 3))]
        trial = entered(board, sorted(presses))
        counts.add("entered", trial.end.exit_code == 0, f"pressed at {', '.join(f'{s:.2f}' for s in presses)}")
    part = Catalogue.load().find(BOARDS[board].chip).first
    if part.boot_level and not find_dialect(part.dialect).spec.into_ram:
        for _ in range(max(3, moments // 4)):
            press_s = dice.uniform(1.0, 15.0)
            told_s = told_after(board, press_s)
            if told_s == _ENTERED:
                continue
            counts.add("told", told_s is not None and told_s <= _FORGOTTEN_TOLD_S, f"told {told_s} s after the text")
    for habit in ("", *HABITS):
        trial = uploaded(board, dice.uniform(0.5, 6.0), habit)  # type: ignore[arg-type]
        back = trial.step_or_none("put back")
        if (trial.end.green or (back is not None and back.outcome == "green")) and not find_dialect(
            part.dialect
        ).spec.into_ram:
            counts.add("runs", starts_after_power_up(trial), f"{habit or 'usual'}: nothing after a power-up")
        elif trial.end.exit_code:
            counts.missed.append(f"{habit or 'usual'}: exit {trial.end.exit_code}, {trial.end.summary}")
    return counts


def main() -> None:
    """Print the table; what was missed goes to standard error."""
    arguments = sys.argv[1:]
    moments = 200
    if "--moments" in arguments:
        at = arguments.index("--moments")
        moments = int(arguments[at + 1])
        del arguments[at : at + 2]
    print("| board | entered | forgotten boot pin told within 1 s | a power-up starts it |")
    print("|---|---|---|---|")
    for board in arguments or by_hand_boards():
        counts = measured(board, moments)
        cells = [
            f"{well} of {number}" if number else "" for well, number in (counts.entered, counts.told, counts.runs)
        ]
        print(f"| {board} | {' | '.join(cells)} |", flush=True)
        for missed in counts.missed:
            print(f"{board}: {missed}", file=sys.stderr, flush=True)


if __name__ == "__main__":
    main()
