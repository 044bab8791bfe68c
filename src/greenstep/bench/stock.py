"""What runs on a board of the bench: the simulated chip, the programs made for it, and how it holds them. Each
family's chips are loaded only when one is taken."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache, partial

from greenstep.core.frozen import frozen
from greenstep.core.image import Image

from . import samples
from .chip import SimulatedChip
from .faults import Faults

Program = Callable[[str, int, int], Image]
"""Makes the image of a program: the text it prints, its size in bytes, a seed."""


def _as_it_is(image: Image) -> Image:
    return image


@frozen
class Stock:
    """`title` is how the chip is shown; `held` turns an image into what the chip then holds."""

    title: str
    make: Callable[[Faults], SimulatedChip]
    program: Program
    held: Callable[[Image], Image] = _as_it_is


def _stm32(name: str) -> Stock:
    from . import stm32

    kind = stm32.KINDS[name]

    def program(text: str, size: int, seed: int) -> Image:
        return samples.stm32_image(text, size, kind.ram_bytes, seed, kind.erased)

    return Stock(kind.title, partial(stm32.SimulatedStm32, kind), program)


def _avr(name: str) -> Stock:
    from . import avr

    kind = avr.KINDS[name]
    return Stock(kind.title, partial(avr.SimulatedAvr, kind), samples.avr_image)


def _avr_109(name: str) -> Stock:
    from . import avr_109

    kind = avr_109.KINDS[name]
    return Stock(kind.title, partial(avr_109.SimulatedAvr109, kind), samples.avr_image)


def _avr_068(name: str) -> Stock:
    from . import avr_068

    kind = avr_068.KINDS[name]
    return Stock(kind.title, partial(avr_068.SimulatedAvr068, kind), samples.avr_image)


def _esp(name: str) -> Stock:
    from . import esp

    kind = esp.KINDS[name]

    def program(text: str, size: int, seed: int) -> Image:
        return samples.esp_image(text, size, seed, kind.boot, kind.chip_id)

    return Stock(kind.title, partial(esp.SimulatedEsp, kind), program)


def _lpc(name: str) -> Stock:
    from . import lpc

    kind = lpc.KINDS[name]

    def program(text: str, size: int, seed: int) -> Image:
        return samples.lpc_image(text, size, kind.ram_bytes, seed, kind.base)

    return Stock(kind.title, partial(lpc.SimulatedLpc, kind), program, samples.with_sum)


def _an851(name: str) -> Stock:
    from . import pic

    kind = pic.AN851_KINDS[name]

    def program(text: str, size: int, seed: int) -> Image:
        return samples.pic_image(text, size, seed, kind.loader[1])

    return Stock(kind.title, partial(pic.SimulatedAn851, kind), program, samples.code_of)


def _an1310(name: str) -> Stock:
    from . import pic

    kind = pic.AN1310_KINDS[name]
    held = partial(samples.as_an1310_holds, loader=kind.loader[0])
    return Stock(kind.title, partial(pic.SimulatedAn1310, kind), samples.pic_image, held)


def _xmodem(name: str) -> Stock:
    from . import xmodem

    kind = xmodem.KINDS[name]
    return Stock(kind.title, partial(xmodem.SimulatedXmodem, kind), samples.plain_image)


_FAMILIES = {
    "stm32": _stm32,
    "avr": _avr,
    "avr-109": _avr_109,
    "avr-068": _avr_068,
    "esp": _esp,
    "lpc": _lpc,
    "an851": _an851,
    "an1310": _an1310,
    "xmodem": _xmodem,
}


@cache
def take(family: str, kind: str) -> Stock:
    """The chip of this kind. Raises KeyError."""
    return _FAMILIES[family](kind)
