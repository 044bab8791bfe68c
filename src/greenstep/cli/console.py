"""The console: what the board says, on the screen and in a log, and what a person or a script sends to it."""

from __future__ import annotations

import contextlib
import shutil
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from greenstep.core.console.streams import Expectation, HexRows, LineSplitter, TerminalStream, readable
from greenstep.core.errors import StartFault
from greenstep.core.findings.port_rules import link_fault
from greenstep.core.frozen import frozen
from greenstep.core.link import LineSettings, Link, LinkError, LinkLost
from greenstep.core.quantities import count, show_heard, show_seconds
from greenstep.core.safety.harmless_text import harmless
from greenstep.core.safety.secrets import MaskedStream, Secrets

from .kept_file import KeptFile
from .keyboard import PipedLines, pressed, terminal_keys
from .line_editor import LEAVE_KEY, LineEditor
from .screen import say

if TYPE_CHECKING:
    from greenstep.ports.turns import Guest, PortLender
    from greenstep.work.program_on_board import ProgramFile


_SLICE_S = 0.02
_HELD_BACK_S = 0.2
_LOOK_S = 0.1
_PLUG_PATIENCE_S = 60.0
"""For a console that nobody looks at."""


@frozen
class ConsoleOptions:
    """`keys`: every key is sent as it is pressed, and the board echoes; else lines are sent whole. `raw`: what is
    heard goes to the screen as it is, whatever a terminal makes of it, and keys are sent one by one; else only text
    and colours do. `file` is sent as it is, with `pause_s` after each line of it. `save` holds the bytes heard.
    `seconds`: how long to listen, without limit if None. `program` says where in the source an address lies.
    `expect` must come within `within_s`."""

    line_end: bytes = b"\r\n"
    keys: bool = False
    raw: bool = False
    times: bool = False
    as_hex: bool = False
    log: Path | None = None
    send: tuple[str, ...] = ()
    file: bytes = b""
    pause_s: float = 0.0
    save: Path | None = None
    expect: str = ""
    within_s: float = 5.0
    seconds: float | None = None
    program: ProgramFile | None = None
    as_json: bool = False
    secrets: Secrets = field(default_factory=Secrets)


class Console:
    """Runs until it is left, its text has come, its time is over, or the port goes away."""

    def __init__(
        self,
        link: Link,
        port: str,
        options: ConsoleOptions,
        open_again: Callable[[LineSettings], Link] | None = None,
        plugged_again: Callable[[LineSettings], Link | None] | None = None,
        until: Callable[[], bool] | None = None,
    ) -> None:
        """`open_again` opens the port after another command had it; None: it is not given away. `plugged_again` opens
        it once it is there again after it went away; None: the console ends then. `until`: whether to end now, asked
        every now and then."""
        self._until = until
        self._until_s = 0.0
        self._link = link
        self._open_again = open_again
        self._plugged_again = plugged_again
        self._piped = None if sys.stdin is None or sys.stdin.isatty() else PipedLines()
        self._keeper: PortLender | None = None
        self._given_away = self._given_away_since = False
        self._port = port
        self._options = options
        self._began = link.now()
        self._lines = LineSplitter()
        self._hex = HexRows()
        self._mask = MaskedStream(options.secrets)
        self._last_heard_s = 0.0
        self._expectation = Expectation(options.expect) if options.expect else None
        self._heard_last = b""
        self._line_s: float | None = None
        self._log = KeptFile(options.log, "ab", "--log")
        self._saved = KeptFile(options.save, "wb", "--save")
        self._unsent = options.file
        self._next_send_s = 0.0
        self._interactive = sys.stdin.isatty() and sys.stdout.isatty() and not options.as_json
        self._by_key = self._interactive and (options.keys or options.raw)
        self._streams = self._by_key or (options.raw and not options.as_json)
        self._filter = TerminalStream()
        width = shutil.get_terminal_size().columns
        self._editor = LineEditor(sys.stdout, width) if self._interactive and not self._streams else None

    def run(self, first: bytes = b"") -> int:
        """`first` was heard already. Returns the exit status. Raises PortFault, StartFault, UsageFault."""
        with self._log, self._saved, self._keys(), self._listening_for_others():
            try:
                self._heard(first)
                for line in self._options.send:
                    self._send(line.encode())
                while True:
                    try:
                        return self._loop()
                    except LinkLost as lost:
                        if self._plugged_again is None or not self._comes_back(lost):
                            raise
            except LinkError as error:
                raise link_fault(self._port, error) from error
            finally:
                self._finish()

    # --- the loop

    def _loop(self) -> int:
        options = self._options
        piped = self._piped
        while True:
            if self._expectation is not None and self._expectation.found and not self._unsent:
                return 0
            self._check_time()
            if options.seconds is not None and self._elapsed() >= options.seconds:
                if self._unsent:
                    say(f"{count(len(self._unsent), 'byte')} of the file were not sent in time", err=True)
                return 0
            if self._keeper is not None and (guest := self._keeper.asked()) is not None and self._step_aside(guest):
                return 0
            began_s = time.monotonic()
            if self._until is not None and began_s >= self._until_s:
                self._until_s = began_s + _LOOK_S
                if self._until():
                    return 0
            data = self._link.read(1, _SLICE_S)
            self._heard(data + self._link.discard() if data else b"")
            if piped and not data:  # a simulated line's clock would run ahead of the writer in the pipe
                piped.wait_for_end(began_s + _SLICE_S - time.monotonic())
            if self._interactive and self._typed(pressed()):
                return 0
            self._send_more()
            for line in piped.take() if piped else ():
                self._send(line)

    # --- the plug

    def _comes_back(self, lost: LinkLost) -> bool:
        """Wait for the port that went away. Returns False if the console is left meanwhile, or its time is over."""
        assert self._plugged_again is not None
        settings, began_s = self._link.settings, time.monotonic()
        waited_s = self._elapsed()
        self._end_line()
        self._link.close()
        self._remark(f"the port went away ({lost.reason}): waiting for it", "gone", reason=lost.reason)
        while (link := self._plugged_again(settings)) is None:
            options, gone_s = self._options, time.monotonic() - began_s
            over = options.seconds is not None and waited_s + gone_s >= options.seconds
            late = self._expectation is not None and waited_s + gone_s >= options.within_s
            if over or late or (self._until is not None and self._until()):
                return False
            if not self._interactive and gone_s > _PLUG_PATIENCE_S:
                return False
            if self._interactive and (keys := pressed()) and LEAVE_KEY in keys:
                return False
            time.sleep(_LOOK_S)
        self._link, self._given_away = link, True
        self._began = link.now() - waited_s - (time.monotonic() - began_s)
        self._remark("the port is back", "again", seconds=time.monotonic() - began_s)
        return True

    # --- another command wants the port

    @contextlib.contextmanager
    def _listening_for_others(self) -> Iterator[None]:
        if self._open_again is not None:
            from greenstep.ports.turns import PortLender

            self._keeper = PortLender.of(self._port)
        try:
            yield
        finally:
            if self._keeper is not None:
                self._keeper.close()
            if self._given_away:  # whoever opened the first link does not know of this one
                self._link.close()

    def _step_aside(self, guest: Guest) -> bool:
        """Close the port for a guest, and take it up again; returns True if the console was left meanwhile."""
        assert self._open_again is not None
        settings, began_s = self._link.settings, time.monotonic()
        self._heard(self._link.discard())
        self._end_line()
        self._link.close()
        guest.let_in()
        self._remark(f"{guest.who} has the port", "aside", who=guest.who)
        while (farewell := guest.leaves(_SLICE_S)) is None:
            if self._interactive and (keys := pressed()) and LEAVE_KEY in keys:
                return True
        self._link, self._given_away, self._given_away_since = self._open_again(settings), True, True
        took_s = time.monotonic() - began_s
        said = farewell.said or "it did not say how it went"
        took = show_seconds(took_s)
        self._remark(
            f"{guest.who} had the port for {took}: {said}", "back", who=guest.who, seconds=took_s, said=farewell.said
        )
        self._heard(farewell.heard)
        self._end_line()  # what comes next need not follow on it
        return False

    def _end_line(self) -> None:
        """Show text as a line that has no end yet."""
        rest, self._lines.partial = self._lines.partial, b""
        if rest and not (self._streams or self._options.as_hex):
            shown = self._dated(readable(rest, self._interactive), self._line_s or self._elapsed())
            self._heard_lines([shown], "")
        self._line_s = None

    def _remark(self, words: str, kind: str, **values: Any) -> None:
        """Something the console itself has to say, between the board's lines."""
        words = harmless(words)
        self._write_log("-", words)
        if self._options.as_json:
            from .json_view import json_line

            json_line(kind, at_s=self._elapsed(), **values)
        else:
            self._show([f"- {words}"], "")

    def _elapsed(self) -> float:
        return self._link.now() - self._began

    def _check_time(self) -> None:
        options = self._options
        if self._expectation is None or self._expectation.found or self._elapsed() < options.within_s:
            return
        heard = show_heard(self._heard_last) if self._heard_last else "nothing"
        raise StartFault.of(
            "text-not-heard",
            f'"{options.expect}" was not heard within {options.within_s:g} s',
            (f"heard {heard}",),
            ("is this its rate? greenstep listen --find-baud", "does it come later? --within gives it longer"),
        )

    # --- what is heard

    def _heard(self, data: bytes) -> None:
        now = self._elapsed()
        if data:
            self._last_heard_s = now
            shown = self._mask.feed(data)
        elif now - self._last_heard_s > _HELD_BACK_S:
            shown = self._mask.flush()
        else:
            shown = b""
        if self._expectation is not None and data:
            self._expectation.feed(data)
        self._saved.write(shown)
        if shown:
            self._heard_last = (self._heard_last + shown)[-200:]
        if self._options.as_hex:
            rows = self._hex.feed(shown, now) if shown else self._hex.pause(now)
            self._heard_lines([f"{row.at_s:9.3f}  {row}" if self._options.times else str(row) for row in rows], "")
        elif shown and self._streams and not self._options.times:
            self._note(self._lines.feed(shown))
            sys.stdout.buffer.write(shown if self._options.raw else self._filter.feed(shown).encode())
            sys.stdout.flush()
        elif shown:
            self._show_lines(shown, now)

    def _show_lines(self, shown: bytes, now: float) -> None:
        lines = []
        begun = self._line_s if self._line_s is not None else now
        for index, line in enumerate(self._lines.feed(shown)):
            lines.append(self._dated(readable(line, self._interactive), begun if index == 0 else now))
        partial = self._lines.partial
        self._line_s = (now if lines or self._line_s is None else begun) if partial else None
        shown_partial = self._dated(readable(partial, self._interactive), self._line_s or now) if partial else ""
        self._heard_lines(lines, shown_partial)

    def _dated(self, text: str, at_s: float) -> str:
        return f"{at_s:9.3f}  {text}" if self._options.times else text

    def _heard_lines(self, lines: list[str], partial: str) -> None:
        self._show(lines, partial)
        for line in lines:
            self._write_log("<", line)
        if self._options.program is not None and lines:
            self._tell_places(self._options.program, lines)

    def _tell_places(self, file: ProgramFile, lines: list[str]) -> None:
        """The places in the source that the lines mention; before them, what is new about the file."""
        from greenstep.core.console.addresses import in_words, mentioned, places

        for line in (line for line in lines if mentioned(line)):
            for text in file.news(self._given_away_since):
                self._remark(text, "doubt", text=text)
            self._given_away_since = False
            for place in places(file.program, line):
                told = [harmless(line) for line in in_words(place, str(Path.cwd()))]
                for one in told:
                    self._write_log("=", one.strip())
                if self._options.as_json:
                    from .json_view import json_line, plain

                    json_line("place", at_s=self._elapsed(), address=place.address, frames=plain(place)["frames"])
                else:
                    self._show(told, readable(self._lines.partial, self._interactive))

    def _show(self, lines: list[str], partial: str) -> None:
        if self._editor is not None:
            if lines or partial:
                self._editor.show(lines, partial)
        else:
            end = "\r\n" if self._by_key else "\n"
            for line in lines:
                if self._options.as_json:
                    self._json("heard", line)
                else:
                    sys.stdout.write(line + end)
            sys.stdout.flush()

    def _note(self, lines: list[bytes]) -> None:
        for line in lines:
            self._write_log("<", readable(line))

    # --- what is sent

    def _typed(self, keys: bytes) -> bool:
        """Take the keys; returns True if the console is to be left."""
        if not keys:
            return False
        if self._editor is not None:
            for line in self._editor.keys(keys):
                self._answered_prompt()
                self._send(line, typed=True)
            return self._editor.left
        before, leave, _ = keys.partition(LEAVE_KEY)
        if before:
            self._link.write(before)
        return bool(leave)

    def _answered_prompt(self) -> None:
        """A prompt without a line end is complete once a line was typed after it."""
        prompt = self._lines.partial
        self._lines.partial, self._line_s = b"", None
        if prompt:
            self._write_log("<", readable(prompt))

    def _send(self, line: bytes, typed: bool = False) -> None:
        self._link.write(line + self._options.line_end)
        shown = self._options.secrets.mask(line)
        self._write_log(">", readable(shown))
        if self._options.as_json:
            self._json("sent", readable(shown))
        elif self._interactive and not typed:
            self._show([f"> {readable(shown)}"], "")

    def _send_more(self) -> None:
        """The next of the file, as much as the line carries while it is listened to."""
        if not self._unsent or self._elapsed() < self._next_send_s:
            return
        size = max(1, int(_SLICE_S / self._link.settings.seconds(1)))
        if self._options.pause_s:
            size = self._unsent.find(b"\n") + 1 or len(self._unsent)
        sent, self._unsent = self._unsent[:size], self._unsent[size:]
        self._link.write(sent)
        self._next_send_s = self._elapsed() + self._options.pause_s
        if not self._unsent:
            self._write_log(">", f"({count(len(self._options.file), 'byte')} of a file)")
            if self._options.as_json:
                self._json("sent", f"({count(len(self._options.file), 'byte')} of a file)")
            elif self._interactive:
                self._show([f"> {count(len(self._options.file), 'byte')} sent"], "")

    # --- where it goes

    def _json(self, kind: str, text: str) -> None:
        from .json_view import json_line

        json_line(kind, at_s=self._elapsed(), text=text)

    def _write_log(self, way: str, text: str) -> None:
        stamp = datetime.now().strftime("%H:%M:%S.%f")[:-3]
        self._log.write(f"{stamp} {way} {text}\n".encode())

    def _keys(self) -> contextlib.AbstractContextManager[None]:
        return terminal_keys(self._by_key) if self._interactive else contextlib.nullcontext()

    def _finish(self) -> None:
        """Text without a line end is shown too."""
        rest = self._mask.flush()
        self._saved.write(rest)
        if self._options.as_hex:
            self._heard_lines([str(row) for row in (*self._hex.feed(rest, self._elapsed()), *self._hex.flush())], "")
        else:
            lines = self._lines.feed(rest)
            partial = self._lines.partial
            if lines or (partial and not self._streams):
                at_s = self._line_s or self._elapsed()
                shown = [self._dated(readable(line), at_s) for line in (*lines, *([partial] if partial else []))]
                self._heard_lines(shown, "")
        if self._by_key:
            sys.stdout.write("\r\n")
        sys.stdout.flush()
