"""Images: bytes at addresses, and the file formats they come in."""

from .elf import read_elf
from .faults import ImageFault
from .intel_hex import read_intel_hex, write_intel_hex
from .model import Image, Piece, Section, join
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
    "read_elf",
    "read_intel_hex",
    "read_raw",
    "read_s_record",
    "read_ti_txt",
    "recognise",
    "write_intel_hex",
    "write_s_record",
    "write_ti_txt",
]
