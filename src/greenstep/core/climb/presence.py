"""Whether a board is there, asked without changing anything: for a caller that waits for the next board."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress
from dataclasses import replace

from ..dialects.errors import DialectError
from ..errors import Fault
from ..events import Event
from ..link import LinkLost, ResetBy
from .approach import chip_step, enter_step, open_session
from .asking import reset_and_ask
from .departure import goodbye
from .job import Job, OpenLink


def who_is_there(job: Job, open_link: OpenLink) -> str | None:
    """The number of the chip that answers after a reset by the lines; empty if it reports none, None if nothing
    answers. The application is started again. Only for boards that lines reset."""
    looking = replace(job, purpose="greet", images={}, patience_s=None, keeps_open=False)
    try:
        session, _ = open_session(looking, open_link)
    except (Fault, LinkLost, DialectError):
        return None
    try:
        _go_through(enter_step(session))
        if session.reset_by is not ResetBy.LINES or not reset_and_ask(session):
            return None
        with suppress(Fault, DialectError):  # whatever it is, something is there: the upload will say what
            _go_through(chip_step(session))
        with suppress(DialectError):
            _go_through(goodbye(session))
        return session.unique_id
    except (Fault, LinkLost, DialectError):
        return None
    finally:
        session.link.close()


def _go_through(step: Iterable[Event]) -> None:
    for _ in step:
        pass
