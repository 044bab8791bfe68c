"""Values that each board of a batch has for itself: put into its images, and said to its application."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ..errors import usage
from ..frozen import frozen
from ..image import Image
from ..image.edit import with_bytes
from ..image.patch import Patch, fields_of, filled_in

if TYPE_CHECKING:
    from ..engine.job import Job
    from ..plan.write_options import TalkLine

COUNT = "count"
"""The field of the counter."""


@frozen
class BoardValues:
    """Where values come from: `rows` of named values, and a counter from `count_from` on (None: none). A value is
    given once in a `series`. `patches` put them into images."""

    series: str
    rows: tuple[Mapping[str, str], ...] = ()
    count_from: int | None = None
    patches: tuple[Patch, ...] = ()

    def check(self, job: Job) -> None:
        """Whether every board that there are values for can have its own. Raises UsageFault."""
        names = {*(self.rows[0] if self.rows else ()), *((COUNT,) if self.count_from is not None else ())}
        try:
            used = {name for text in _texts(job) for name in fields_of(text)}
        except ValueError as error:
            raise usage(
                "talk", f"what is said to the application: {error}", "for a brace as it is, write two: {{"
            ) from None
        used |= {name for patch in self.patches for name in patch.fields}
        if unknown := sorted(used - names):
            known = ", ".join(sorted(names)) or "none: --values FILE, --count-from NUMBER"
            raise usage("field", f"there is no value {unknown[0]}", f"values: {known}")
        if names and not used:
            raise usage("field", "no value goes anywhere", "--patch ADDRESS=…, or {…} in what --talk says")
        number = 1
        try:
            first, *others = ({COUNT: str(self.count_from), **row} for row in self.rows or ({},))
            with_values(job, self.patches, first)
            for values in others:
                number += 1
                for patch in self.patches:
                    _bytes_of(patch, values)
        except ValueError as error:
            where = f"row {number} of the values" if self.rows else "--patch"
            raise usage("value", f"{where}: {error}") from None


def with_values(job: Job, patches: Sequence[Patch], values: Mapping[str, str]) -> Job:
    """The job of a board with these values. Sums that a boot header has are recomputed; others are by every upload.
    Raises ValueError."""
    images = dict(job.images)
    for memory in dict.fromkeys(patch.memory for patch in patches):
        if memory not in (one.name for one in job.choice.first.memories):
            raise ValueError(f"the {job.choice.first.title} has no {memory} here")
        images[memory] = _patched(images.get(memory), [patch for patch in patches if patch.memory == memory], values)
    talk = tuple(_said(line, values) for line in job.talk)
    return replace(
        job,
        images=images,
        talk=talk,
        expect=filled_in(job.expect, values),
        own_values=", ".join(f"{name}={value}" for name, value in values.items()),
        common_flash=job.images.get("flash"),
    )


def _patched(image: Image | None, patches: Sequence[Patch], values: Mapping[str, str]) -> Image:
    from ..families import origins_of
    from ..families.esp import renew_headers

    image = image if image is not None else Image("values", ())
    origins = origins_of(image)
    for patch in patches:
        image = with_bytes(image, patch.address, _bytes_of(patch, values))
    return renew_headers(image, origins)[0]


def _bytes_of(patch: Patch, values: Mapping[str, str]) -> bytes:
    data = patch.data(values)
    if patch.address + len(data) > 1 << 32:
        raise ValueError("a patch leaves the 32-bit addresses")
    return data


def _said(line: TalkLine, values: Mapping[str, str]) -> TalkLine:
    send = line.send if line.send is None or line.secret else filled_in(line.send, values)
    return replace(line, expect=filled_in(line.expect, values), send=send)


def _texts(job: Job) -> Iterator[str]:
    """What may hold fields, patches aside."""
    yield job.expect
    for line in job.talk:
        yield line.expect
        if line.send is not None and not line.secret:
            yield line.send
