"""The outermost frame: finds the command, and turns every end into a message and an exit status."""

from __future__ import annotations

import sys
from importlib import import_module

import click

from greenstep import __version__

# command -> (module, section of the help); in the order of the work
_COMMANDS = {
    "ports": ("ports", "connect"),
    "greet": ("greet", "connect"),
    "plan": ("plan", "upload"),
    "upload": ("upload", "upload"),
    "verify": ("verify", "upload"),
    "start": ("start", "upload"),
    "bench": ("bench", "practise"),
    "demo": ("demo", "practise"),
}
_SUMMARIES = {
    "ports": "List serial ports, what is behind each, and whether it can be opened.",
    "greet": "Reset into the bootloader, synchronise, and say who answered.",
    "plan": "Show what an upload would erase and write, and how long it takes.",
    "upload": "Write images into the chip, read them back, start the application.",
    "verify": "Compare what the chip holds with the images; change nothing.",
    "start": "Start the application, and hear it.",
    "bench": "Serve simulated boards to practise on, with faults if you like.",
    "demo": "One upload to a simulated board, and one that fails and says why.",
}


class _Commands(click.Group):
    """Loads a command's module only when it is called or its own help is wanted."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        module = import_module(f"greenstep.cli.{_COMMANDS[cmd_name][0]}")
        command: click.Command = module.command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for section in dict.fromkeys(section for _, section in _COMMANDS.values()):
            rows = [(name, _SUMMARIES[name]) for name, (_, at) in _COMMANDS.items() if at == section]
            with formatter.section(section.capitalize()):
                formatter.write_dl(rows)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in _COMMANDS and not args[0].startswith("-"):
            from difflib import get_close_matches

            near = get_close_matches(args[0], _COMMANDS, n=1)
            hint = f" Did you mean '{near[0]}'?" if near else " 'greenstep --help' lists them."
            raise click.UsageError(f"There is no command '{args[0]}'.{hint}", ctx)
        return super().resolve_command(ctx, args)


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.version_option(__version__, prog_name="greenstep", message="%(prog)s %(version)s")
def main() -> None:
    """Upload compiled images to microcontrollers through their UART bootloaders.

    A step turns green only on evidence from the board.
    """


def run() -> None:
    """The console script."""
    _be_printable()
    try:
        status = main.main(standalone_mode=False)
        sys.exit(status if isinstance(status, int) else 0)
    except click.exceptions.Exit as end:
        sys.exit(end.exit_code)
    except click.ClickException as error:
        error.show()
        sys.exit(2)
    except (click.Abort, KeyboardInterrupt):
        click.echo("interrupted", err=True)
        sys.exit(130)
    except BrokenPipeError:
        # whoever read our output has gone, as `| head` does: nothing to tell, nobody to tell it
        from .drive import forget_output

        forget_output()
        sys.exit(0)
    except Exception as error:  # noqa: BLE001  (the one place that may: nothing is above it)
        sys.exit(_unforeseen(error))


def _be_printable() -> None:
    """A terminal that cannot show a sign gets a replacement for it, not an error."""
    for stream in (sys.stdout, sys.stderr):
        reconfigure = getattr(stream, "reconfigure", None)
        if reconfigure is not None:
            reconfigure(errors="replace")


def _unforeseen(error: Exception) -> int:
    """A known fault is shown as its finding; anything else is a fault of this program, kept in a file."""
    from greenstep.core.errors import Fault

    if isinstance(error, Fault):
        from .fault_lines import fault_lines

        click.echo("\n".join(fault_lines(error.findings)), err=True)
        return error.exit_code
    import tempfile
    import traceback

    with tempfile.NamedTemporaryFile("w", prefix="greenstep-", suffix=".txt", delete=False) as report:
        report.write(f"greenstep {__version__}\n{' '.join(sys.argv)}\n\n{traceback.format_exc()}")
    click.echo(
        f"greenstep itself failed: {type(error).__name__}: {error}\n  what happened is in {report.name}", err=True
    )
    return 1
