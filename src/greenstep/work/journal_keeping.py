"""Runs recorded in the journal: trouble there never stops an upload."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from greenstep.core.events import Event, RunEnded

if TYPE_CHECKING:
    from pathlib import Path

    from greenstep.core.engine.runner import Climb
    from greenstep.core.image.granules import Remembered
    from greenstep.store.journal import JournalTrouble

    from .person import Person


def recall(person: Person, unique_id: str, chip: str) -> Remembered | None:
    """What the journal knows of a chip by its own number; a journal that cannot be read is reported and knows
    nothing."""
    from greenstep.store.journal import JournalTrouble, remembered
    from greenstep.store.journal_place import journal_file

    path = journal_file()
    try:
        return None if path is None else remembered(path, unique_id, chip)
    except JournalTrouble as trouble:
        if path is None or not _begun_anew(path, trouble, person):
            person.tell(f" the journal is not trusted: {trouble}")
        return None


def _begun_anew(path: Path, trouble: JournalTrouble, person: Person) -> bool:
    """Whether a damaged journal was put aside, which the person is told."""
    from greenstep.store.journal import JournalTrouble, set_aside

    if not trouble.damaged:
        return False
    try:
        aside = set_aside(path)
    except JournalTrouble:
        return False
    person.tell(f" the journal was damaged ({trouble}): it is kept as {aside.name}, and a new one is begun")
    return True


class Keeper:
    """Records one run, if it is of those that are recorded."""

    def __init__(self, climb: Climb, person: Person) -> None:
        from greenstep.core.journal.records import Recorder

        self._climb = climb
        self._person = person
        self._recorder = Recorder(climb.job, datetime.now().astimezone().isoformat(timespec="seconds"))

    def see(self, event: Event) -> int:
        """Take note of an event; returns the number of the row at the end, else 0."""
        self._recorder.see(event)
        return self._write(event) if isinstance(event, RunEnded) and self._is_recorded else 0

    @property
    def _is_recorded(self) -> bool:
        """Also a run that was only to look, and has changed the chip: by a password that was refused, for one."""
        from greenstep.core.engine.chip_state import ChipState
        from greenstep.core.journal.records import RECORDED

        return self._climb.job.purpose in RECORDED or self._climb.outcome.state is not ChipState.UNTOUCHED

    def _write(self, ended: RunEnded) -> int:
        from greenstep.store.journal import JournalTrouble, record
        from greenstep.store.journal_place import journal_file

        path = journal_file()
        if path is None:
            return 0
        try:
            outcome = self._climb.outcome
            job = self._climb.job
            looked_at = job.purpose == "upload" and job.wishes.verify and outcome.unique_id
            granules = outcome.granules if looked_at else None
            entry = self._recorder.entry(ended, outcome.unique_id, outcome.line)
            try:
                return record(path, entry, granules)
            except JournalTrouble as trouble:
                if not _begun_anew(path, trouble, self._person):
                    raise
                return record(path, entry, granules)
        except JournalTrouble as trouble:
            self._person.tell(f" not in the journal: {trouble}")
            return 0
