"""A recording of the line: kept as a Value Change Dump (IEEE 1364), read back, and explained."""

from .exchanges import Exchange, Shares, exchanges_of, time_shares
from .recording import ByteSeen, Change, Trace
from .vcd import VcdError, read_vcd, write_vcd

__all__ = [
    "ByteSeen",
    "Change",
    "Exchange",
    "Shares",
    "Trace",
    "VcdError",
    "exchanges_of",
    "read_vcd",
    "time_shares",
    "write_vcd",
]
