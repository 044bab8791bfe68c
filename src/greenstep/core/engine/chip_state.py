"""What is known of the chip's content while something is done to it, and how a person is told."""

from __future__ import annotations

from enum import Enum
from typing import TYPE_CHECKING

from ..quantities import show_address

if TYPE_CHECKING:
    from ..findings.observations import Progress
    from .job import Purpose


# Why a state machine of seven states
# -----------------------------------
# Whatever a run ends with - a refusal, a pulled cable, Ctrl-C, a defect of ours - a person reads one sentence
# about the board on the desk: is the old program still in it? "Nothing on the chip was changed" must never be
# said wrongly, and "upload again" must not be said of a chip that is fine. No step can know that by itself,
# since it does not know how the steps before it have ended. So the state is the session's, is changed in one
# place (`Session.move_to`), and only along the moves below; a move that is not listed is a defect and raises
# AssertionError.
#
# A state changes *before* the first byte of a command leaves. If the command is then lost on its way, the
# sentence claims too little: "erasing had begun" of a chip that is untouched. The other order would claim too
# much, and that is the one mistake that costs somebody a program. For the same reason there is no way back to
# UNTOUCHED, and PROTECTING has no way out: what a lock or an unlock has done is only known after a reset, by
# asking anew.
#
# WRITTEN says that every block was acknowledged, VERIFIED that the bytes were seen or summed by the chip.
# Nothing but verify may lead from one to the other: an acknowledgement proves that a block arrived, and not
# where it went.
class ChipState(Enum):
    """Changed before the first byte of a command leaves, so that it never claims more than is true of the chip."""

    UNTOUCHED = "untouched"
    PROTECTING = "protecting"
    ERASING = "erasing"
    WRITING = "writing"
    WRITTEN = "written"
    DIFFERS = "differs"
    VERIFIED = "verified"


_S = ChipState
MOVES: dict[ChipState, frozenset[ChipState]] = {
    _S.UNTOUCHED: frozenset({_S.PROTECTING, _S.ERASING, _S.WRITING}),
    _S.PROTECTING: frozenset(),
    _S.ERASING: frozenset({_S.WRITING, _S.WRITTEN}),
    _S.WRITING: frozenset({_S.ERASING, _S.WRITTEN}),
    _S.WRITTEN: frozenset({_S.ERASING, _S.WRITING, _S.DIFFERS, _S.VERIFIED}),
    _S.DIFFERS: frozenset({_S.ERASING, _S.WRITING, _S.WRITTEN}),
    _S.VERIFIED: frozenset({_S.ERASING, _S.WRITING, _S.WRITTEN}),
}
"""Which states may follow each. A state may always be entered again. Whatever verify has found, the run may resume
from an earlier step: after a read that failed while a difference was explained, or a seal that was not
acknowledged."""

_NO_APPLICATION = "erasing had begun: the chip holds no whole application"
WORDS: dict[tuple[Purpose, ChipState], str] = {
    **dict.fromkeys(
        ((purpose, _S.UNTOUCHED) for purpose in ("upload", "erase", "lock", "unlock")),
        "nothing on the chip was changed",
    ),
    ("lock", _S.PROTECTING): "the lock was begun; greet shows whether the chip is locked",
    ("unlock", _S.PROTECTING): "the unlock was begun; {erases}greet shows whether the chip is locked",
    ("upload", _S.ERASING): f"{_NO_APPLICATION}; upload again",
    ("upload", _S.WRITING): "{progress}: the chip holds no whole application; upload again",
    ("upload", _S.WRITTEN): "all is written, and not verified",
    ("upload", _S.DIFFERS): "what the chip holds is not the image; upload again",
    ("upload", _S.VERIFIED): "the image is written and verified; only the start is not proven",
    **dict.fromkeys(
        (("erase", state) for state in (_S.ERASING, _S.WRITING, _S.WRITTEN, _S.DIFFERS, _S.VERIFIED)), _NO_APPLICATION
    ),
    **dict.fromkeys(
        ((purpose, _S.ERASING) for purpose in ("greet", "verify", "start", "backup", "lock", "unlock")),
        f"{_NO_APPLICATION}; upload again",
    ),
}
"""What a person is told after a bad end."""


def in_words(purpose: Purpose, state: ChipState, progress: Progress | None, writes_only: bool) -> str:
    """What a run that ended badly leaves in the chip; empty if it only looked."""
    erases = "" if writes_only else "an unlock erases the flash; "
    return WORDS.get((purpose, state), "").format(progress=_how_far(progress), erases=erases)


def _how_far(progress: Progress | None) -> str:
    if progress is None:
        return "writing had begun"
    last = f", up to the block at {show_address(progress.address)}" if progress.done else ""
    return f"{progress.done:,} of {progress.total:,} bytes are written{last}"
