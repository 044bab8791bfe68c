"""`greenstep completion`"""

from __future__ import annotations

import click

from .screen import say_all

_SHELLS = ("bash", "zsh", "fish")


@click.command("completion", short_help="Let Tab complete names.")
@click.argument("shell", type=click.Choice(_SHELLS))
def command(shell: str) -> int:
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
