"""The steps up to a known chip: image, port, enter, sync, chip."""

from __future__ import annotations

from collections.abc import Generator, Iterable, Iterator, Sequence
from dataclasses import replace

from ..chips.catalogue import Catalogue
from ..chips.part import Memory, Part
from ..dialects.abilities import LoaderInFlash, TellsClock
from ..dialects.results import Examination, Identity
from ..errors import Finding, NoAnswerFault, RefusedFault
from ..events import Event, Noted, StepEnded
from ..findings.observations import ChipSeen
from ..image import Image
from ..link import LinesMissing, ResetBy
from ..plan.checks import WRITTEN_ANYWAY
from ..plan.layout import make_plan
from ..quantities import count, show_seconds, show_size, show_span
from ..trace.recording import RecordingLink
from .chip_state import ChipState
from .compare import noted
from .explain import enter, explain, listen_for_causes
from .fastest_rate import ask_at_known_rate, examined, identified, refuse_doubtful, settle_rate
from .job import Job, OpenLink
from .poll import ask_after_resets, ask_by_hand
from .regions import blank_plan, unknown_size
from .session import Figures, Session, Transfer

_PIN_IGNORED = (
    "this chip ignores its boot pin (option nBOOT_SEL, bit 24 at 1FFF7800, is set): its loader came up because the "
    "flash was empty, and will not once it holds a program; let that program clear the option"
)


def refuse_unfit(job: Job) -> None:
    """Check that the images fit at least one of the declared parts. Raises RefusedFault."""
    refusals: list[RefusedFault] = []
    for part in job.choice.parts:
        try:
            make_plan(job.part_as_declared(part), job.dialect, job.images, job.options)
            break
        except RefusedFault as refusal:
            refusals.append(refusal)
    else:
        raise refusals[0]


def image_step(job: Job) -> Iterator[Event]:
    """Say what will be written, and check that it can fit at least one of the declared parts; and that one is named,
    where the loader will not tell which it is in: some erase as soon as they are asked."""
    refuse_unfit(job)
    if job.choice.single is None and not job.dialect.spec.tells_chip:
        raise RefusedFault(_which_chip(job))
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


_ASKED: dict[str, str] = {
    "upload": "asked for: an upload that is to keep what is there",
    "greet": "asked for: only to see who answers",
}


def hangup_erases(job: Job) -> bool:
    """Whether the way into the bootloader erases the chip, as far as the parts' records tell."""
    enter = job.hookup.enter
    return enter is not None and enter.hangs_up and bool(job.choice.first.extra.get("hangup_erases"))


def _refuse_what_it_cannot(job: Job) -> None:
    """Before the port is opened, refuse what could only be answered by reading back. Raises RefusedFault."""
    spec = job.dialect.spec
    if hangup_erases(job) and (job.purpose not in ("upload", "erase") or job.options.keep or job.options.as_it_was):
        raise RefusedFault.of(
            "would-erase",
            "entering this board's bootloader erases its flash",
            (f"{job.hookup.name}: the touch at 1200 baud moves its ERASE pin", _ASKED.get(job.purpose, job.purpose)),
            ("upload, which writes all anew", "enter it another way: --hookup by-hand"),
        )
    reads = spec.reads and not spec.into_ram
    refused = ("backup",) if spec.shows_sums_only else () if reads else ("verify", "backup", "erase")
    if job.purpose not in refused:
        return
    if spec.into_ram:
        raise RefusedFault.of(
            f"cannot-{job.purpose}",
            f"no {job.purpose} here: what the {job.dialect.title} loads is in RAM, and lost when it is entered",
            (),
            ("upload: it loads the program and runs it",),
        )
    raise RefusedFault.of(
        f"cannot-{job.purpose}",
        f"no {job.purpose} here: the {job.dialect.title} cannot be read back",
        (),
        ("upload: each block is acknowledged", "start the program and expect its text"),
    )


def open_session(job: Job, open_link: OpenLink) -> tuple[Session, str]:
    """Open the port. Returns the session and what the system says is behind the port. Raises RefusedFault,
    PortFault."""
    _refuse_what_it_cannot(job)
    opened = open_link(job.first_settings, job.hookup.idle_lines)
    # a board that is its own USB device may talk faster than its rate says; a network address may be anything
    asks = "://" in job.port
    session = Session.over(job, RecordingLink(opened.link, secrets=job.secrets, asks=asks, watch=job.watch))
    session.shared_with = opened.shared_with
    return session, opened.evidence


def enter_step(session: Session) -> Iterator[Event]:
    """Reset into the bootloader once; only the sync step shows whether it worked."""
    session.notes.before = session.link.discard()
    if session.job.hookup.enter is None:
        return
    erases = hangup_erases(session.job)
    if erases:
        yield Noted(
            "enter", "on this board the touch at 1200 baud erases all of the flash: that is how it is entered"
        )
        session.move_to(ChipState.ERASING)
    try:
        enter(session)
        session.reset_by = ResetBy.LINES
        if session.link.makes_no_break:
            yield Noted(
                "enter", "this port cannot make a break, which this loader waits for at reset: going on without it"
            )
    except LinesMissing:
        session.reset_by = ResetBy.HAND_WITHOUT_LINES
        yield Noted("enter", "this port has no DTR and RTS: continuing by hand")


def sync_step(session: Session) -> Iterator[Event]:
    """Ask until the bootloader answers; between questions, reset again where lines can."""
    session.notes.begin_asking()
    answer, tries = ask_at_known_rate(session), 1
    if answer is None:
        asking = ask_after_resets(session) if session.reset_by is ResetBy.LINES else ask_by_hand(session)
        answer, tries = yield from asking
    if answer is None:
        yield StepEnded("enter", "unproven", _how_entered(session))
        listen_for_causes(session)
        raise NoAnswerFault(*explain(session, "sync"))
    session.synced, session.synced_at_s = True, session.link.now()
    yield StepEnded("enter", "green", _how_entered(session))
    waited_s = session.notes.asked_s
    at = "at the first try" if tries == 1 else f"at try {tries}"
    yield StepEnded("sync", "green", f"{answer} {at}, {show_seconds(waited_s)}", waited_s, {"tries": tries})


def _how_entered(session: Session) -> str:
    hookup = session.job.hookup
    if session.reset_by is not ResetBy.LINES:
        return "by hand"
    if hookup.enter is not None and hookup.enter.hangs_up:
        return (
            "touched, gone and come back"
            if session.driver.went
            else "touched at 1200 baud; the port was not seen to go"
        )
    if not hookup.resets:
        return "by its own sequence"
    boot = f", boot pin by {hookup.mover_of('boot')}" if hookup.mover_of("boot") else ""
    pulsed = hookup.reset is not None and hookup.reset.through == "capacitor"
    return f"reset {'pulsed' if pulsed else 'moved'} by {hookup.resets}{boot}"


def chip_step(session: Session) -> Generator[Event, None, Transfer | None]:
    """Identify the chip, check that it is the declared one, and make the plan for this very chip. Returns the
    transfer, or None where nothing is to be written."""
    job, dialect = session.job, session.dialect
    identity = identified(session)
    part = _matching(session, identity)
    if part is None and identity.ident is None:
        if job.purpose != "greet":
            raise RefusedFault(_which_chip(job))
        said = f"{identity.said}; it does not tell which chip it is in"
        yield StepEnded("chip", "green", said, figures=_figures(identity.details))
        return None
    if part is None:  # nothing guards the number on the line: ask once more before calling it wrong
        identity = dialect.identify()
        part = _matching(session, identity)
    if part is None:
        refuse_doubtful(session)
        raise RefusedFault(*explain(session, "chip", chip=_chip_seen(session, identity)))
    alike = _alike(session, part)
    if alike and job.purpose not in ("greet", "start"):
        raise RefusedFault(_which_of(identity, alike))
    if identity.ident is not None and (answers_as := _another_with(session, part, identity.ident)):
        yield Noted("chip", f"its loader answers as an {answers_as}: taken for the {part.title} that was declared")
    if differs := part.extra.get("differs"):
        yield Noted("chip", str(differs))
    examination = examined(session, job.part_as_declared(part))
    session.part, session.known = examination.part, (identity.ident, examination.unique_id)
    if job.only_chip and examination.unique_id != job.only_chip:
        raise RefusedFault.of(
            "another-chip",
            "another chip is there than a moment ago",
            (f"number {examination.unique_id or 'none'}, before {job.only_chip}",),
            ("leave the board in place until its result is shown",),
        )
    if examination.locked:
        if job.purpose not in ("greet", "unlock") or job.options.writes_only:
            raise RefusedFault(*explain(session, "chip", locked=examination.locked))
        yield Noted("chip", f"locked: {examination.locked}")
    elif job.purpose == "unlock" and not job.options.writes_only:
        raise RefusedFault.of("not-locked", "the chip is not locked: it can be read", (), ("nothing to do",))
    if session.dialect.may_have_erased and job.purpose == "greet":
        yield Noted("chip", f"{session.dialect.may_have_erased}: upload one before you rely on it")
    transfer = yield from _planned(session)
    details = (*identity.details, *examination.details)
    yield from settle_rate(session)
    figures: Figures = {"part": session.part.name}
    if session.part.core != "any" and session.part.size_known:
        figures[f"{session.part.holds.lower()}_bytes"] = session.part.flash.size
    if identity.ident is not None:
        figures["ident"] = f"{identity.ident:X}"
    figures |= _figures(detail for detail in details if detail[0] != "flash")
    if "boot_pin" in figures and job.purpose not in ("greet", "verify", "backup"):
        yield Noted("chip", _PIN_IGNORED)
    session.unique_id = examination.unique_id
    if job.purpose == "greet" and not examination.locked and (held := noted(session, None)) is not None:
        session.held = held
        figures["holds"] = held.words
    said = _chip_evidence(session.part, identity, examination)
    if alike:
        said = f"{identity.said}: one of {_names(alike)}; name it to upload: --chip {alike[0].name}"
        figures["one_of"] = ",".join(one.name for one in alike)
        session.part = replace(session.part, title=session.job.choice.name)
    yield StepEnded("chip", "green", said, figures=figures)
    return transfer


def _figures(details: Iterable[tuple[str, str]]) -> Figures:
    return {name.replace(" ", "_"): value for name, value in details}


def _planned(session: Session) -> Generator[Event, None, Transfer | None]:
    """What is to be written to this very chip; None if nothing is. Raises RefusedFault."""
    job, part, dialect = session.job, session.part, session.dialect
    if job.empties:
        stays = dialect.must_stay(part) if isinstance(dialect, LoaderInFlash) else None
        transfer = Transfer(session, blank_plan(job, part, stays))
    elif job.images:
        # a backup may hold a larger loader than the record's
        if job.options.as_it_was and job.bootloader_bytes is None:
            room = dialect.loader_room(part) if isinstance(dialect, LoaderInFlash) else None
            if room is not None and room > part.flash.reserved_top:
                part = part.with_loader_room(room)
                session.part = part
        plan = make_plan(part, job.dialect, job.images, job.options)
        transfer = Transfer(session, plan, {memory.memory.name: memory.image for memory in plan.memories})
    else:
        return None
    for note in transfer.plan.notes:
        yield Noted("chip", note)
        if note.endswith(WRITTEN_ANYWAY):
            session.doubts.append(note.removesuffix(WRITTEN_ANYWAY))
    if job.purpose != "verify":
        for plan_of in transfer.plan.memories:
            _refuse_withheld(session, plan_of.memory)
    flash, clock = job.images.get("flash"), dialect.clock_hz() if isinstance(dialect, TellsClock) else None
    if part.core == "pic18" and flash is not None and clock is not None:
        from ..families.pic18_config import difference

        if differs := difference(flash, part, clock):
            yield Noted("chip", differs)
    session.dialect.restores = job.options.as_it_was
    session.dialect.proves = job.options.verify
    if job.purpose == "upload" and job.options.verify:  # without verify, the loader need not be able to read
        for note in session.dialect.look_before(part, transfer.written, job.options.even_if):
            yield Noted("chip", note)
    return transfer


def _refuse_withheld(session: Session, memory: Memory) -> None:
    reason = session.dialect.why_not_writable(memory)
    if reason and memory.is_flash and not session.part.size_known:
        raise unknown_size(session.job, reason)
    if reason:
        raise RefusedFault.of(
            "no-such-memory",
            f"this bootloader cannot write the {memory.name}",
            (reason,),
            (f"let the program itself write its {memory.name}", "leave that image out"),
        )


def _chip_evidence(part: Part, identity: Identity, examination: Examination) -> str:
    flash = part.flash
    if part.core == "any":
        return f"{identity.said}; it does not tell which chip it is in"
    if flash.reserved_top or flash.reserved_bottom:
        side = "below" if flash.reserved_top else "above"
        room = f"{flash.usable_end - flash.usable_start:,} bytes free {side} the bootloader"
    else:
        room = f"{show_size(flash.size) if part.size_known else 'an unknown size of'} {part.holds}"
    loader = dict(identity.details).get("loader")
    said = [f"{identity.said}, {part.title}", room]
    if loader:
        said.append(f"loader {loader}")
    return "; ".join(said)


def _matching(session: Session, identity: Identity) -> Part | None:
    """The declared part that this identity stands for; if the loader does not tell, the declared one."""
    if identity.ident is None:
        return session.job.choice.single
    part = session.job.choice.by_ident(identity.ident)
    if part is None and identity.ident in session.job.also_accepts:
        part = session.job.choice.first
    single = session.job.choice.single
    if part is None and single is not None and single.extra.get("any_ident"):
        return single
    return part


def _another_with(session: Session, part: Part, ident: int) -> str:
    """The title of another part with this identity; empty if it is the part's own, or unknown."""
    other = None if ident == part.ident else Catalogue.load().by_ident(session.job.dialect.name, ident)
    return other.title if other is not None and other.ident == ident and other.name != part.name else ""


def _alike(session: Session, part: Part) -> tuple[Part, ...]:
    """The declared parts that answer with the number of this one, if they are written in other ways; else none."""
    declared = session.job.choice.name.lower()
    same = [one for one in session.job.choice.parts if one.ident == part.ident and one.ident]
    # makers whose chips answer with another's number are only meant by the name of the dialect
    same = [one for one in same if one.name.startswith(declared)] or same
    return tuple(same) if any(_written(one) != _written(part) for one in same) else ()


def _written(part: Part) -> tuple[object, ...]:
    """How a part is written; without its size, if the chip tells that."""
    if part.size_known:
        return part.memories
    flash = part.flash
    return flash.start, flash.write_unit, tuple(size for _, size in flash.layout), part.extra.get("dual_bank")


def _names(parts: Sequence[Part]) -> str:
    return ", ".join(part.title for part in parts[:6]) + (" …" if len(parts) > 6 else "")


def _which_of(identity: Identity, parts: Sequence[Part]) -> Finding:
    return Finding(
        "which-chip",
        "several parts answer with this number, and they are not written alike",
        (f"{identity.said}: one of {_names(parts)}",),
        (f"read the name on the package, and say it: --chip {parts[0].name}",),
        "certain",
    )


def _which_chip(job: Job) -> Finding:
    names = [part.name for part in job.choice.parts]
    return Finding(
        "which-chip",
        "this bootloader does not tell which chip it is in",
        (f"'{job.choice.name}' may be {', '.join(names[:4])}{' …' if len(names) > 4 else ''}",),
        (f"name the chip: --chip {names[0]}; greenstep chips lists them",),
    )


def _chip_seen(session: Session, identity: Identity) -> ChipSeen:
    job = session.job
    known = None if identity.ident is None else Catalogue.load().by_ident(job.dialect.name, identity.ident)
    declared = job.choice.title
    return ChipSeen(declared, known.title if known else "", identity.said)
