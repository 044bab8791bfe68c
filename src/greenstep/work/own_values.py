"""The values of one board: taken for it before it is touched, and settled when its upload has ended."""

from __future__ import annotations

from dataclasses import replace

from greenstep.core.batch.board_values import BoardValues, with_values
from greenstep.core.engine.chip_state import ChipState
from greenstep.core.engine.job import Job, Outcome
from greenstep.core.errors import usage
from greenstep.core.events import RunEnded
from greenstep.store.given_values import Claim, claim, hand_back, settle, values_file


class OwnValues:
    """What one board has been given."""

    def __init__(self, wanted: BoardValues, given: Claim) -> None:
        self._wanted = wanted
        self._given = given

    @classmethod
    def next_of(cls, wanted: BoardValues, unique_id: str) -> OwnValues | None:
        """The next ones; those that the chip with this number of its own had before. None if none are left. Raises
        UsageFault."""
        given = claim(values_file(), wanted, unique_id)
        return None if given is None else cls(wanted, given)

    def put_into(self, job: Job) -> Job:
        """The job of this very board. Raises UsageFault."""
        try:
            own = with_values(job, self._wanted.patches, self._given.values)
        except ValueError as error:  # a value of an earlier batch, under other options
            self.hand_back()
            raise usage("value", str(error)) from None
        return replace(own, only_chip=self._given.unique_id)

    def hand_back(self) -> None:
        """No board has seen them. Raises UsageFault."""
        hand_back(values_file(), self._given)

    def ended(self, outcome: Outcome, ended: RunEnded, started: bool) -> None:
        """Where they are now. `started`: the application was started, and may have been told. Raises UsageFault."""
        if ended.exit_code and outcome.state is ChipState.UNTOUCHED and not started:
            self.hand_back()
            return
        how = "green" if ended.green else "failed" if ended.exit_code else "unproven"
        chip = outcome.part.title if outcome.part else ""
        settle(values_file(), self._given, outcome.unique_id, chip, how, ended.journal)
