"""A row of the journal, and how it is gathered from the events of a run."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from ..frozen import frozen

if TYPE_CHECKING:
    from ..engine.job import Job, Purpose
    from ..events import Event, RunEnded, StepEnded
    from ..link import LineSettings


OUTCOMES = ("green", "unproven", "failed", "interrupted")


@frozen
class JournalEntry:
    """One row. Times in seconds; `at` is ISO 8601 with its offset from UTC. `image` is the names of the files;
    `crc32` and `sha256` are those of the flash image with gaps as erased, `version` the first text in it that looks
    like one. `own_values` are those that this board alone has, and `common_sha256` is the image's without them:
    empty if it has none. `proof` is the evidence of the verify, `evidence` that of the last step that was done or
    failed."""

    at: str
    purpose: str
    board: str
    chip: str
    unique_id: str
    port: str
    line: str
    image: str
    image_bytes: int
    crc32: str
    sha256: str
    version: str
    outcome: str
    exit_code: int
    finding: str
    evidence: str
    seconds: float
    write_seconds: float
    proof: str
    own_values: str = ""
    common_sha256: str = ""


Outcome = Literal["green", "unproven", "failed", "interrupted"]

RECORDED: tuple[Purpose, ...] = ("upload", "backup", "erase", "lock", "unlock")
"""Purposes that read or change what a chip holds permanently; the others leave nothing to look up later."""
_INTERRUPTED = 130


class Recorder:
    """Reads the events of one run; `entry` exists when it has ended."""

    def __init__(self, job: Job, at: str) -> None:
        self._job = job
        self._at = at
        self._chip = job.choice.title
        self._finding = ""
        self._evidence = ""
        self._proof = ""
        self._write_seconds = 0.0
        self._unproven = False

    def see(self, event: Event) -> None:
        """Take note of an event."""
        from ..events import Found, StepEnded

        if isinstance(event, Found):
            self._finding = event.findings[0].key
        elif isinstance(event, StepEnded):
            self._see_step(event)

    def _see_step(self, event: StepEnded) -> None:
        if event.step == "chip" and event.outcome == "green":
            self._chip = str(event.figures.get("part", self._chip))
        if event.step == "write":
            self._write_seconds = event.elapsed_s
        if event.step in ("verify", "read") and event.outcome in ("green", "unproven"):
            self._proof = event.evidence
        if event.outcome in ("green", "failed") and event.evidence:
            self._evidence = event.evidence

    def entry(self, ended: RunEnded, unique_id: str, line: LineSettings | None = None) -> JournalEntry:
        """The row of a run that ended this way, with a chip that reported this number of its own, at the rate and
        frame of `line` (None: those asked for)."""
        from ..image.content import digest_of
        from ..image.versions import version_text

        job = self._job
        flash = job.images.get("flash")
        digest = digest_of(flash, job.choice.first.flash.erased) if flash else None
        return JournalEntry(
            at=self._at,
            purpose="restore" if job.options.as_it_was else job.purpose,
            board=job.board,
            chip=self._chip,
            unique_id=unique_id,
            port=job.port,
            line=str(line or job.settings),
            image=", ".join(image.name for image in job.images.values()),
            image_bytes=sum(image.size_bytes for image in job.images.values()),
            crc32=f"{digest.crc32:08X}" if digest else "",
            sha256=digest.sha256 if digest else "",
            version=version.text if flash and (version := version_text(flash)) else "",
            outcome=_outcome(ended),
            exit_code=ended.exit_code,
            finding=self._finding,
            evidence=self._evidence,
            seconds=ended.elapsed_s,
            write_seconds=self._write_seconds,
            proof=self._proof,
            own_values=job.own_values,
            common_sha256=self._common_sha256(),
        )

    def _common_sha256(self) -> str:
        from ..image.content import digest_of

        common = self._job.common_flash
        return digest_of(common, self._job.choice.first.flash.erased).sha256 if common is not None else ""


def _outcome(ended: RunEnded) -> Outcome:
    if ended.green:
        return "green"
    if ended.exit_code == 0:
        return "unproven"
    return "interrupted" if ended.exit_code == _INTERRUPTED else "failed"
