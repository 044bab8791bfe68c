"""The last rung: start the application, and hear it."""

from __future__ import annotations

from collections.abc import Iterator

from ..errors import StartFault
from ..events import Event, Noted, StepEnded
from ..findings import diagnose
from ..link import Deadline, LinesMissing
from ..quantities import readable_share, show_heard, show_seconds
from .evidence import observe
from .job import Scene

_SHORT_LISTEN_S = 0.5


def start_step(scene: Scene) -> Iterator[Event]:
    """Start by the lines or by a command, whichever the dialect prefers and the hookup can.

    Without a text to expect, the bootloader's own acknowledgement is the evidence; a reset by lines has
    none but what is heard.
    """
    job, link = scene.job, scene.wire
    began = link.now()
    said = ""
    if job.starts_by_lines and scene.lines != "missing":
        link.configure(job.console)
        link.discard()
        began, scene.listen_mark = link.now(), link.mark
        try:
            how = _reset(scene)
        except LinesMissing:
            how = "this port has no DTR and RTS: reset the board by hand"
            yield Noted("start", how)
    else:
        how = said = scene.talk.start(_entry(scene))
        began, scene.listen_mark = link.now(), link.mark
        link.configure(job.console)
    if job.expect:
        yield _expected(scene, how, began)
        return
    if said:
        yield StepEnded("start", "green", said)
        return
    heard = link.read(200, _SHORT_LISTEN_S)
    if len(heard) >= 4 and readable_share(heard) > 0.85:
        yield StepEnded("start", "green", f"{how}; heard {show_heard(heard)}")
        return
    scene.unproven.append("start")
    yield StepEnded("start", "unproven", f"{how}; nothing heard (expect = a text it prints would prove it)")


def _reset(scene: Scene) -> str:
    hookup = scene.job.hookup
    assert hookup.leave is not None and scene.driver is not None
    scene.driver.run(hookup.leave)
    return f"reset by {hookup.resets}" if hookup.resets else "left by its own sequence"


def _entry(scene: Scene) -> int:
    """Where the application's vectors are: the bottom of the flash if the image holds it, else of the image."""
    flash = (scene.part or scene.job.choice.first).flash
    image = scene.job.images.get("flash")
    if image is None or image.covers(flash.start, 1):
        return flash.start
    return image.lowest


def _expected(scene: Scene, how: str, began: float) -> StepEnded:
    job, link = scene.job, scene.wire
    wanted = job.expect.encode()
    deadline = Deadline.after(link, job.expect_within_s)
    heard = b""
    while wanted not in heard:
        if deadline.over:
            raise StartFault(*diagnose(observe(scene, "start")))
        heard = heard[-len(wanted) - 4096 :] + (link.read(1, deadline.left_s) or b"")
    took = link.now() - began
    scene.text_heard = job.expect
    return StepEnded("start", "green", f'heard "{job.expect}" after {show_seconds(took)}', took)


def goodbye(scene: Scene) -> Iterator[Event]:
    """After looking only: let the application run again, where that can be done without a person."""
    try:
        if scene.job.hookup.leave is not None and scene.lines == "moved":
            _reset(scene)
        else:
            scene.talk.finish()
    except LinesMissing:
        yield Noted("chip", "this port has no DTR and RTS: reset the board by hand")
