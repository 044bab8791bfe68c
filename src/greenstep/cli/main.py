"""The outermost frame: finds the command, and turns every end into a message and an exit status."""

from __future__ import annotations

import errno
import gc
import signal
import sys
from collections.abc import Mapping
from types import FrameType
from typing import ClassVar

import click

from greenstep import __version__
from greenstep.core.safety.harmless_text import harmless
from greenstep.core.suggestions import COMMANDS as OTHER_COMMANDS
from greenstep.core.suggestions import OPTIONS as OTHER_OPTIONS

from .command_groups import HelpPage, LazyCommands
from .screen import say, say_all

# command -> (module, section of the help); in the order of the work
_COMMANDS = {
    "ports": ("ports", "connect"),
    "find-port": ("ports", "connect"),
    "wiring": ("wiring", "connect"),
    "hookup": ("hookup", "connect"),
    "rates": ("rates", "connect"),
    "greet": ("greet", "connect"),
    "listen": ("listen", "connect"),
    "reset": ("reset", "connect"),
    "image": ("image", "image"),
    "loader": ("loader", "image"),
    "plan": ("plan", "upload"),
    "upload": ("upload", "upload"),
    "verify": ("upload", "upload"),
    "backup": ("memory", "upload"),
    "dump": ("memory", "upload"),
    "restore": ("memory", "upload"),
    "erase": ("memory", "upload"),
    "lock": ("memory", "upload"),
    "unlock": ("memory", "upload"),
    "start": ("reset", "upload"),
    "init": ("boards", "keep"),
    "boards": ("boards", "keep"),
    "chips": ("chips", "keep"),
    "batch": ("batch", "keep"),
    "kit": ("kit", "keep"),
    "journal": ("journal", "keep"),
    "trace": ("trace", "keep"),
    "share-port": ("ports", "keep"),
    "explain": ("explain", "keep"),
    "completion": ("completion", "keep"),
    "bench": ("bench", "practise"),
    "demo": ("bench", "practise"),
}
_SUMMARIES = {
    "ports": "List serial ports, what is behind each, whether it opens.",
    "find-port": "Find a board's port by its plug, and remember it by a name.",
    "wiring": "Which pin goes to which, levels, boot pin, order of buttons.",
    "hookup": "How DTR and RTS move reset and boot: draw, run, hold, find.",
    "rates": "Which baud rates a clock can make, and how well.",
    "greet": "Reset into the bootloader, synchronise, and say what answered.",
    "listen": "A console: hear the application, and talk to it.",
    "reset": "Reset into the application, or into the bootloader.",
    "image": "Look into image files: show, map, dump, compare, join, cut.",
    "loader": "Plan the room and the jump of a resident bootloader.",
    "plan": "What an upload would erase and write, and how long it takes.",
    "upload": "Write images, read them back, start the application.",
    "verify": "Compare what the chip holds with the images; change nothing.",
    "backup": "Save what the chip holds; change nothing.",
    "dump": "Show bytes of a live chip, in hexadecimal and as text.",
    "restore": "Put a backup back.",
    "erase": "Make the flash, or part of it, blank.",
    "lock": "Lock the chip against reading.",
    "unlock": "Unlock the chip; this erases it.",
    "start": "Start the application, and hear it.",
    "init": "Write a first greenstep.toml, by questions or options.",
    "boards": "List, add, change, remove the boards of greenstep.toml.",
    "chips": "List and search chips and dialects.",
    "batch": "The same images into many boards, in turn or at once.",
    "kit": "Boards and images in one file for a friend.",
    "journal": "Every upload on record; what is on which chip.",
    "trace": "Read a recording of the line: what was said, and when.",
    "share-port": "Serve a local port to another machine (RFC 2217).",
    "explain": "What a finding means, what shows it, and what to try.",
    "completion": "Let Tab complete commands, boards, chips and ports.",
    "bench": "Simulated boards to practise on, with faults if you like.",
    "demo": "Simulated uploads, and one that fails and says why.",
}


class _Commands(LazyCommands):
    places: ClassVar[Mapping[str, tuple[str, str]]] = {
        name: (module, f"{name.replace('-', '_')}_command") for name, (module, _) in _COMMANDS.items()
    }
    summaries = _SUMMARIES
    called = "greenstep"
    others = OTHER_COMMANDS

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for section in dict.fromkeys(section for _, section in _COMMANDS.values()):
            rows = [(name, self.summaries[name]) for name, (_, at) in _COMMANDS.items() if at == section]
            with formatter.section(section.capitalize()):
                formatter.write_dl(rows)


click.Context.formatter_class = HelpPage


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.version_option(__version__, prog_name="greenstep", message="%(prog)s %(version)s")
def main() -> None:
    """Upload compiled images to microcontrollers through their UART bootloaders.

    A step turns green only on evidence from the board.
    """


def run() -> None:
    """The console script."""
    gc.set_threshold(400_000, 20, 50)  # most commands end before anything is worth collecting
    _be_printable()
    signal.signal(signal.SIGTERM, _terminated)
    try:
        status = main.main(standalone_mode=False)
        sys.stdout.flush()
        sys.exit(status if isinstance(status, int) else 0)
    except click.exceptions.Exit as end:
        sys.exit(end.exit_code)
    except click.ClickException as error:
        _harmless(_with_other_words(error)).show()
        sys.exit(2)
    except (click.Abort, KeyboardInterrupt):
        say("interrupted", err=True)
        sys.exit(130)
    except BrokenPipeError:
        # the reader of our output has gone, as `| head` does: there is nobody to tell
        from .drive import forget_output

        forget_output()
        sys.exit(0)
    except Exception as error:  # noqa: BLE001  (the one place that may: nothing is above it)
        sys.exit(_without_output(error) or _unforeseen(error))


_FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG, errno.EIO)


def _without_output(error: Exception) -> int:
    """The exit status if it is the output that cannot be written, to a disk that is full; else 0. Files that are
    named have been reported already, by whoever wrote them."""
    if not isinstance(error, OSError) or error.filename is not None or error.errno not in _FULL:
        return 0
    from .drive import forget_output, no_output

    forget_output()
    say(no_output(error), err=True)
    return 1


def _with_other_words(error: click.ClickException) -> click.ClickException:
    """An option that people try, and that is none here, is answered with the one that does it."""
    if isinstance(error, click.NoSuchOption) and error.option_name in OTHER_OPTIONS:
        there = f"There is no option '{error.option_name}': {OTHER_OPTIONS[error.option_name]}."
        return click.UsageError(there, error.ctx)
    return error


def _harmless(error: click.ClickException) -> click.ClickException:
    """What was typed, or what a shell put in its place, is quoted in the message; its lines are click's own."""
    keep = "\n\t" if isinstance(error, click.MissingParameter) else ""
    vars(error)["message"] = harmless(error.message, keep)
    return error


def _terminated(number: int, frame: FrameType | None) -> None:
    """Termination ends a command as Ctrl-C does: what is open is closed, what was recorded is saved."""
    raise KeyboardInterrupt


def _be_printable() -> None:
    """A terminal that cannot show a character gets a replacement for it, not an error."""
    for stream in (sys.stdout, sys.stderr):
        reconfigure = getattr(stream, "reconfigure", None)
        if reconfigure is not None:
            reconfigure(errors="replace")


def _unforeseen(error: Exception) -> int:
    """A known fault is shown as its finding; anything else is a fault of this program, saved in a file."""
    from greenstep.core.errors import Fault

    if isinstance(error, Fault):
        from .fault_view import fault_lines

        say_all(fault_lines(error.findings), err=True)
        return error.exit_code
    import tempfile
    import traceback

    with tempfile.NamedTemporaryFile("w", prefix="greenstep-", suffix=".txt", delete=False) as report:
        report.write(f"greenstep {__version__}\n{' '.join(sys.argv)}\n\n{traceback.format_exc()}")
    said = f"greenstep itself failed: {type(error).__name__}: {error}"
    say(said, f"  what happened is in {report.name}", err=True)
    return 1
