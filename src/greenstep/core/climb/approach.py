"""The rungs up to a known chip: image, port, enter, sync, chip."""

from __future__ import annotations

from collections.abc import Generator, Iterator

from ..chips import Catalogue, Memory, Part
from ..dialects.base import Examination, Identity
from ..errors import Finding, NoAnswerFault, RefusedFault
from ..events import Event, HandsWanted, Noted, StepAdvanced, StepEnded
from ..findings import ChipSeen, diagnose
from ..hookup import Driver
from ..image import Image
from ..link import Deadline, LinesMissing
from ..plan import make_plan
from ..quantities import count, show_seconds, show_size, show_span
from ..recording import RecordingLink
from .evidence import observe
from .job import Scene

BY_HAND_PATIENCE_S = 20.0


def image_step(scene: Scene) -> Iterator[Event]:
    """What will be written, and that it can fit at least one of the declared parts."""
    job = scene.job
    refusals: list[RefusedFault] = []
    for part in job.choice.parts:
        try:
            make_plan(job.part_as_declared(part), job.dialect, job.images, job.wishes)
            break
        except RefusedFault as refusal:
            refusals.append(refusal)
    else:
        raise refusals[0]
    for image in job.images.values():
        for note in image.notes:
            yield Noted("image", note)
    evidence = "; ".join(_describe(name, image, job.choice.first) for name, image in job.images.items())
    yield StepEnded(
        "image",
        "green",
        evidence,
        figures={
            "bytes": sum(image.size_bytes for image in job.images.values()),
            "pieces": sum(len(image.pieces) for image in job.images.values()),
            "crc32": ",".join(
                f"{image.crc32(job.choice.first.memory(name).erased):08X}" for name, image in job.images.items()
            ),
        },
    )


def _describe(memory: str, image: Image, part: Part) -> str:
    where = "" if memory == "flash" else f" for {memory}"
    fill = part.memory(memory).erased
    return (
        f"{image.name}{where}: {image.size_bytes:,} bytes in {count(len(image.pieces), 'piece')}, "
        f"{show_span(image.lowest, image.end - image.lowest)}, crc32 {image.crc32(fill):08X}"
    )


def port_step(scene: Scene) -> Iterator[Event]:
    opened = scene.open_link(scene.job.settings, scene.job.hookup.idle_lines)
    scene.link = RecordingLink(opened.link)
    scene.opened_at_s = scene.link.now()
    scene.driver = Driver(scene.link, scene.job.hookup)
    scene.dialect = scene.job.dialect(scene.link)
    yield StepEnded("port", "green", opened.evidence)


def enter_step(scene: Scene) -> Iterator[Event]:
    """Reset into the bootloader once; that it worked is only known when sync is."""
    scene.heard_before = scene.wire.discard()
    if scene.job.hookup.enter is None:
        return
    try:
        _enter(scene)
        scene.lines = "moved"
    except LinesMissing:
        scene.lines = "missing"
        yield Noted("enter", "this port has no DTR and RTS: going on by hand")


def _enter(scene: Scene) -> None:
    sequence = scene.job.hookup.enter
    assert sequence is not None and scene.driver is not None
    scene.driver.run(sequence)


def sync_step(scene: Scene) -> Iterator[Event]:
    """Ask until the bootloader answers; in between, reset again where lines can."""
    scene.sync_since_s, scene.sync_mark = scene.wire.now(), scene.wire.mark
    asking = _ask_after_resets(scene) if scene.lines == "moved" else _ask_by_hand(scene)
    answer, tries = yield from asking
    if answer is None:
        yield StepEnded("enter", "unproven", _how_entered(scene))
        _listen_for_causes(scene)
        raise NoAnswerFault(*diagnose(observe(scene, "sync")))
    scene.synced = True
    yield StepEnded("enter", "green", _how_entered(scene))
    waited_s = scene.wire.now() - scene.sync_since_s
    at = "at the first try" if tries == 1 else f"at try {tries}"
    yield StepEnded("sync", "green", f"{answer} {at}, {show_seconds(waited_s)}", waited_s, {"tries": tries})


def _how_entered(scene: Scene) -> str:
    hookup = scene.job.hookup
    if scene.lines != "moved":
        return "by hand"
    if hookup.reset is None:
        return "by its own sequence"
    boot = f", boot pin by {hookup.boot.line.upper()}" if hookup.boot else ""
    return f"reset {'pulsed' if hookup.reset.through == 'capacitor' else 'moved'} by {hookup.resets}{boot}"


_Asked = tuple[str | None, int]


def _ask_after_resets(scene: Scene) -> Generator[Event, None, _Asked]:
    """Ask a few times after each reset; the pauses between reset and asking differ on purpose."""
    link, dialect, traits = scene.wire, scene.talk, scene.job.dialect.traits
    patience = scene.job.patience_s
    deadline = Deadline.after(link, patience or 0.0)
    tries = 0
    for settles in range(1000):
        if settles >= len(traits.settles_s) and deadline.over:
            return None, tries
        if settles:
            _enter(scene)
        turn = settles % len(traits.settles_s)
        link.sleep(traits.settles_s[turn])
        for _ in range(traits.asks[turn]):
            tries += 1
            answer = dialect.ask(traits.ask_wait_s)
            if answer is not None:
                return answer, tries
        if patience:
            waited = int(link.now() - scene.sync_since_s)
            yield StepAdvanced("sync", min(waited, int(patience)), int(patience), "seconds", float(waited))
    return None, tries


def _ask_by_hand(scene: Scene) -> Generator[Event, None, _Asked]:
    """Ask until patience is over; tell the person what to do once it is clear that nobody is there yet."""
    link, dialect, traits = scene.wire, scene.talk, scene.job.dialect.traits
    patience = BY_HAND_PATIENCE_S if scene.job.patience_s is None else scene.job.patience_s
    deadline = Deadline.after(link, patience)
    tries, told_at = 0, -1
    while True:
        tries += 1
        answer = dialect.ask(traits.ask_wait_s)
        if answer is not None:
            return answer, tries
        if deadline.over:
            return None, tries
        if tries == 2:
            yield HandsWanted("sync", scene.job.choice.hands.enter, patience)
        waited = int(link.now() - scene.sync_since_s)
        if waited > told_at:
            told_at = waited
            yield StepAdvanced("sync", waited, int(patience), "seconds", float(waited))


def _listen_for_causes(scene: Scene) -> None:
    """Before the finding: reset once more and only listen, as the application's own console would be heard."""
    link = scene.wire
    link.configure(scene.job.console)
    scene.listen_mark = link.mark
    if scene.lines == "moved":
        _enter(scene)
        link.read(400, 1.5)
    else:
        link.read(400, 0.4)


def listen_for_application(scene: Scene) -> None:
    """After a conversation broke off: is it because the application runs?"""
    link = scene.wire
    link.configure(scene.job.console)
    scene.listen_mark = link.mark
    link.read(200, 0.8)


def chip_step(scene: Scene) -> Iterator[Event]:
    """Who answered, is it the declared chip, and does the plan hold for this very one?"""
    identity = scene.talk.identify()
    part = _matching(scene, identity)
    if part is None:  # nothing guards the number on the line: hear it once more before calling it wrong
        identity = scene.talk.identify()
        part = _matching(scene, identity)
    if part is None:
        raise RefusedFault(*diagnose(observe(scene, "chip", chip=_chip_seen(scene, identity))))
    examination = scene.talk.examine(scene.job.part_as_declared(part))
    scene.part = examination.part
    if examination.locked:
        if scene.job.purpose != "greet":
            raise RefusedFault(*diagnose(observe(scene, "chip", locked=examination.locked)))
        yield Noted("chip", f"locked: {examination.locked}")
    if scene.job.images:
        scene.plan = make_plan(scene.part, scene.job.dialect, scene.job.images, scene.job.wishes)
        for note in scene.plan.notes:
            yield Noted("chip", note)
        for memory_plan in scene.plan.memories:
            _refuse_withheld(scene, memory_plan.memory)
    figures: dict[str, int | float | str] = {
        "part": scene.part.name,
        "ident": f"{identity.ident:X}",
        "flash_bytes": scene.part.flash.size,
    }
    details = (*identity.details, *examination.details)
    figures.update({name.replace(" ", "_"): value for name, value in details if name != "flash"})
    yield StepEnded("chip", "green", _chip_evidence(scene.part, identity, examination), figures=figures)


def _refuse_withheld(scene: Scene, memory: Memory) -> None:
    reason = scene.talk.withholds(memory)
    if reason:
        raise RefusedFault(
            Finding(
                "no-such-memory",
                f"this bootloader does not reach the {memory.name}",
                (reason,),
                (f"let the program itself write its {memory.name}", "leave that image out"),
            )
        )


def _chip_evidence(part: Part, identity: Identity, examination: Examination) -> str:
    flash = part.flash
    if flash.reserved_top:
        room = f"{flash.usable_end - flash.start:,} bytes free below the bootloader"
    else:
        room = f"{show_size(flash.size)} flash"
    loader = dict(identity.details).get("loader")
    said = [f"{identity.said}, {part.title}", room]
    if loader:
        said.append(f"loader {loader}")
    return "; ".join(said)


def _matching(scene: Scene, identity: Identity) -> Part | None:
    """The declared part that this identity stands for."""
    part = scene.job.choice.by_ident(identity.ident)
    if part is None and identity.ident in scene.job.also_idents:
        part = scene.job.choice.first
    return part


def _chip_seen(scene: Scene, identity: Identity) -> ChipSeen:
    job = scene.job
    known = Catalogue.load().by_ident(job.dialect.name, identity.ident)
    declared = job.choice.single.title if job.choice.single else job.choice.name
    return ChipSeen(declared, known.title if known else "", identity.said)
