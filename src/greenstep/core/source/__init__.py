"""From an address to function, file and line: what a board prints when it crashes, read with the ELF file of its
program."""

from .mentioned import mentioned
from .program import Frame, Program
from .told import Place, in_words, places

__all__ = ["Frame", "Place", "Program", "in_words", "mentioned", "places"]
