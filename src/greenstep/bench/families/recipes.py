"""Simulated boards with XMODEM bootloaders of chip makers: their texts and keys from Silicon Labs UG266 and AN0003,
and Winner Micro's note. Boards: efr32, efm32, w600."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from greenstep.core.image import Image, Piece

from .. import samples
from ..boards import BenchBoard
from ..chip import Program
from ..circuits import DtrResetRtsBoot
from ..stock import Stock
from ..xmodem import SimulatedXmodem, XmodemKind

_FAN = ("smoke fan 0.8 ready", "smoke fan 0.9 ready")
KINDS = {
    "efr32": XmodemKind(
        "EFR32, UART XMODEM bootloader", long=False, listens_s=600.0, keys=("1", "2"),
        menu=b"\r\n1. upload gbl\r\n2. run\r\n3. ebl info\r\nBL > ", begun=b"\r\nbegin upload\r\n",
        done=b"\r\nSerial upload complete\r\n",
    ),
    "efm32": XmodemKind(
        "EFM32, AN0003 bootloader", long=False, keys=("u", "b"), knock="U",
        menu=b"\r\n1.24 ChipID: 24353B02535E8E9C\r\n", begun=b"u\r\nReady\r\n",
    ),
    "w600": XmodemKind("W600, secboot", keys=("\x1b", "\x02"), menu=b"", begun=b""),
}  # fmt: skip
_HEADS = {"efr32": "EB17A603", "w600": "9FFFFFA0"}


class SimulatedRecipe(SimulatedXmodem):
    """A board whose bootloader comes up by its pin, or while there is no program."""

    def boot(self, boot_selected: bool) -> Program:
        blank = not self.flash[: self.vector_bytes].strip(b"\xff")
        return self.loader() if (boot_selected or blank) and not self.faults.no_boot else self.program()


def _program(name: str, text: str, size: int, seed: int) -> Image:
    """A file of the kind that the bootloader takes."""
    image = samples.plain_image(text, size, seed)
    head = bytes.fromhex(_HEADS.get(name, "10203040"))
    return replace(image, pieces=(Piece(0, head + image.pieces[0].data[4:]),))


def _board(name: str) -> BenchBoard:
    kind = KINDS[name]
    return BenchBoard(
        name, "recipes", name, name, DtrResetRtsBoot("high" if name == "efm32" else "low"), 115200, _FAN,
        stock=lambda: Stock(kind.title, partial(SimulatedRecipe, kind), partial(_program, name)),
    )  # fmt: skip


BOARDS = tuple(map(_board, KINDS))
