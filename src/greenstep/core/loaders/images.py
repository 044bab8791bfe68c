"""The built loaders, as `images.toml` lists them, and one made fit for a board: its image, and what chip and
application must be like."""

from __future__ import annotations

import tomllib
from dataclasses import replace
from functools import cache
from importlib import import_module
from pathlib import Path

from ..chips.part import Part
from ..errors import usage
from ..frozen import frozen
from ..image import Image, Piece, joined
from ..quantities import show_address, show_size
from ..suggestions import nearest
from .loader_values import Changed, LoaderValues

_HERE = Path(__file__).parent


@frozen
class LoaderImage:
    """A loader for some chips: where in the flash it is, how many bytes it has, and how many at its end are the
    board's. `source` is the SHA-256 of what it was built from, `sha256` its own."""

    name: str
    family: str
    chips: tuple[str, ...]
    at: int
    room: int
    facts: int
    sha256: str
    source: str

    @property
    def data(self) -> bytes:
        return (_HERE / f"{self.name}.bin").read_bytes()


@cache
def _all() -> tuple[LoaderImage, ...]:
    rows = tomllib.loads((_HERE / "images.toml").read_text("utf-8"))
    return tuple(
        LoaderImage(
            name,
            row["family"],
            tuple(row["chips"]),
            row["at"],
            row["room"],
            row["facts"],
            row["sha256"],
            row["source"],
        )
        for name, row in rows.items()
    )


def loaders_known() -> list[str]:
    """The chips that there is a loader for."""
    return [chip for image in _all() for chip in image.chips]


def loader_for(chip: str) -> LoaderImage | None:
    """The loader for a part of the catalogue, by its name."""
    return next((image for image in _all() if chip in image.chips), None)


_NO_WORD = (0, 4, 7)
"""CONFIG1L, 3L and 4H are not there on a K22."""
_SHORTEST_S, _LONGEST_S = 0.1, 60.0


@frozen
class Made:
    """The image for the programmer, and what to know, each with its label; `part` is the chip as it then is."""

    part: Part
    loader: LoaderImage
    image: Image
    said: tuple[tuple[str, str], ...]

    def with_config_words(self, values: LoaderValues) -> Made:
        """The same with the chip's configuration words in the image. Raises UsageFault where they are not known."""
        from ..families.pic18_config import START, in_words, words_for

        words = words_for(self.part, values.clock or 0.0) if self.part.core == "pic18" else None
        if words is None:
            raise usage(
                "loader-config",
                f"the configuration words of the {self.part.title} are not known here",
                "leave out --config-words, and set them as the lines above say",
            )
        kept = [Piece(START + at, bytes([value])) for at, value in enumerate(words) if at not in _NO_WORD]
        image = replace(self.image, pieces=joined([*self.image.pieces, *kept]))
        told = tuple(("config word", f"{what}: {how}") for what, how in in_words(image, self.part))
        return replace(self, image=image, said=(*self.said, *told))


def make(part: Part, values: LoaderValues) -> Made:
    """Raises UsageFault."""
    loader = loader_for(part.name)
    if loader is None:
        near = nearest(part.name, loaders_known(), 2)
        raise usage("no-loader", f"there is no loader for the {part.title}",
                    f"there is one for {', '.join(near or loaders_known())}")  # fmt: skip
    if values.wait_s and not _SHORTEST_S <= values.wait_s <= _LONGEST_S:
        raise usage("loader-wait", f"{values.wait_s:g} s of waiting", "0.1 to 60 s, or 0: for ever")
    part = part.speaking("doorstep")
    family = import_module(f"{__package__}.{loader.family}")
    changed: Changed = family.changed(loader, part, values)
    data = loader.data[: -loader.facts] + changed.facts
    region = part.flash.usable
    said = (
        ("loader", f"{show_size(loader.room)} at {show_address(loader.at)}"),
        *changed.said,
        ("application", f"{region}, {region.size:,} bytes; the unit at {show_address(region.end)} is its seal's"),
        ("waits", f"{values.wait_s:g} s after a reset" if values.wait_s else "for ever, after each reset"),
        ("stays for", _stays(values)),
    )
    return Made(part, loader, Image(f"{part.name}-doorstep", (Piece(loader.at, data),)), said)


def _stays(values: LoaderValues) -> str:
    ways = ["RX held low through the reset", "DOOR in the first four bytes of RAM, and a reset by the program"]
    if values.pin:
        ways.insert(0, f"{values.pin.upper()} low")
    return "; ".join(ways)
