"""Threads of the library that reads a network port: an error in them is reported as a lost port, not as a
traceback."""

from __future__ import annotations

import threading

_NAME = "pySerial"
"""The names of pySerial's own threads."""


def quiet_threads() -> None:
    """From now on no thread of that library prints to the terminal. Others are not affected."""
    before = threading.excepthook
    if getattr(before, "__module__", "") == __name__:
        return

    def hook(args: threading.ExceptHookArgs, /) -> None:
        if args.thread is None or not args.thread.name.startswith(_NAME):
            before(args)

    threading.excepthook = hook
