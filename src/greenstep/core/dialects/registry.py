"""Dialects by name: our own, and those that other packages add by the entry point `greenstep.dialects`."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING

from ..errors import usage
from ..nearest import nearest

if TYPE_CHECKING:
    from importlib.metadata import EntryPoints

    from .dialect import Dialect

ENTRY_POINT_GROUP = "greenstep.dialects"

_OWN = {
    "avr-109": "greenstep.core.dialects.avr_109:Avr109",
    "avr-v1": "greenstep.core.dialects.avr_v1:AvrV1",
    "avr-v2": "greenstep.core.dialects.avr_v2:AvrV2",
    "esp-rom": "greenstep.core.dialects.esp_rom:EspRom",
    "lpc-isp": "greenstep.core.dialects.lpc_isp:LpcIsp",
    "pic-an1310": "greenstep.core.dialects.pic_an1310:PicAn1310",
    "pic-an851": "greenstep.core.dialects.pic_an851:PicAn851",
    "stm32-rom": "greenstep.core.dialects.stm32_rom:Stm32Rom",
    "xmodem": "greenstep.core.dialects.xmodem:Xmodem",
}


def _added() -> EntryPoints:
    """The dialects of other packages. Looking for them takes as long as all else that a command does first."""
    from importlib.metadata import entry_points

    return entry_points(group=ENTRY_POINT_GROUP)


def is_own(name: str) -> bool:
    """Whether a dialect of that name comes with this package."""
    return name in _OWN


def dialect_names() -> list[str]:
    """The names of all dialects there are."""
    return sorted({*_OWN, *(point.name for point in _added())})


def find_dialect(name: str) -> type[Dialect]:
    """The class of that name, loaded when it is first asked for. Raises UsageFault."""
    if name in _OWN:
        module, _, attribute = _OWN[name].partition(":")
        own: type[Dialect] = getattr(import_module(module), attribute)
        return own
    points = _added().select(name=name)
    if not points:
        near = nearest(name, dialect_names(), 1, 0.5)
        raise usage(
            "dialect",
            f"no dialect is called '{name}'",
            f"use {near[0]}" if near else f"there are {', '.join(dialect_names())}",
        )
    found = next(iter(points)).load()
    from .dialect import Dialect

    if not (isinstance(found, type) and issubclass(found, Dialect)):
        raise usage("dialect", f"the dialect '{name}' is no Dialect class", "update the package that adds it")
    return found


@cache
def all_dialects() -> tuple[type[Dialect], ...]:
    """All there are, in the order in which one may ask that does not know which it is."""
    return tuple(sorted(map(find_dialect, dialect_names()), key=lambda dialect: dialect.spec.asking.order))
