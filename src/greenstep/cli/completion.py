"""`greenstep completion`, and what a shell offers when Tab is pressed: boards, chips, ports, dialects, hookups, image
files.

A fault during completion offers nothing: there is nowhere to report it.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import click

from greenstep.core.safety.harmless_text import is_plain

from .screen import say_all

_SHELLS = ("bash", "zsh", "fish")


@click.command("completion", short_help="Let Tab complete names.")
@click.argument("shell", type=click.Choice(_SHELLS))
def completion_command(shell: str) -> int:
    """Print what makes a shell complete commands, options, boards, chips, ports and image files at Tab.

    \b
    eval "$(greenstep completion bash)"        in ~/.bashrc
    eval "$(greenstep completion zsh)"         in ~/.zshrc, after compinit
    greenstep completion fish | source        in ~/.config/fish/config.fish
    """
    from click.shell_completion import get_completion_class

    from .main import main

    kind = get_completion_class(shell)
    assert kind is not None
    say_all(kind(main, {}, "greenstep", "_GREENSTEP_COMPLETE").source().split("\n"))
    return 0


Completer = Callable[[click.Context, click.Parameter, str], list[str]]
_MOST = 400


def _offer(names: Callable[[], Iterable[str]]) -> Completer:
    """The names that begin with what was typed."""

    def complete(context: click.Context, parameter: click.Parameter, typed: str) -> list[str]:
        from greenstep.core.errors import Fault

        try:
            return [name for name in names() if name.startswith(typed) and is_plain(name)][:_MOST]
        except (Fault, OSError):
            return []

    return complete


def _chips() -> list[str]:
    from greenstep.core.chips.catalogue import Catalogue

    return Catalogue.load().names()


def _dialects() -> Iterable[str]:
    from greenstep.core.dialects.registry import dialect_names

    return dialect_names()


def _hookups() -> Iterable[str]:
    from greenstep.core.hookup.circuits import NAMED

    return NAMED


def _findings() -> Iterable[str]:
    from greenstep.core.findings.explained import explanations

    return explanations()


def _ports() -> list[str]:
    from greenstep.ports.discovery import listed_ports
    from greenstep.store.aliases import read_aliases

    return [*read_aliases(), *(port.name for port in listed_ports())]


def _boards() -> Iterable[str]:
    from greenstep.store.project import find_project

    return find_project(Path.cwd(), None).boards


def complete_target(context: click.Context, parameter: click.Parameter, typed: str) -> list[str]:
    """Boards first, then files and folders: images by their endings, and anything typed out in full."""
    boards = _offer(_boards)(context, parameter, typed)
    return [*boards, *_files(typed)]


def _files(typed: str) -> list[str]:
    from greenstep.store.image_files import IMAGE_ENDINGS

    folder, _, begun = typed.rpartition("/")
    place = Path(folder or ("/" if typed.startswith("/") else ".")).expanduser()
    found = []
    try:
        with os.scandir(place) as entries:
            for entry in entries:
                hidden = entry.name.startswith(".") and not begun.startswith(".")
                if not entry.name.startswith(begun) or hidden or not is_plain(entry.name):
                    continue
                before = f"{folder}/" if "/" in typed else ""
                if entry.is_dir():
                    found.append(f"{before}{entry.name}/")
                elif Path(entry.name).suffix.lower() in (*IMAGE_ENDINGS, ".kit"):
                    found.append(f"{before}{entry.name}")
    except OSError:
        return []
    return sorted(found)[:_MOST]


complete_board = _offer(_boards)
complete_chip = _offer(_chips)
complete_dialect = _offer(_dialects)
complete_hookup = _offer(_hookups)
complete_port = _offer(_ports)
complete_finding = _offer(_findings)

COMPLETERS: dict[str, Any] = {
    "--chip": complete_chip,
    "--dialect": complete_dialect,
    "--hookup": complete_hookup,
    "--port": complete_port,
}
"""By the option's name."""
