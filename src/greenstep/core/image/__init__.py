"""Images: bytes at addresses. Each file format has a module of its own, loaded by whoever reads or writes it."""

from .model import Image, ImageFault, Piece, Section, join, joined

__all__ = ["Image", "ImageFault", "Piece", "Section", "join", "joined"]
