"""What a console makes of bytes: lines, rows of hexadecimal, and a text that is waited for."""

from .expectation import Expectation
from .hex_rows import HexRow, HexRows
from .line_splitter import LineSplitter, readable
from .terminal_stream import TerminalStream

__all__ = ["Expectation", "HexRow", "HexRows", "LineSplitter", "TerminalStream", "readable"]
