"""The frames of NXP's MCU bootloader (MCU Bootloader Reference Manual, "Bootloader packet types"): 5A, a type, and
for commands and data a length, a CRC-16 (polynomial 1021, from 0) over all but itself, and the payload. Each frame is
acknowledged by 5A A1; after 5A A2 it is sent again.

What an image for a Kinetis may lock: its flash configuration field (reference manuals, "Flash Configuration Field
Description")."""

from __future__ import annotations

from binascii import crc_hqx

from ..chips.part import Part
from ..errors import RefusedFault
from ..frozen import frozen
from ..image import Image
from ..quantities import show_address
from .spec import ProtocolCommand

START = 0x5A
ACK, NAK, ABORT, COMMAND, DATA, PING, PING_ANSWER = 0xA1, 0xA2, 0xA3, 0xA4, 0xA5, 0xA6, 0xA7
GENERIC, READ_ANSWER, PROPERTY_ANSWER = 0xA0, 0xA3, 0xA7
"""Tags of the chip's command frames."""


class Command(ProtocolCommand):
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


_FSEC, _FOPT = 0x0C, 0x0D


def allowed_to_lock(part: Part, image: Image, place: int, even_if: frozenset[str]) -> tuple[str, ...]:
    """What the flash configuration field would do, in words. Raises RefusedFault unless that is allowed, and allowed
    twice if it is for good.

    Byte C, FSEC: bits 1:0 are 10 if the chip is not secure; bits 5:4 are 10 if everything may no longer be erased.
    Byte D, FOPT: bits 7:6 are 00 to start from flash, bit 1 is 1 to ignore the pin that would start the ROM.
    A blank field secures the chip too.
    """
    units = part.flash.units_touched(place, 16)
    if not any(image.touches(unit.address, unit.size) for unit in units) or image.end > part.flash.end:
        return ()
    field = image.cut(place, 16, part.flash.erased)
    secure, no_mass_erase = field[_FSEC] & 3 != 2, field[_FSEC] >> 4 & 3 == 2
    shut = field[_FOPT] >> 6 == 0 and bool(field[_FOPT] & 2)
    if not secure and not shut:
        return ()
    for_good = shut or no_mass_erase
    wanted = {"protection", "lock-out"} if for_good else {"protection"}
    what = "secure, and never again to be erased" if no_mass_erase and secure else "secure" if secure else ""
    what = what or "without its ROM bootloader"
    if wanted <= even_if:
        return (f"the image makes the chip {what}: written anyway",)
    blank = "" if image.covers(place, 16) else ", because the image has nothing there and blank is secure"
    said = " ".join(f"--even-if {word}" for word in sorted(wanted, reverse=True))
    raise RefusedFault.of(
        "would-lock",
        f"{image.name} would {'lock you out for good' if for_good else 'lock the chip'}: it would be {what}",
        (
            f"the flash configuration field at {show_address(place)} is {field.hex(' ').upper()}{blank}",
            f"FSEC is {field[_FSEC]:02X}, FOPT is {field[_FOPT]:02X}",
        ),
        ("give it the field that startup files have: FSEC FE, FOPT 3D", f"if you mean it: {said}"),
    )
