"""What is done to a chip's memory without an image of one's own: `greenstep backup`, `dump`, `restore`, `erase`,
`lock` and `unlock`."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click

from greenstep.core.errors import RefusedFault
from greenstep.store.board import BoardSettings
from greenstep.work.board import Board

from .completion import complete_board, complete_target
from .drive import run_board
from .options import (
    How,
    board_options,
    general_options,
    region_options,
    start_options,
    trace_option,
    wait_option,
    written_options,
)
from .prompts import consented
from .screen import say
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.dialects.dialect import Dialect
    from greenstep.work.run import Run


@click.command("backup", short_help="Save what the chip holds.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option(
    "--save", type=click.Path(path_type=Path, dir_okay=False), required=True, metavar="FILE",
    help="Where to: raw, or by its ending Intel HEX, S-record, TI-TXT.",
)  # fmt: skip
@click.option("--memory", default="flash", metavar="NAME", help="flash or eeprom. [flash]")
@click.option("--replace", is_flag=True, help="Replace a file that is there.")
@region_options
@board_options
@trace_option
@general_options
def backup_command(
    board: tuple[str, ...], save: Path, memory: str, replace: bool, region_from: int | None, region_size: int | None,
    settings: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Read the chip's memory, twice, and save it. Changes nothing on the chip.

    \b
    greenstep backup hive-scale --save hive-scale-before.hex
    greenstep backup apiary-gateway --from 0x9000 --size 24K --save hives.hex
    greenstep backup hive-scale --memory eeprom --save hive-scale.eeprom.bin

    It goes back with greenstep restore.
    """
    return back_up(settle(board, settings, how), save, replace, (memory, region_from, region_size), how)


def back_up(board: Board, save: Path, replace: bool, region: tuple[str, int | None, int | None], how: How) -> int:
    """The run, and the file at its end. Returns the exit status. Raises UsageFault."""
    from greenstep.store.image_files import check_place
    from greenstep.work.run import save_backup

    check_place(save, replace)

    def keep(run: Run) -> None:
        said = save_backup(run, save)
        if not how.as_json:
            say(f" saved as {save}{said}")

    return run_board("backup", board, how, region, keep)


@click.command("restore", short_help="Put a backup back.")
@click.argument("target", nargs=-1, metavar="[BOARD] FILE [at ADDRESS]", shell_complete=complete_target)
@board_options
@written_options
@start_options
@click.option("--start/--no-start", default=None, help="Start the application at the end (default), or not.")
@wait_option
@trace_option
@general_options
def restore_command(target: tuple[str, ...], settings: BoardSettings, how: How) -> int:
    """Write back what backup saved, byte for byte, and read it back. Nothing is added or judged, and a resident
    bootloader is left alone. A raw file goes to the start of the flash, or to the address you give.

    \b
    greenstep restore hive-scale hive-scale-before.hex
    greenstep restore apiary-gateway settings.bin at 0x9000
    greenstep restore hive-scale --eeprom hive-scale.eeprom.bin
    """
    from greenstep.core.errors import usage

    if not settings.images and not _names_a_file(target):
        raise usage("no-image", "restore what?", "name the file that backup saved")
    return run_board("upload", settle(target, settings, how), how, as_it_was=True)


def _names_a_file(target: tuple[str, ...]) -> bool:
    """Whether there is more than a board: its own images are no backup."""
    from pathlib import Path

    return len(target) > 1 or (len(target) == 1 and Path(target[0]).exists())


@click.command("erase", short_help="Make the flash, or part of it, blank.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--memory", default="flash", metavar="NAME", help="Which memory: flash or eeprom. [flash]")
@region_options
@click.option("--yes", is_flag=True, help="Do not ask.")
@board_options
@trace_option
@general_options
def erase_command(
    board: tuple[str, ...], memory: str, region_from: int | None, region_size: int | None, yes: bool,
    settings: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Erase the flash below the bootloader, the EEPROM, or whole erase units of either, and read back that it is
    blank.

    \b
    greenstep erase brood-probe
    greenstep erase apiary-gateway --from 0x9000 --size 0x6000
    greenstep erase hive-scale --memory eeprom
    """
    everything = "all that an application may use" if memory == "flash" else f"the whole {memory}"
    what = everything if region_from is None and region_size is None else f"that region of the {memory}"
    consented(f"Erase {what}?", yes)
    return run_board("erase", settle(board, settings, how), how, (memory, region_from, region_size))


_USUAL_BYTES = 256


@click.command("dump", short_help="Bytes of a live chip, in hexadecimal and as text.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--memory", default="flash", metavar="NAME", help="flash or eeprom. [flash]")
@region_options
@click.option("--bytes", "as_bytes", is_flag=True, help="Bytes, not instruction words.")
@click.option("--all", "everything", is_flag=True, help="Blank rows too.")
@board_options
@trace_option
@general_options
def dump_command(
    board: tuple[str, ...], memory: str, region_from: int | None, region_size: int | None, as_bytes: bool,
    everything: bool, settings: BoardSettings, how: How,
) -> int:  # fmt: skip
    """Read some of the chip's memory, twice, and show it: the chip's instruction words with their addresses, and the
    text in them. Without --size, 256 bytes. Changes nothing on the chip, and writes no file.

    \b
    greenstep dump hive-scale --from 0x68
    greenstep dump apiary-gateway --from 0x9000 --size 1K --bytes
    """
    from greenstep.core.image import Image

    from .image_dump import dumped

    wanted = settle(board, settings, how)
    region = (memory, region_from, region_size or _USUAL_BYTES)

    def show(run: Run) -> None:
        part = run.outcome.part
        image = Image(memory, run.outcome.backup)
        dumped(image, part.core if part is not None and memory == "flash" else "", as_bytes, everything, how.as_json)

    return run_board("backup", wanted, replace(how, ladder="short"), region, show, recorded=False)


def refuse_without(way: Literal["lock", "unlock"], board: Board, writes: bool = False) -> None:
    """Before a port is opened, refuse what the board's dialect cannot do. Raises RefusedFault, UsageFault."""
    from greenstep.core.dialects.abilities import LiftsWriteProtection, Locks, Unlocks
    from greenstep.core.dialects.registry import dialect_names, find_dialect

    def is_able(dialect: type[Dialect]) -> bool:
        able = issubclass(dialect, Locks if way == "lock" else Unlocks)
        return able and (issubclass(dialect, LiftsWriteProtection) or not writes)

    dialect = board.dialect
    if is_able(dialect):
        return
    able = [name for name in dialect_names() if is_able(find_dialect(name))]
    cause = f"the {dialect.title} cannot {'lift write protection' if writes else f'{way} the chip'}"
    raise RefusedFault.of(f"cannot-{way}", cause, (), (f"these can: {', '.join(able)}",))


@click.command("lock", short_help="Lock the chip against reading.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@board_options
@wait_option
@trace_option
@general_options
def lock_command(board: tuple[str, ...], settings: BoardSettings, how: How) -> int:
    """Turn on the chip's readout protection, enter the bootloader again, and check that the chip refuses to be read.

    Unlocking it later erases the whole flash. Fuses, lock bits and other option bytes stay as they are: a bootloader
    does not reach them, a programmer does.
    """
    wanted = settle(board, settings, how)
    refuse_without("lock", wanted)
    return run_board("lock", wanted, how)


@click.command("unlock", short_help="Unlock the chip; this erases it.")
@click.argument("board", nargs=-1, metavar="[BOARD]", shell_complete=complete_board)
@click.option("--writes", is_flag=True, help="Lift the write protection of erase units instead; erases nothing.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@board_options
@wait_option
@trace_option
@general_options
def unlock_command(board: tuple[str, ...], writes: bool, yes: bool, settings: BoardSettings, how: How) -> int:
    """Turn off the chip's readout protection, which erases the whole flash (on STM32L0 and L1 the EEPROM too), enter
    the bootloader again, and check that the chip can be read.

    With --writes, lift the write protection of erase units instead: the chip resets itself, and nothing is erased.
    """
    wanted = settle(board, settings, how)
    refuse_without("unlock", wanted, writes)
    if writes:
        consented("Lift the write protection? The chip resets itself; nothing is erased.", yes)
    else:
        consented("Unlock the chip? Everything in its flash is lost.", yes)
    return run_board("unlock", wanted, how, writes_only=writes)
