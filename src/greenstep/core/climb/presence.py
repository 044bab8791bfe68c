"""Whether a board is there, asked without changing anything: for who waits for the next one."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import replace

from ..dialects.base import DialectError
from ..errors import Fault
from ..events import Event
from ..link import LinkLost
from .approach import chip_step, enter_step, port_step, reset_and_ask
from .departure import goodbye
from .job import Job, OpenLink
from .scene import Scene


def who_is_there(job: Job, open_link: OpenLink) -> str | None:
    """The number of the chip that answers after a reset by the lines; empty where it tells none, None where nobody
    answers. The application is started again. Only where lines reset the board."""
    scene = Scene(replace(job, purpose="greet", images={}, patience_s=None, keeps_open=False), open_link)
    try:
        _go_through(port_step(scene))
        _go_through(enter_step(scene))
        if scene.lines != "moved" or not reset_and_ask(scene):
            return None
        with suppress(Fault, DialectError):  # whoever it is, somebody is there: the upload will say who
            _go_through(chip_step(scene))
        with suppress(DialectError):
            _go_through(goodbye(scene))
        return scene.unique_id
    except (Fault, LinkLost, DialectError):
        return None
    finally:
        if scene.link is not None:
            scene.link.close()


def _go_through(step: Iterator[Event]) -> None:
    for _ in step:
        pass
