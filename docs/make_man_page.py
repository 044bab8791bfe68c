"""Write docs/greenstep.1, the manual page, from the commands' own help: `python docs/make_man_page.py`."""

from __future__ import annotations

import inspect
import sys
from pathlib import Path

import click

from greenstep import __version__
from greenstep.cli.main import main
from greenstep.cli.options import VARIABLES

PAGE = Path(__file__).parent / "greenstep.1"
_EXITS = (
    (0, "green; or done as asked, with something unproven"),
    (1, "a fault of greenstep itself"),
    (2, "usage or project file"),
    (3, "port"),
    (4, "no bootloader answered"),
    (5, "refused before writing: image, chip or protection"),
    (6, "erase or write failed"),
    (7, "verify failed; image compare: different"),
    (8, "the expected text was not heard"),
    (130, "interrupted"),
)


def _plain(text: str) -> str:
    """Text that roff takes for no request."""
    text = text.replace("\\", "\\e").replace("-", "\\-").replace("…", "...")
    return "\n".join(f"\\&{line}" if line[:1] in (".", "'") else line for line in text.splitlines())


def _paragraphs(help_text: str) -> list[str]:
    """A docstring: paragraphs, and examples line by line (click's mark for them is a line with a backspace)."""
    lines: list[str] = []
    for paragraph in inspect.cleandoc(help_text).split("\n\n"):
        if paragraph.startswith("\b"):
            lines += [".PP", ".nf", _plain(paragraph.lstrip("\b\n")), ".fi"]
        else:
            lines += [".PP", _plain(" ".join(paragraph.split()))]
    return lines


def _options(command: click.Command, context: click.Context) -> list[str]:
    lines = []
    for parameter in command.params:
        record = parameter.get_help_record(context)
        if record and isinstance(parameter, click.Option):
            lines += [".TP", f".B {_plain(record[0])}", _plain(record[1])]
    return lines


def _command(command: click.Command, name: str, parent: click.Context) -> list[str]:
    context = click.Context(command, info_name=name, parent=parent)
    usage = " ".join(command.collect_usage_pieces(context))
    lines = [f".SS {_plain(context.command_path)} {_plain(usage)}", *_paragraphs(command.help or "")]
    if isinstance(command, click.Group):
        for child in command.list_commands(context):
            found = command.get_command(context, child)
            assert found is not None
            lines += _command(found, child, context)
        return lines
    return lines + _options(command, context)


def page() -> str:
    """The whole page, in the man macros."""
    context = click.Context(main, info_name="greenstep")
    lines = [
        f'.TH GREENSTEP 1 "" "greenstep {__version__}" "Green Step"',
        ".SH NAME",
        "greenstep \\- upload images to microcontrollers through their UART bootloaders",
        ".SH SYNOPSIS",
        ".B greenstep",
        "COMMAND [OPTIONS] [ARGUMENTS]",
        ".SH DESCRIPTION",
        *_paragraphs(main.help or ""),
        ".SH COMMANDS",
    ]
    for name in main.list_commands(context):
        command = main.get_command(context, name)
        assert command is not None
        lines += _command(command, name, context)
    lines += [".SH EXIT STATUS"]
    for status, meaning in _EXITS:
        lines += [".TP", f".B {status}", _plain(meaning)]
    lines += [
        ".SH ENVIRONMENT",
        _plain("What stands in greenstep.toml too can be given as GREENSTEP_ and its name: GREENSTEP_PORT."),
        *(_plain(f"{name}: {meaning}.") for name, meaning in VARIABLES.items()),
        ".SH FILES",
        _plain("greenstep.toml in this folder or above it: the boards of a project."),
    ]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    PAGE.write_text(page(), "utf-8")
    sys.exit(0)
