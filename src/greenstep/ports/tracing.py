"""A link that records everything that passes, and writes it to a file when it is closed."""

from __future__ import annotations

import errno
from collections.abc import Callable, Mapping
from pathlib import Path

from greenstep import __version__
from greenstep.core.errors import usage
from greenstep.core.link import Link
from greenstep.core.safety.plain_files import NO_FILE, is_pipe
from greenstep.core.safety.secrets import Secrets
from greenstep.core.trace.recording import RecordingLink, Trace
from greenstep.core.trace.vcd import write_vcd


class TracingLink(RecordingLink):
    """`lines` are those that the port was opened with. The file is opened at once, so that nothing is recorded that
    cannot be saved. `told` is called if that fails at the end. Raises UsageFault."""

    def __init__(
        self,
        inner: Link,
        path: Path,
        lines: tuple[bool, bool],
        secrets: Secrets,
        notes: Mapping[str, str],
        told: Callable[[str], object] = lambda text: None,
    ) -> None:
        super().__init__(inner, None, secrets)
        try:
            if is_pipe(path):
                raise OSError(errno.EINVAL, NO_FILE, str(path))
            self._stream = path.open("w", encoding="ascii", errors="replace")
        except OSError as error:
            inner.close()
            raise usage("trace-file", f"{path} cannot be written: {error.strerror}", "--trace FILE") from None
        self._first = (inner.now(), inner.settings, lines)
        self._notes = dict(notes)
        self._path, self._told = path, told

    def close(self) -> None:
        super().close()
        if self._stream.closed:
            return
        opened_s, settings, lines = self._first
        trace = Trace.of(self.events, opened_s, settings, lines, self._secrets, self._notes)
        try:
            with self._stream:
                self._stream.writelines(write_vcd(trace, __version__))
        except OSError as error:  # a full disk must not undo what was done to the chip
            self._told(f" the recording {self._path} is incomplete: {error.strerror}")
