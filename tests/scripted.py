"""A link that follows a script: it checks what is written as strictly as it decides what is read."""

from __future__ import annotations

from greenstep.core.link import LineErrors, LineSettings


class ScriptedLink:
    """`script` is pairs of what must be written and what then comes, both as hexadecimal text.

    What is written must be exactly the next pair's first half, in one write or several. A reply of '' is silence.
    """

    def __init__(self, *script: tuple[str, str]) -> None:
        self.script = [(bytes.fromhex(sent), bytes.fromhex(reply)) for sent, reply in script]
        self.written = b""
        self.waiting = b""
        self.clock = 0.0
        self.settings = LineSettings(115200)

    def write(self, data: bytes) -> None:
        if not self.script:
            raise AssertionError(f"written {data.hex(' ')} after the end of the script")
        self.written += data
        wanted, reply = self.script[0]
        if not wanted.startswith(self.written):
            raise AssertionError(f"written {self.written.hex(' ')}, expected {wanted.hex(' ')}")
        if self.written == wanted:
            self.script.pop(0)
            self.written = b""
            self.waiting += reply

    def read(self, size: int, timeout_s: float) -> bytes:
        taken, self.waiting = self.waiting[:size], self.waiting[size:]
        if len(taken) < size:
            self.clock += timeout_s
        return taken

    def discard(self) -> bytes:
        taken, self.waiting = self.waiting, b""
        return taken

    def finished(self) -> bool:
        """Whether everything was written that the script wants."""
        return not self.script and not self.written

    def configure(self, settings: LineSettings) -> None:
        self.settings = settings

    def set_lines(self, dtr: bool, rts: bool) -> None:
        raise AssertionError("a dialect does not move lines")

    def set_break(self, on: bool) -> None:
        raise AssertionError("a dialect does not move lines")

    def errors(self) -> LineErrors | None:
        return None

    def now(self) -> float:
        return self.clock

    def sleep(self, seconds: float) -> None:
        self.clock += seconds

    def close(self) -> None: ...
