"""The rungs up to a known chip: image, port, enter, sync, chip."""

from __future__ import annotations

import re
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
from .causes import enter, listen_for_causes
from .evidence import observe
from .job import Job, chip_number
from .regions import blank_plan
from .scene import Scene

BY_HAND_PATIENCE_S = 20.0
_PIN_IGNORED = (
    "this chip ignores its boot pin (option nBOOT_SEL, bit 24 at 1FFF7800, is set): its loader came up because the "
    "flash was empty, and will not once it holds a program; let that program clear the option"
)
_BREAK_BY_HAND_S = 0.4


def refuse_unfit(job: Job) -> None:
    """Whether the images fit none of the declared parts. Raises RefusedFault."""
    refusals: list[RefusedFault] = []
    for part in job.choice.parts:
        try:
            make_plan(job.part_as_declared(part), job.dialect, job.images, job.wishes)
            break
        except RefusedFault as refusal:
            refusals.append(refusal)
    else:
        raise refusals[0]


def image_step(scene: Scene) -> Iterator[Event]:
    """What will be written, and that it can fit at least one of the declared parts."""
    job = scene.job
    refuse_unfit(job)
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


def _refuse_what_it_cannot(scene: Scene) -> None:
    """Before the port is opened: what can only be answered by reading back. Raises RefusedFault."""
    if scene.job.dialect.traits.reads or scene.job.purpose not in ("verify", "backup", "erase"):
        return
    raise RefusedFault(
        Finding(
            f"cannot-{scene.job.purpose}",
            f"no {scene.job.purpose} here: the {scene.job.dialect.title} shows nothing back",
            (),
            ("upload: each block is acknowledged", "start the program and expect its text"),
        )
    )


def port_step(scene: Scene) -> Iterator[Event]:
    _refuse_what_it_cannot(scene)
    opened = scene.open_link(scene.job.first_settings, scene.job.hookup.idle_lines)
    scene.link = RecordingLink(opened.link, secrets=scene.job.secrets)
    scene.opened_at_s = scene.link.now()
    scene.driver = Driver(scene.link, scene.job.hookup)
    scene.dialect = scene.job.dialect(scene.link, scene.job.wishes.settings)
    yield StepEnded("port", "green", opened.evidence)


def enter_step(scene: Scene) -> Iterator[Event]:
    """Reset into the bootloader once; that it worked is only known when sync is."""
    scene.heard_before = scene.wire.discard()
    if scene.job.hookup.enter is None:
        return
    try:
        enter(scene)
        scene.lines = "moved"
        if scene.wire.makes_no_break:
            yield Noted("enter", "this port makes no break, which this loader waits for at reset: going on without")
    except LinesMissing:
        scene.lines = "missing"
        yield Noted("enter", "this port has no DTR and RTS: going on by hand")


def sync_step(scene: Scene) -> Iterator[Event]:
    """Ask until the bootloader answers; in between, reset again where lines can."""
    scene.sync_since_s, scene.sync_mark = scene.wire.now(), scene.wire.mark
    asking = _ask_after_resets(scene) if scene.lines == "moved" else _ask_by_hand(scene)
    answer, tries = yield from asking
    if answer is None:
        yield StepEnded("enter", "unproven", _how_entered(scene))
        listen_for_causes(scene)
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
    if hookup.enter is not None and hookup.enter.touches:
        return "touched, gone and come back"
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
            enter(scene)
        turn = settles % len(traits.settles_s)
        link.sleep(traits.settles_s[turn])
        early = link.discard() if traits.sync_sent else b""  # who only listens wants to hear all of it
        moved_s = link.last_at("lines")
        if early and not scene.early:
            scene.early = early
            scene.unasked_s = link.now() - moved_s if moved_s is not None else 0.0
        last, began_s = settles == len(traits.settles_s) - 1, link.now()
        for asking in range(traits.asks[turn]):
            tries += 1
            # before it is given up: one question after a reset, and all the time for a late answer
            late_s = dialect.patience_s if last and not asking and _answers_late(scene) else 0.0
            answer = dialect.ask(max(traits.ask_wait_s, late_s))
            if answer is not None:
                dialect.asked_before(asking, link.now() - began_s)
                return answer, tries
        if patience:
            waited = int(link.now() - scene.sync_since_s)
            yield StepAdvanced("sync", min(waited, int(patience)), int(patience), "seconds", float(waited))
    return _ask_as_known(scene), tries


def _ask_as_known(scene: Scene) -> str | None:
    """Whether it answers as one that an earlier conversation left in its loader, at the rate that it went on at."""
    first, later, wait_s = scene.job.first_settings, scene.job.settings, scene.job.dialect.traits.ask_wait_s
    answer = scene.talk.ask_as_known(wait_s)
    if answer is None and first != later:
        scene.wire.configure(later)
        answer = scene.talk.ask(wait_s) or scene.talk.ask_as_known(wait_s)
        if answer is None:
            scene.wire.configure(first)
    return answer


def _answers_late(scene: Scene) -> bool:
    """Whether its own answers were heard, though none in time."""
    traits = scene.job.dialect.traits
    heard = scene.wire.between(scene.sync_mark, None, "heard")
    return any(answer in heard for answer in traits.sync_answers) or any(
        re.search(sound, heard, re.DOTALL) for sound in traits.sounds
    )


def reset_and_ask(scene: Scene) -> bool:
    """Whether the bootloader answers after one of the dialect's resets."""
    asking = _ask_after_resets(scene)
    while True:
        try:
            next(asking)
        except StopIteration as end:
            return end.value[0] is not None


def _ask_by_hand(scene: Scene) -> Generator[Event, None, _Asked]:
    """Ask until patience is over; tell the person what to do once it is clear that nobody is there yet."""
    link, dialect, traits = scene.wire, scene.talk, scene.job.dialect.traits
    patience = BY_HAND_PATIENCE_S if scene.job.patience_s is None else scene.job.patience_s
    deadline = Deadline.after(link, patience)
    tries, told_at = 0, -1
    while True:
        tries += 1
        if traits.breaks_in:  # a reset pressed during the break is what the loader waits for
            link.set_break(True)
            link.sleep(_BREAK_BY_HAND_S)
            link.set_break(False)
        answer = dialect.ask(traits.ask_wait_s)
        if answer is not None:
            before = min(tries - 1, traits.asks[0])
            dialect.asked_before(before, (before + 1) * traits.ask_wait_s)
            return answer, tries
        if tries == 1 and (answer := _ask_as_known(scene)) is not None:
            return answer, tries
        if deadline.over:
            return None, tries
        if tries == 2:
            yield HandsWanted("sync", scene.job.choice.hands.enter, patience)
        waited = int(link.now() - scene.sync_since_s)
        if waited > told_at:
            told_at = waited
            yield StepAdvanced("sync", waited, int(patience), "seconds", float(waited))


def chip_step(scene: Scene) -> Iterator[Event]:
    """Who answered, is it the declared chip, and does the plan hold for this very one?"""
    identity = scene.talk.identify()
    part = _matching(scene, identity)
    if part is None and identity.ident is None:
        if scene.job.purpose != "greet":
            raise RefusedFault(_which_chip(scene))
        figures: dict[str, int | float | str] = {name.replace(" ", "_"): value for name, value in identity.details}
        yield StepEnded("chip", "green", f"{identity.said}; which chip it is in, it does not say", figures=figures)
        return
    if part is None:  # nothing guards the number on the line: hear it once more before calling it wrong
        identity = scene.talk.identify()
        part = _matching(scene, identity)
    if part is None:
        raise RefusedFault(*diagnose(observe(scene, "chip", chip=_chip_seen(scene, identity))))
    if identity.ident is not None and (answers_as := _another_with(scene, part, identity.ident)):
        yield Noted("chip", f"its loader answers as an {answers_as}: taken for the {part.title} that was declared")
    if differs := part.extra.get("differs"):
        yield Noted("chip", str(differs))
    examination = scene.talk.examine(scene.job.part_as_declared(part))
    scene.part = examination.part
    scene.known = identity.ident, examination.unique_id
    if examination.locked:
        if scene.job.purpose not in ("greet", "unlock") or scene.job.wishes.writes_only:
            raise RefusedFault(*diagnose(observe(scene, "chip", locked=examination.locked)))
        yield Noted("chip", f"locked: {examination.locked}")
    elif scene.job.purpose == "unlock" and not scene.job.wishes.writes_only:
        raise RefusedFault(
            Finding("not-locked", "the chip is not locked: it lets itself be read", (), ("nothing to do",))
        )
    if scene.job.purpose == "erase":
        stays = scene.talk.must_stay(scene.part)
        scene.plan = blank_plan(scene.job, scene.part, stays)
        for note in scene.plan.notes:
            yield Noted("chip", note)
    elif scene.job.images:
        scene.plan = make_plan(scene.part, scene.job.dialect, scene.job.images, scene.job.wishes)
        scene.written = {memory.memory.name: memory.image for memory in scene.plan.memories}
        for note in scene.plan.notes:
            yield Noted("chip", note)
        for memory_plan in scene.plan.memories:
            _refuse_withheld(scene, memory_plan.memory)
    # who does not want to verify may have a loader that cannot read
    if scene.plan is not None and scene.job.purpose == "upload" and scene.job.wishes.verify:
        planned = {memory.memory.name: memory.image for memory in scene.plan.memories}
        for note in scene.talk.look_before(scene.part, planned, scene.job.wishes.despite):
            yield Noted("chip", note)
    figures = {"part": scene.part.name}
    if scene.part.core != "any":
        figures["flash_bytes"] = scene.part.flash.size
    if identity.ident is not None:
        figures["ident"] = f"{identity.ident:X}"
    details = (*identity.details, *examination.details)
    if scene.wire.settings.baud != scene.job.settings.baud:
        scene.talk.change_baud(scene.part, scene.job.settings.baud)
        now = scene.wire.settings.baud
        refused = "" if now == scene.job.settings.baud else f"{scene.job.settings.baud} baud is refused: "
        yield Noted("chip", f"{refused}{'still' if refused else 'now'} at {now} baud")
    figures.update({name.replace(" ", "_"): value for name, value in details if name != "flash"})
    if "boot_pin" in figures and scene.job.purpose not in ("greet", "verify", "backup"):
        yield Noted("chip", _PIN_IGNORED)
    scene.unique_id = chip_number(figures)
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
    if part.core == "any":
        return f"{identity.said}; which chip it is in, it does not say"
    if flash.reserved_top or flash.reserved_bottom:
        side = "below" if flash.reserved_top else "above"
        room = f"{flash.usable_end - flash.usable_start:,} bytes free {side} the bootloader"
    else:
        room = f"{show_size(flash.size)} flash"
    loader = dict(identity.details).get("loader")
    said = [f"{identity.said}, {part.title}", room]
    if loader:
        said.append(f"loader {loader}")
    return "; ".join(said)


def _matching(scene: Scene, identity: Identity) -> Part | None:
    """The declared part that this identity stands for; where the loader does not tell, the one that was declared."""
    if identity.ident is None:
        return scene.job.choice.single
    part = scene.job.choice.by_ident(identity.ident)
    if part is None and identity.ident in scene.job.also_idents:
        part = scene.job.choice.first
    single = scene.job.choice.single
    if part is None and single is not None and single.extra.get("any_ident"):
        return single
    return part


def _another_with(scene: Scene, part: Part, ident: int) -> str:
    """The title of another part whose own number this is; empty where it is the part's, or no other's."""
    other = None if ident == part.ident else Catalogue.load().by_ident(scene.job.dialect.name, ident)
    return other.title if other is not None and other.ident == ident and other.name != part.name else ""


def _which_chip(scene: Scene) -> Finding:
    names = [part.name for part in scene.job.choice.parts]
    return Finding(
        "which-chip",
        "this bootloader does not say which chip it is in",
        (f"'{scene.job.choice.name}' may be {', '.join(names[:4])}{' …' if len(names) > 4 else ''}",),
        (f"name the chip: --chip {names[0]}; greenstep chips lists them",),
    )


def _chip_seen(scene: Scene, identity: Identity) -> ChipSeen:
    job = scene.job
    assert identity.ident is not None
    known = Catalogue.load().by_ident(job.dialect.name, identity.ident)
    declared = job.choice.single.title if job.choice.single else job.choice.name
    return ChipSeen(declared, known.title if known else "", identity.said)
