"""A conversation that broke off is begun again: reset by the lines, synchronised, and taken up with the same chip."""

from __future__ import annotations

from ..dialects.base import DialectError
from ..events import Step
from ..findings.chip_rules import restarted
from ..findings.observations import Phase
from .approach import reset_and_ask
from .causes import enter, listen_for_application
from .evidence import observe
from .scene import Scene

MOST_TIMES = 2
_LATE_TIMES = 3
RESUMABLE: tuple[Step, ...] = ("chip", "compare", "keep", "erase", "write", "verify", "read")
"""Steps of which another beginning harms none: what they change is erased, written and proven anew."""


def can_resume(scene: Scene, step: Step) -> bool:
    """Whether the chip can be reset and asked again without a person."""
    return step in RESUMABLE and scene.lines == "moved" and scene.resumed < MOST_TIMES


def reset_itself(scene: Scene, phase: Phase, error: DialectError) -> bool:
    """Whether the chip's program is heard where a reply was due: it was reset in the middle, by a weak supply or a
    line left asserted. That is told rather than tried again, but where a loader that misses a byte starts its program
    too. What is late still passes meanwhile."""
    listen_for_application(scene)
    if scene.job.dialect.traits.gives_up:
        return False
    itself = restarted(observe(scene, phase, error)) is not None
    if not itself:
        scene.wire.read(1 << 16, _LATE_TIMES * scene.job.dialect.answer_s)
    return itself


def resume(scene: Scene) -> bool:
    """Whether the same chip answers again after a reset."""
    scene.resumed += 1
    scene.line_hurt = True
    scene.listen_mark = scene.listen_end = None
    wire, job = scene.wire, scene.job
    wire.configure(job.first_settings)
    scene.dialect = job.dialect(wire, job.wishes.settings)
    try:
        enter(scene)
        if not reset_and_ask(scene):
            return False
        if scene.part is None:
            return True
        identity = scene.talk.identify()
        examination = scene.talk.examine(scene.part)
        if (identity.ident, examination.unique_id) != scene.known or examination.locked:
            return False
        if wire.settings.baud != job.settings.baud:
            scene.talk.change_baud(scene.part, job.settings.baud)
    except DialectError:
        return False
    return True


def steps_again(steps: tuple[Step, ...], step: Step) -> tuple[Step, ...]:
    """What is climbed again after it broke off in `step`: all that changes the chip, from its beginning."""
    again: tuple[Step, ...] = ("erase", "write", "verify")
    first = min((steps.index(name) for name in again if name in steps), default=0)
    return steps[first:] if step in again else steps[steps.index(step) :]
