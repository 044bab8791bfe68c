"""What would make an upload wrong is refused before anything is erased."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ..chips.part import Memory, Part
from ..dialects.dialect import Dialect
from ..errors import RefusedFault
from ..families import judge_vectors
from ..image import Image
from ..quantities import show_address, show_size
from ..spans import Span
from .model import MemoryPlan
from .write_options import WriteOptions

WRITTEN_ANYWAY = ": written anyway"
_RIGHT_ONE = "is it the image for this chip, at the right address?"


def check_image(part: Part, images: dict[str, Image], options: WriteOptions) -> list[str]:
    """Check that the images can be for this part: space and vectors. Returns notes; raises RefusedFault."""
    notes: list[str] = []
    for name, image in images.items():
        _check_room(part, memory_named(part, name), image)
        if name == "flash" and not options.blank and not options.as_it_was:
            notes += _check_vectors(part, image, options)
    return notes


def check_any_left(images: Mapping[str, Image], notes: Sequence[str]) -> None:
    """A file may hold nothing except what its dialect leaves out. Raises RefusedFault."""
    for image in images.values():
        if not image.pieces:
            raise RefusedFault.of(
                "nothing-to-write",
                f"{image.name} holds nothing that this bootloader writes",
                tuple(notes[:4]),
                ("is it the whole program, with its code?",),
            )


def memory_named(part: Part, name: str) -> Memory:
    """The part's memory of that name. Raises RefusedFault."""
    try:
        return part.memory(name)
    except KeyError:
        has = " and ".join(memory.name for memory in part.memories)
        cause = f"the {part.title} has no {name} here; it has {has}"
        raise RefusedFault.of("no-such-memory", cause, (), ("leave that image out", "is --chip right?")) from None


def _check_room(part: Part, memory: Memory, image: Image) -> None:
    gap = Span.of(*memory.gap)
    outside = [p.span for p in image.pieces if not memory.span.covers(p.span) or p.span.meets(gap)]
    if outside:
        piece = outside[0]
        below = memory.start and piece.end <= memory.start
        reaches = piece.start if below else piece.end - 1
        tries = ["is it for a part with more flash, or for another chip?"]
        cause = f"the image does not fit: {image.name} reaches {show_address(reaches)}"
        if below:
            cause = f"the image is not for this place: {image.name} begins at {show_address(reaches)}"
            tries = ["is it the image of another chip?"]
            if image.format == "raw binary":
                tries = ["a raw file has no addresses: give it one: FILE at ADDRESS", *tries]
        raise RefusedFault.of(
            "does-not-fit",
            cause,
            (
                f"the {memory.name} of the {part.title} is {memory.span} ({show_size(memory.size)})",
                *(f"outside is {span}" for span in outside[:3]),
            ),
            tuple(tries),
        )
    if memory.reserved_bottom and image.lowest < memory.usable_start:
        raise RefusedFault.of(
            "hits-bootloader",
            f"the image runs into the bootloader below {show_address(memory.usable_start)}",
            (
                f"it begins at {show_address(image.lowest)}",
                f"the first {show_size(memory.reserved_bottom)} are the bootloader's",
            ),
            (f"build the program for a start at {show_address(memory.usable_start)}, vectors and all",),
        )
    if memory.reserved_top and image.end > memory.usable_end:
        raise RefusedFault.of(
            "hits-bootloader",
            f"the image runs into the bootloader at {show_address(memory.usable_end)}",
            (
                f"it ends at {show_address(image.end - 1)}",
                f"the top {show_size(memory.reserved_top)} are the bootloader's",
            ),
            (
                "build without the bootloader merged in, or smaller",
                "if the bootloader is of another size, say so: --bootloader-bytes",
            ),
        )


def _check_vectors(part: Part, image: Image, options: WriteOptions) -> list[str]:
    verdict = judge_vectors(image, part)
    if verdict.trouble and "vectors" not in options.even_if:
        raise RefusedFault.of(
            "vectors",
            f"{image.name} would not run: {verdict.trouble}",
            verdict.evidence,
            (*(verdict.tries or (_RIGHT_ONE,)), "if you know better: --even-if vectors"),
        )
    return [*verdict.notes, *((f"{verdict.trouble}{WRITTEN_ANYWAY}",) if verdict.trouble else ())]


def check_kept(plan: MemoryPlan, dialect: type[Dialect], options: WriteOptions) -> None:
    """No image may lie in a span to be kept; and what cannot be read cannot be written back. Raises RefusedFault."""
    if not plan.memory.is_flash:
        return
    for keep in options.keep:
        why = f" ({keep.why})" if keep.why else ""
        kept = f"keep {keep.span}"
        meets = next((piece for piece in plan.image.pieces if piece.span.meets(keep.span)), None)
        if meets is not None:
            raise RefusedFault.of(
                "keeps",
                f"the image overlaps a region that is to be kept{why}",
                (kept, f"{plan.image.name} has {meets.span}"),
                ("build the program around it", "take it out of keep"),
            )
        gone = next((area for area in plan.areas if area.meets(keep.span)), None)
        if gone is not None and not dialect.spec.reads:
            raise RefusedFault.of(
                "keeps",
                f"the upload would destroy a region that is to be kept{why}",
                (kept, f"{gone} would go, and this bootloader cannot be read back"),
                (
                    "move the kept region to an erase unit of its own, or the image away from it",
                    "take it out of keep",
                ),
            )


def check_rest(plan: MemoryPlan, dialect: type[Dialect]) -> None:
    """What goes back must leave the rest of its erase units as it is: where that cannot be read, it must fill them.
    Raises RefusedFault."""
    reads = dialect.spec.reads and not dialect.spec.shows_sums_only
    if not plan.keeps_rest or not plan.beside or reads or dialect.spec.into_ram:
        return
    raise RefusedFault.of(
        "not-whole-units",
        f"restoring {plan.image.name} would erase more than it holds, and this bootloader cannot be read back",
        (f"{plan.beside[0]} would go", *(f"and {span}" for span in plan.beside[1:3])),
        ("if it is a whole program: greenstep upload", "--erase all, if nothing else counts"),
    )
