"""The built images, as `images.toml` lists them."""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import Path

from ..frozen import frozen

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
