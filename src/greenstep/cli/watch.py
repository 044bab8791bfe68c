"""`greenstep upload --watch`: an upload after each build, until Ctrl-C."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from typing import TYPE_CHECKING

from greenstep.core.errors import EXIT_INTERRUPTED, Fault
from greenstep.core.quantities import count
from greenstep.work.board import Board
from greenstep.work.readiness import Rebuilds
from greenstep.work.run import Interrupts

from .drive import run_board
from .options import How
from .prompts import AT_THE_TERMINAL
from .screen import say_all

if TYPE_CHECKING:
    from pathlib import Path


def watch_and_upload(board: Board, how: How) -> int:
    """Upload now and after each change. Returns the exit status of the last one."""
    rebuilds = Rebuilds([image.file for image in board.settings.images or ()])
    short = replace(how, ladder=how.ladder or "short")
    status = uploads = failed = 0
    interrupts = Interrupts()
    _say(how, "watching", (_waiting_for(rebuilds.missing),), files=list(rebuilds.missing))
    try:
        with interrupts.noted():
            while rebuilds.wait(lambda: interrupts.heard):
                rebuilds.take()
                _say(how, "changed", ("", f"{datetime.now():%H:%M:%S}  upload {uploads + 1}"), number=uploads + 1)
                uploads, status = uploads + 1, 0  # Ctrl-C in the console is no failure
                ended = _one(board, short, rebuilds, interrupts)
                if ended is None:
                    uploads -= 1
                    continue
                status, failed = ended, failed + (ended != 0)
                if status == EXIT_INTERRUPTED:
                    break
                if status:
                    _say(how, "watching", (" waiting for the next change",), files=[])
    except KeyboardInterrupt:
        pass
    done = f"{count(uploads, 'upload')}, {f'{failed} not green' if failed else 'all green'}"
    _say(how, "watched", ("", f" watched until Ctrl-C: {done}"), uploads=uploads, failed=failed)
    return status


def _one(board: Board, how: How, rebuilds: Rebuilds, interrupts: Interrupts) -> int | None:
    """One upload; a fault before it began is shown, and waits for the next change like any other. None if the files
    changed while they were read: then there is going to be another."""
    from greenstep.work.partition_names import images_for

    def over() -> bool:
        return interrupts.heard or rebuilds.ready()

    try:
        images = images_for(board, AT_THE_TERMINAL)
        if rebuilds.changed_since:
            return None
        return run_board("upload", board, how, images=images, listens_until=over, interrupts=interrupts)
    except Fault as fault:
        if rebuilds.changed_since:
            return None
        if how.as_json:
            from .json_view import json_line

            json_line("fault", exit_code=fault.exit_code, findings=fault.findings)
        else:
            from .fault_view import fault_lines

            say_all(fault_lines(fault.findings), err=True)
        return fault.exit_code


def _waiting_for(missing: tuple[Path, ...]) -> str:
    if missing:
        return f" waiting for {', '.join(path.name for path in missing)}; Ctrl-C ends it"
    return " uploads after every change; Ctrl-C ends it"


def _say(how: How, kind: str, lines: tuple[str, ...], **values: object) -> None:
    if how.as_json:
        from .json_view import json_line

        json_line(kind, **values)
    else:
        say_all(lines)
