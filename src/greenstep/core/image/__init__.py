"""Images: bytes at addresses, and the file formats they come in. A format is loaded when it is first needed."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

from .faults import ImageFault
from .model import Image, Piece, Section, join, joined

if TYPE_CHECKING:
    from .dfu_package import read_dfu_package
    from .elf import read_elf
    from .intel_hex import read_intel_hex, write_intel_hex
    from .psoc_rows import read_psoc_rows
    from .raw import read_raw
    from .recognise import recognise
    from .s_record import read_s_record, write_s_record
    from .ti_txt import read_ti_txt, write_ti_txt

__all__ = [
    "Image",
    "ImageFault",
    "Piece",
    "Section",
    "join",
    "joined",
    "read_dfu_package",
    "read_elf",
    "read_intel_hex",
    "read_psoc_rows",
    "read_raw",
    "read_s_record",
    "read_ti_txt",
    "recognise",
    "write_intel_hex",
    "write_s_record",
    "write_ti_txt",
]

_PLACES = {
    "read_dfu_package": "dfu_package",
    "read_elf": "elf",
    "read_intel_hex": "intel_hex",
    "write_intel_hex": "intel_hex",
    "read_psoc_rows": "psoc_rows",
    "read_raw": "raw",
    "recognise": "recognise",
    "read_s_record": "s_record",
    "write_s_record": "s_record",
    "read_ti_txt": "ti_txt",
    "write_ti_txt": "ti_txt",
}


def __getattr__(name: str) -> Any:
    """Load the reader or writer of that name. Raises AttributeError."""
    if name not in _PLACES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    # the function goes into the module: `recognise` is also the name of its file
    found = getattr(import_module(f"{__name__}.{_PLACES[name]}"), name)
    globals()[name] = found
    return found
