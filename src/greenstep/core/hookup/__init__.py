"""How DTR and RTS reach reset and boot, and the timed moves that enter and leave a bootloader."""

from .circuits import Hookup, Role, hookup_from_table, named_hookup
from .drive import Driver
from .sequence import Move, Sequence, SequenceError, Wait, parse_sequence

__all__ = [
    "Driver",
    "Hookup",
    "Move",
    "Role",
    "Sequence",
    "SequenceError",
    "Wait",
    "hookup_from_table",
    "named_hookup",
    "parse_sequence",
]
