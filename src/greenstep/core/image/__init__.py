"""Images: bytes at addresses, and the file formats they come in."""

from .faults import ImageFault
from .intel_hex import read_intel_hex, write_intel_hex
from .model import Image, Piece, join
from .raw import read_raw
from .recognise import recognise

__all__ = [
    "Image",
    "ImageFault",
    "Piece",
    "join",
    "read_intel_hex",
    "read_raw",
    "recognise",
    "write_intel_hex",
]
