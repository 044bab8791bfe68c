"""Threads of the library that reads a network port: what ends them is told as a lost port, not as a traceback."""

from __future__ import annotations

import threading

_NAME = "pySerial"
"""How pySerial's own threads are called."""


def quiet_threads() -> None:
    """From now on no thread of that library prints to the terminal. Others go on as they did."""
    before = threading.excepthook
    if getattr(before, "__module__", "") == __name__:
        return

    def hook(args: threading.ExceptHookArgs, /) -> None:
        if args.thread is None or not args.thread.name.startswith(_NAME):
            before(args)

    threading.excepthook = hook
