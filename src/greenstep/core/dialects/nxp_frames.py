"""The frames of NXP's MCU bootloader (MCU Bootloader Reference Manual, "Bootloader packet types"): 5A, a type, and
for commands and data a length, a CRC-16 (polynomial 1021, from 0) over all but itself, and the payload. Each frame is
acknowledged by 5A A1; after 5A A2 it is sent again."""

from __future__ import annotations

from binascii import crc_hqx

from ..frozen import frozen
from . import commands

START = 0x5A
ACK, NAK, ABORT, COMMAND, DATA, PING, PING_ANSWER = 0xA1, 0xA2, 0xA3, 0xA4, 0xA5, 0xA6, 0xA7
GENERIC, READ_ANSWER, PROPERTY_ANSWER = 0xA0, 0xA3, 0xA7
"""Tags of the chip's command frames."""


class Command(commands.Command):
    """ "Command tags"."""

    ERASE_ALL = 0x01, "erase all"
    ERASE_REGION = 0x02, "erase region"
    READ_MEMORY = 0x03, "read memory"
    WRITE_MEMORY = 0x04, "write memory"
    FILL_MEMORY = 0x05, "fill memory"
    SECURITY_DISABLE = 0x06, "disable security"
    GET_PROPERTY = 0x07, "get property"
    EXECUTE = 0x09, "execute"
    RESET = 0x0B, "reset"
    SET_PROPERTY = 0x0C, "set property"
    ERASE_AND_UNSECURE = 0x0D, "erase all and unsecure"


class Property:
    """ "Properties"."""

    VERSION, FLASH_START, FLASH_SIZE, SECTOR_SIZE, COMMANDS = 0x01, 0x03, 0x04, 0x05, 0x07
    PACKET_SIZE, DEVICE_ID, SECURITY, UNIQUE_ID = 0x0B, 0x10, 0x11, 0x12


@frozen
class Answer:
    """A command frame from the chip: its tag and its parameters."""

    tag: int
    parameters: tuple[int, ...]

    @classmethod
    def of(cls, payload: bytes) -> Answer | None:
        """None if it is none."""
        if len(payload) < 4 or len(payload) < 4 + 4 * payload[3]:
            return None
        words = (payload[at : at + 4] for at in range(4, 4 + 4 * payload[3], 4))
        return cls(payload[0], tuple(int.from_bytes(word, "little") for word in words))


def framed(kind: int, payload: bytes) -> bytes:
    head = bytes([START, kind]) + len(payload).to_bytes(2, "little")
    return head + crc_hqx(head + payload, 0).to_bytes(2, "little") + payload


def command(tag: int, *parameters: int, data_follows: bool = False) -> bytes:
    """The payload of a command."""
    head = bytes([tag, data_follows, 0, len(parameters)])
    return head + b"".join(number.to_bytes(4, "little") for number in parameters)


def is_whole(frame: bytes) -> bool:
    """Whether the CRC of a frame of six bytes and its payload is right."""
    return crc_hqx(frame[:4] + frame[6:], 0) == int.from_bytes(frame[4:6], "little")
