"""One row of the table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from greenstep.bench.boards import BOARDS
from greenstep.bench.chip import Spend
from greenstep.bench.trial import Trial, prepare, run, sample_for
from greenstep.core.findings.port_rules import PortListed, PortSeen
from greenstep.core.hookup.circuits import named_hookup, with_sequences
from greenstep.core.link import Frame, LineSettings


@dataclass(frozen=True)
class Situation:
    """`number` is that of the list of situations; `key` and `exit_code` are what must come out.

    `said` is a text that the first finding must contain, in its cause or evidence. `arrange` changes the
    simulated board before the run.
    """

    number: int
    name: str
    board: str
    key: str
    exit_code: int
    options: dict[str, Any] = field(default_factory=dict)
    said: str = ""
    arrange: Callable[[Any], None] | None = None

    def came_first(self, trial: Trial) -> bool:
        """Whether the first finding of a run is the right one, with the words and the status it must have."""
        if not trial.findings or trial.findings[0].key != self.key or trial.end.exit_code != self.exit_code:
            return False
        return self.said in " | ".join((trial.findings[0].cause, *trial.findings[0].evidence))

    def run(self) -> Trial:
        if self.arrange is None:
            return run(self.board, **self.options)
        runner, trial = prepare(self.board, **self.options)
        self.arrange(trial.line)
        trial.events.extend(runner.run())
        return trial


_ELSEWHERE = (PortListed("/dev/ttyUSB3", "USB serial 1A86:7523", "0042"), PortListed("/dev/ttyACM0"))


def port_rows(board: str) -> list[Situation]:
    """The port's own situations: the same whatever speaks behind it, and each is run for every dialect."""

    def refused(name: str, key: str, said: str, **seen: Any) -> Situation:
        number = 1 if seen["trouble"] == "missing" else 2
        trouble = PortSeen("/dev/ttyUSB0", **seen)
        return Situation(number, name, board, key, 3, {"purpose": "greet", "port_trouble": trouble}, said)

    return [
        refused("no port at all", "no-ports", "nor any other", trouble="missing"),
        refused("another port", "no-such-port", "/dev/ttyUSB3", trouble="missing", listed=_ELSEWHERE),
        refused("the name changed", "port-moved", "is now /dev/ttyUSB3", trouble="missing", listed=_ELSEWHERE, serial="0042"),
        refused("held by a program", "port-busy", "minder (812)", trouble="busy", holders=("minder (812)",)),
        refused("no permission", "port-forbidden", "the group dialout", trouble="forbidden", group="dialout"),
        Situation(2, "the cable is pulled", board, "port-vanished", 3,
                  {"purpose": "greet", "link_options": {"vanishes_at_s": 0.055}}, "in the middle"),
    ]  # fmt: skip


def usual_rows(
    board: str, sizes: tuple[int, int], text: str, hookup: str, level: str = "", **keys: str
) -> list[Situation]:
    """What happens to every bootloader alike. `sizes` are bytes of an image that fits and of one that does not; `text`
    is the beginning of what last week's and this week's program print; `keys` are findings that differ from the usual, by
    the row's name; "" leaves a row out."""
    baud = BOARDS[board].baud
    image, large = (sample_for(board, size) for size in sizes)
    upload: dict[str, Any] = {"images": {"flash": image}}
    greet: dict[str, Any] = {"purpose": "greet"}
    by_hand = named_hookup("by-hand", level)
    late = with_sequences(named_hookup(hookup, level), "wait 50 ms", None)

    def row(
        number: int, name: str, key: str, code: int, options: dict[str, Any], said: str = "", arrange: Any = None
    ) -> Situation:
        return Situation(number, name, board, keys.get(name.replace(" ", "_"), key), code, options, said, arrange)

    application = keys.get("application", "application")
    rows = [
        *port_rows(board),
        row(3, "dead board", "silence-lines", 4, {**greet, "faults": ("dead",)}, "nothing heard"),
        row(3, "nothing pressed", "silence-by-hand", 4, {**greet, "faults": ("dead",), "hookup": by_hand, "patience_s": 2.0}),
        row(3, "no lines", "silence-no-lines", 4,
            {**greet, "faults": ("dead",), "link_options": {"has_lines": False}, "patience_s": 2.0}),
        row(4, "joined", "echo", 4, {**greet, "faults": ("echo",)}),
        row(5, "the program runs", application, 4, {**upload, "faults": ("no-boot",)}, keys.get("said", text)),
        row(5, "the program runs by hand", application, 4,
            {**upload, "faults": ("no-boot",), "hookup": by_hand, "patience_s": 2.0}, keys.get("said", text)),
        row(6, "an ESP8266 on this port", "rom-text", 4,
            {**greet, "faults": ("no-boot", "says=rst cause:2, boot mode:(3,6)")}),
        row(6, "an ESP32 that waits", "rom-text", 4,
            {**greet, "faults": ("no-boot", "says=rst:0x1 (POWERON_RESET),boot:0x3 (DOWNLOAD_BOOT(UART0))")}),
        row(7, "a program at half the rate", "wrong-rate", 4,
            {**greet, "faults": ("no-boot", f"console={baud // 2}", f"says={text} and more of it")}),
        row(8, "seven bits", "wrong-frame", 4, {**greet, "settings": LineSettings(baud, Frame(7, "none", 1))}),
        row(8, "odd parity", "wrong-frame", 4, {**greet, "settings": LineSettings(baud, Frame(8, "odd", 1))}),
        row(9, "an XMODEM receiver", "other-dialect", 4, {**greet, "faults": ("no-boot", "says=CCC")}, "", without_line_ends),
        row(9, "an LPC asked before", "other-dialect", 4, {**greet, "faults": ("no-boot", "says=Synchronized")}),
        row(11, "too large", "does-not-fit", 5, {"images": {"flash": large}}),
        row(12, "restarts while it is written", "restarted", 6, {**upload, "faults": (keys.get("restart", "restart-every=700"),)}),
        row(12, "silence while it is written", "fell-silent", 6, {**upload, "compare": False, "faults": (keys.get("silence", "silence-after=700"),)}),
        row(13, "writing has no effect", "no-effect", 7, {**upload, "faults": ("dead-write",)}),
        row(13, "worn cells", "worn-flash", 7, {**upload, "faults": keys.get("worn", "worn=0x123 worn=0x3F0 worn=0x801").split()}),  # type: ignore[arg-type]
        row(14, "another text than expected", "other-text", 8, {**upload, "expect": "not this", "expect_within_s": 1.5}, text),
        row(15, "no reset by the lines", keys.get("late", "silence-lines"), 4, {**greet, "hookup": late, "link_options": {"on_for_s": 9.0}}),
    ]  # fmt: skip
    return [row for row in rows if row.key]


def without_line_ends(line: Any) -> None:
    """A program that prints its text and no line ends."""
    send = line.chip.send
    line.chip.send = lambda data: send(data.rstrip(b"\r\n"))


def talks_every(seconds: float, text: bytes) -> Callable[[Any], None]:
    """A program that has been running for long, and prints now and then."""

    def arrange(line: Any) -> None:
        chip = line.chip

        def program() -> Any:
            chip.settings = chip.console
            while True:
                yield Spend(seconds)
                chip.send(text)

        chip.restart(program())
        chip.boot = lambda boot_selected: program()

    return arrange
