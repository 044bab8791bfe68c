"""Green Step: upload images through UART bootloaders, with evidence from the board.

What a program can use is loaded when it is first asked for; docs/python.md shows it.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from .core import events
    from .core.dialects.dialect import Dialect
    from .core.errors import Fault, Finding
    from .core.image import Image
    from .work.api import OpenBoard, back_up, greet, listen, load_image, open_board, plan, upload, verify
    from .work.run import Run

__version__ = "0.1.0"
__all__ = [
    "Dialect", "Fault", "Finding", "Image", "OpenBoard", "Run", "__version__", "back_up", "events", "greet", "listen",
    "load_image", "open_board", "plan", "upload", "verify",
]  # fmt: skip

_ELSEWHERE = {
    "Dialect": "core.dialects.dialect",
    "Fault": "core.errors",
    "Finding": "core.errors",
    "Image": "core.image",
    "Run": "work.run",
}


def __getattr__(name: str) -> Any:
    """Raises AttributeError."""
    from importlib import import_module

    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    if name == "events":
        return import_module(f"{__name__}.core.events")
    return getattr(import_module(f"{__name__}.{_ELSEWHERE.get(name, 'work.api')}"), name)
