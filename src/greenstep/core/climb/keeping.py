"""The rung before erasing that saves what must survive: read, put aside, and written back with the image."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from ..dialects.base import ChipRefusal
from ..errors import Finding, RefusedFault
from ..events import Event, Noted, StepEnded
from ..image import Image, Piece
from ..narrow import Span, joined
from ..plan import MemoryPlan, Plan, areas, plan_memory, priced
from ..quantities import count, show_span
from .regions import read_twice
from .scene import Scene


def keep_step(scene: Scene) -> Iterator[Event]:
    """Reads what of the kept room would be erased, and adds it to what is written and verified."""
    part, plan = scene.ground
    began = scene.wire.now()
    flash = next((memory for memory in plan.memories if memory.memory.name == "flash"), None)
    spans = [] if flash is None else _endangered(scene, flash)
    asked = ", ".join(show_span(keep.address, keep.size) for keep in scene.job.wishes.keep)
    if flash is None or not spans:
        yield StepEnded("keep", "green", f"{asked}: left alone", scene.wire.now() - began, {"bytes": 0})
        return
    shown = scene.job.dialect.provable(part, flash.memory, tuple(spans), {"verify": "whole"})
    if shown.left_out:
        raise _cannot(asked, shown.left_out)
    try:
        data = yield from read_twice(scene, "keep", flash.memory, spans)
    except ChipRefusal as refusal:
        raise _cannot(asked, f"the chip refuses to be read: {refusal.said}") from None
    pieces, at = [], 0
    for address, size in spans:
        pieces.append(Piece(address, data[at : at + size]))
        at += size
    if scene.job.put_aside is not None:
        # boards of one kind may be served at once: each is known by its chip's number, else by its port
        whose = f"{scene.job.board or part.name}-{scene.unique_id or scene.job.port}"
        scene.aside = scene.job.put_aside(Image("kept", tuple(pieces)), whose)
        for name in scene.aside.earlier:
            yield Noted(
                "keep", f"an earlier upload did not bring back what is in {name}: restore it, or remove the file"
            )
    scene.plan = _with_kept(scene, plan, flash, pieces)
    said = f"{', '.join(show_span(*span) for span in spans)}, {count(len(data), 'byte')} read twice and equal"
    yield StepEnded("keep", "green", f"{said}: written back", scene.wire.now() - began, {"bytes": len(data)})


def _endangered(scene: Scene, plan: MemoryPlan) -> list[Span]:
    """What of the kept room lies where something is going to be erased."""
    spans = []
    for keep in sorted(scene.job.wishes.keep, key=lambda keep: keep.address):
        for low, high in areas(plan, scene.ground[0], scene.job.dialect):
            first, end = max(keep.address, low), min(keep.end, high)
            if first < end:
                spans.append((first, end - first))
    return joined(dict.fromkeys(spans))


def _cannot(asked: str, reason: str) -> RefusedFault:
    return RefusedFault(
        Finding(
            "keeps",
            "the upload would destroy room that is to be kept, and it cannot be read to be written back",
            (f"keep {asked}", reason),
            ("move the kept room to an erase unit of its own, or the image away from it", "take it out of keep"),
        )
    )


def _with_kept(scene: Scene, plan: Plan, flash: MemoryPlan, kept: Sequence[Piece]) -> Plan:
    """The plan with the kept bytes among what is written. The erase units stay the same."""
    wanted = [
        Piece(first, piece.data[first - piece.address : end - piece.address])
        for piece in flash.image.pieces
        for low, high in areas(flash, plan.part, scene.job.dialect)
        if (first := max(piece.address, low)) < (end := min(piece.end, high))
    ]
    pieces = _merged([*wanted, *kept])
    job = scene.job
    smaller = plan_memory(plan.part, flash.memory, job.dialect, replace(flash.image, pieces=pieces), job.wishes)
    whole = replace(flash.image, pieces=_merged([*flash.image.pieces, *kept]))
    checks = smaller.checks
    if smaller.sample_of:  # a sample is enough for an image, which can be had again, and not for what cannot
        apart = [(a, s) for a, s in checks if all(a + s <= p.address or p.end <= a for p in kept)]
        checks = tuple(sorted([*apart, *((piece.address, len(piece.data)) for piece in kept)]))
    grown = replace(smaller, image=whole, checks=checks, compared=flash.compared)
    memories = [grown if memory is flash else memory for memory in plan.memories]
    return priced(plan.part, job.dialect, memories, job.wishes, plan.notes)


def _merged(pieces: Sequence[Piece]) -> tuple[Piece, ...]:
    """In order of their addresses, those that meet as one. None of them overlap."""
    result: list[Piece] = []
    for piece in sorted(pieces, key=lambda piece: piece.address):
        if result and result[-1].end == piece.address:
            result[-1] = Piece(result[-1].address, result[-1].data + piece.data)
        else:
            result.append(piece)
    return tuple(result)
