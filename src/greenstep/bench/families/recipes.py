"""Simulated boards with XMODEM bootloaders of chip makers: their texts and keys from Silicon Labs UG266 and AN0003,
and Winner Micro's note. Boards: efr32, efm32, w600.

| what | EFR32 (UG266) | EFM32 (AN0003) | W60x, W80x |
|---|---|---|---|
| menu | once after reset, and again for each key that it does not know | after `U` | none |
| upload, run | `1`, `2` | `u`, `b` | ESC, a reset |
| file | .gbl: it sums it, and says `Serial upload complete` or `aborted` | as it is | its header |
| erases | what the file needs | all but itself | what the file needs |
| remembered over a reset | nothing | nothing | nothing |
"""

from __future__ import annotations

import zlib
from dataclasses import replace
from functools import partial

from greenstep.core.image import Image, Piece

from .. import samples
from ..boards import FAN, BenchBoard, any_kind, board_of
from ..chip import Program
from ..circuits import DtrResetRtsBoot
from .xmodem import SimulatedXmodem, XmodemKind

KINDS = {
    "efr32": XmodemKind(
        "EFR32, UART XMODEM bootloader", long=False, listens_s=600.0, keys=("1", "2"),
        menu=b"\r\n1. upload gbl\r\n2. run\r\n3. ebl info\r\nBL > ", begun=b"\r\nbegin upload\r\n",
        done=b"\r\nSerial upload complete\r\n", other_keys=True,
        wrong=b"\r\nSerial upload aborted\r\nfile error 0x1103\r\n",
    ),
    "efm32": XmodemKind(
        "EFM32, AN0003 bootloader", long=False, keys=("u", "b"), knock="U",
        menu=b"\r\n1.24 ChipID: 24353B02535E8E9C\r\n", begun=b"u\r\nReady\r\n",
    ),
    "w600": XmodemKind("W600, secboot", keys=("\x1b", "\x02"), menu=b"", begun=b""),
}  # fmt: skip
_GBL_END = bytes.fromhex("FC0404FC04000000")
_HEADS = {"efr32": "EB17A603", "w600": "9FFFFFA0"}


class SimulatedRecipe(SimulatedXmodem):
    """A board whose bootloader comes up by its pin, or while there is no program."""

    def boot(self, boot_selected: bool) -> Program:
        blank = not self.flash[: self.vector_bytes].strip(b"\xff")
        return self.loader() if (boot_selected or blank) and not self.faults.no_boot else self.program()

    def is_whole(self, file: bytes) -> bool:
        """By the CRC-32 in the tag that ends a .gbl file."""
        at = file.rfind(_GBL_END)
        return at >= 0 and file[at + 8 : at + 12] == zlib.crc32(file[: at + 8]).to_bytes(4, "little")


def _program(name: str, text: str, size: int, seed: int) -> Image:
    """A file of the kind that the bootloader takes."""
    image = samples.plain_image(text, size, seed)
    head = bytes.fromhex(_HEADS.get(name, "10203040"))
    data = head + image.pieces[0].data[4:]
    if name == "efr32":
        data += _GBL_END
        data += zlib.crc32(data).to_bytes(4, "little")
    return replace(image, pieces=(Piece(0, data),))


def _board(name: str) -> BenchBoard:
    circuit = DtrResetRtsBoot("high" if name == "efm32" else "low")
    return board_of(KINDS[name], SimulatedRecipe, any_kind(partial(_program, name)), name, circuit, FAN)


BOARDS = tuple(map(_board, KINDS))
