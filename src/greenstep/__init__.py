"""Green Step: upload images through UART bootloaders, with evidence from the board."""

__version__ = "0.1.0"
