"""`ti-tiva`: the serial flash loader in the ROM of Tiva C and Stellaris (data sheets, "Serial flash loader").

The packets are those of `ti-swra466`, the commands fewer: nothing can be read back and no sum of the flash is told.
What is announced is erased at once. So each page is announced, sent and judged by the status after every packet; the
first page is erased before all others and written after them: while it is blank, the ROM's loader stays.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial
from typing import ClassVar

from ..chips.part import Memory
from .errors import ChipRefusal, RefusalKind
from .framing import Framing
from .results import Identity, WriteBlock
from .spec import Cost, Erasing, Reading, Spec, Starting
from .ti_packets import DATA_BYTES, FRAMING, Command, TiPackets, asking, big

_ERASE_LONGEST_S, _ERASE_KIB_S, _PROGRAM_LONGEST_S = 2.0, 0.1, 0.1
_UNKNOWN = 0x41


class TiTiva(TiPackets):
    """The conversation with one chip."""

    name: ClassVar[str] = "ti-tiva"
    title: ClassVar[str] = "Tiva C serial flash loader"
    document: ClassVar[str] = "TI data sheets, serial flash loader"
    decoder: ClassVar[Framing] = FRAMING
    spec: ClassVar[Spec] = Spec(
        asking=asking(23),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.RESET,
        start_answers=False,
        reading=Reading.NONE,
        guards_writes=True,
        gives_up=False,
        tells_chip=False,
    )

    @property
    def guards_weakly(self) -> bool:
        return True

    def is_mine(self) -> bool:
        """The loaders of the radio chips tell their number; this one does not know that command."""
        self._request(Command.CHIP_ID)
        return self._request(Command.STATUS, answer=1)[0] == _UNKNOWN

    def identify(self) -> Identity:
        """It tells nothing of itself."""
        return Identity(None, "a serial flash loader that tells no chip number")

    # --- memory

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        return memory.layout[0][1]

    @classmethod
    def read_block(cls, memory: Memory) -> int:
        return DATA_BYTES

    @classmethod
    def writes_whole_blocks(cls, memory: Memory) -> bool:
        return True

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """Page by page, the first of the flash last: until then the chip counts as empty and enters its loader. Where
        the loader takes no other beginning than the flash's, all of it in one go."""
        first = [block for block in blocks if block.address == memory.start]
        for block in first:
            self._repeat(partial(self._announce, block.address, len(block.data)))
        rest = [block for block in blocks if block not in first]
        try:
            for block in rest[:1]:
                self._repeat(partial(self._announce, block.address, len(block.data)))
        except ChipRefusal as refusal:
            whole = blocks[-1].address + len(blocks[-1].data) - memory.start == sum(len(b.data) for b in blocks)
            if refusal.kind is not RefusalKind.BAD_ADDRESS or not first or not whole:
                raise
            self.learned.append("this bootloader takes no other beginning than the flash's: all was sent in one go")
            self._repeat(partial(self._send, WriteBlock(memory.start, b"".join(b.data for b in blocks))))
            yield from blocks
            return
        for block in (*rest, *first):
            self._repeat(partial(self._send, block))
            yield block

    def _announce(self, address: int, size: int) -> None:
        """Which erases all of it before it is acknowledged."""
        longest_s = _ERASE_LONGEST_S + size // 1024 * _ERASE_KIB_S
        self._request(Command.DOWNLOAD, big(address, size), longest_s=longest_s)
        self._must_succeed(Command.DOWNLOAD, self._status(longest_s), address)

    def _send(self, block: WriteBlock) -> None:
        """A page, or all of them, from the beginning: what was sent before is erased with it, and a blank end need
        not be sent."""
        self._announce(block.address, len(block.data))
        size = -(-len(block.data.rstrip(b"\xff")) // 4) * 4
        for at in range(0, size, DATA_BYTES):
            self._request(
                Command.SEND_DATA, block.data[at : min(at + DATA_BYTES, size)], longest_s=_PROGRAM_LONGEST_S
            )
            self._must_succeed(Command.SEND_DATA, self._status(_PROGRAM_LONGEST_S), block.address + at)

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        """The announcement and its status, and the same for each packet."""
        packets = -(-size // DATA_BYTES)
        busy_s = memory.program_s * size / memory.write_unit + memory.erase_time(memory.layout[0][1]).typical_s
        return Cost(11 + 5 + packets * 8 + size, 7 + packets * 7, 2 + 2 * packets, busy_s)

    @classmethod
    def cost_of_read(cls, memory: Memory, size: int) -> Cost:
        raise NotImplementedError(f"{cls.name} reads nothing back")
