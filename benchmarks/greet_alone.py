"""How long it takes until a board is known of which only the port is, for every board of the bench.

Seconds of the bench's virtual clock, from opening the port until a bootloader has answered and the way out was tried.

`python -m benchmarks.greet_alone [BOARD …]`
"""

from __future__ import annotations

import sys

from greenstep.bench.boards import BOARDS
from greenstep.bench.virtual_link import VirtualLink
from greenstep.core.chips.catalogue import Catalogue
from greenstep.core.link import LineSettings
from greenstep.core.survey.hookups import HookupFound, find_hookup
from greenstep.core.trace.recording import RecordingLink
from greenstep.store.board import BoardSettings
from greenstep.work.board import Board
from greenstep.work.surveying import scope

from .seeded import on_all_processors

LONGEST_S = 30.0
_AT = LineSettings(115200)


def alone(board: str) -> tuple[str, str, float]:
    """(board, what was found, seconds) where nothing but the port is known."""
    line = BOARDS[board].build()
    link = RecordingLink(VirtualLink(line, _AT, on_for_s=20.0))
    *_, last = find_hookup(link, scope(Board("", BoardSettings())), _AT)
    assert isinstance(last, HookupFound)
    found = last.candidate
    said = f"{found.dialect.name}, {found.hookup.name}, {found.baud}" if found else "nothing"
    return board, said, link.now() - 20.0


def entered_by_lines(board: str) -> bool:
    """Whether a common hookup reaches it, and it can be asked who it is."""
    stand = BOARDS[board]
    dialect = stand.dialect or Catalogue.load().find(stand.chip).dialect
    return stand.circuit.hookup != "usb-hangup" and dialect != "xmodem"


def main() -> int:
    boards = sys.argv[1:] or [board for board in BOARDS if entered_by_lines(board)]
    rows = on_all_processors(alone, [(board,) for board in boards], 1)
    for board, said, took_s in rows:
        print(f"{board:<18} {said:<40} {took_s:6.1f} s")
    late = [row for row in rows if row[2] > LONGEST_S or row[1] == "nothing"]
    print(
        f"{len(rows)} boards, {len(late)} not known within {LONGEST_S:g} s; the longest {max(r[2] for r in rows):.1f} s"
    )
    return 1 if late else 0


if __name__ == "__main__":
    sys.exit(main())
