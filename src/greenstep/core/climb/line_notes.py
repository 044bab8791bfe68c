"""What was noted on the line while the bootloader was asked, for the rules that explain a failure."""

from __future__ import annotations

from dataclasses import field
from itertools import pairwise

from ..findings.observations import Experiment
from ..frozen import changing
from ..link import LineErrors, LineSettings
from ..recording_link import RecordingLink

_PAUSE_S = 0.15
_LONGER = 1.5


@changing
class LineNotes:
    """Notes of one session; the bytes themselves are in its recording.

    `before` is what came before any line moved. `asked_since_s` and `asked_mark` are the time and the recording's
    event at which we began to ask; `listen_mark`, at which we began only to listen, until before `listen_end`.
    `early` came before the first question, `unasked_s` after the last reset. `reheard` is what came at another rate,
    with the settings of the port; `answered_at`, the answer to a question at another rate; `answered_other`, the
    title of another dialect and the answer to a question in it. `missing_text` is the text that did not come in time.
    `tried` are the experiments made since, `first_errors` what the receiver had counted before them,
    `heard_meanwhile` what came while other dialects were tried.
    """

    link: RecordingLink
    before: bytes = b""
    asked_since_s: float = 0.0
    asked_mark: int = 0
    listen_mark: int | None = None
    listen_end: int | None = None
    early: bytes = b""
    unasked_s: float = 0.0
    reheard: tuple[LineSettings, bytes] | None = None
    answered_at: tuple[LineSettings, str] | None = None
    answered_other: tuple[str, str] | None = None
    missing_text: str = ""
    tried: list[Experiment] = field(default_factory=list)
    first_errors: LineErrors | None = None
    heard_meanwhile: bytes = b""

    def begin_asking(self) -> None:
        self.asked_since_s, self.asked_mark = self.link.now(), self.link.mark

    def begin_listening(self) -> None:
        self.listen_mark = self.link.mark

    def end_listening(self) -> None:
        self.listen_end = self.link.mark

    def forget_listening(self) -> None:
        self.listen_mark = self.listen_end = None

    @property
    def asked_s(self) -> float:
        """How long we have asked."""
        return self.link.now() - self.asked_since_s

    @property
    def sent(self) -> bytes:
        """What we asked."""
        return self.link.between(self.asked_mark, self.listen_mark, "sent")

    @property
    def answers(self) -> bytes:
        """What came while we asked."""
        return self.link.between(self.asked_mark, self.listen_mark, "heard")

    @property
    def after(self) -> bytes:
        """What came while we only listened."""
        return b"" if self.listen_mark is None else self.link.between(self.listen_mark, self.listen_end, "heard")

    @property
    def spoke(self) -> bool:
        """Whether anything came since we asked."""
        return self.link.first_at(self.asked_mark, "heard") is not None

    @property
    def quiet_s(self) -> float:
        """How long nothing came after we began to ask."""
        first = self.link.first_at(self.asked_mark, "heard")
        return (self.link.now() if first is None else first) - self.asked_since_s

    @property
    def began_anew(self) -> bool:
        """Whether the silence before the first text is longer than the later ones. A program that talks now and then
        would have been heard before; one that was just started talks more at its start."""
        times = self.link.times("heard", self.asked_mark, self.listen_mark)
        if not times:
            return False
        quiet_s = times[0] - self.asked_since_s
        pauses = [later - earlier for earlier, later in pairwise(times)]
        if max(pauses, default=0.0) > _PAUSE_S:
            return quiet_s > _LONGER * max(pauses)
        return self.link.now() - times[-1] > _LONGER * quiet_s
