"""A file that a console writes while it listens: trouble with it is told once, and listening goes on."""

from __future__ import annotations

import errno
from pathlib import Path
from types import TracebackType
from typing import BinaryIO

from greenstep.core.errors import usage
from greenstep.core.safety.plain_files import NO_FILE, is_pipe

from .screen import say


class KeptFile:
    """Open while it is entered; without a path it takes everything and keeps nothing."""

    def __init__(self, path: Path | None, mode: str, option: str) -> None:
        self._path, self._mode, self._option = path, mode, option
        self._stream: BinaryIO | None = None

    def __enter__(self) -> KeptFile:
        """Raises UsageFault if the file cannot be written."""
        if self._path is not None:
            try:
                if is_pipe(self._path):  # without a reader it would wait for ever
                    raise OSError(errno.EINVAL, NO_FILE, str(self._path))
                self._stream = self._path.open(self._mode, buffering=0)  # type: ignore[assignment]
            except OSError as error:
                cause = f"{self._path} cannot be written: {error.strerror}"
                raise usage("log-file", cause, f"{self._option} FILE") from None
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._stream is not None:
            self._stream.close()

    def write(self, data: bytes) -> None:
        """Add it, at once."""
        while self._stream is not None and data:
            try:
                data = data[self._stream.write(data) :]
            except OSError as error:
                self._stream.close()
                say(f"{self._path} is incomplete: {error.strerror}", err=True)
                self._stream = None
