"""What an ESP reports about itself: its factory address and its security settings."""

from __future__ import annotations

from collections.abc import Callable

from ..chips import Part
from ..frozen import frozen

SECURITY_S2, SECURITY_LATER = 12, 20
"""Bytes of the security information of the ESP32-S2, which reports no chip id, and of later chips."""
_CHIP_ID_S2 = 2

ReadRegister = Callable[[int], int]


def chip_id_in(information: bytes) -> int | None:
    """The chip id that security information stands for; None for anything else."""
    if len(information) == SECURITY_S2:
        return _CHIP_ID_S2
    return int.from_bytes(information[12:16], "little") if len(information) == SECURITY_LATER else None


def mac_of(part: Part, read_register: ReadRegister) -> str:
    """The factory address, most significant byte first; empty if its place is not known."""
    places = part.extra.get("mac")
    if not places:
        return ""
    if places == "8266":
        low, middle, _, high = (read_register(0x3FF00050 + 4 * n) for n in range(4))
        usual = b"\xac\xd0\x74" if middle >> 16 & 0xFF else b"\x18\xfe\x34"
        maker = high.to_bytes(4, "big")[1:] if high else usual
        address = maker + bytes([middle >> 8 & 0xFF, middle & 0xFF, low >> 24])
    else:
        low, high = (read_register(place) for place in places)
        address = (high & 0xFFFF).to_bytes(2, "big") + low.to_bytes(4, "big")
    return ":".join(f"{byte:02X}" for byte in address)


@frozen
class Security:
    """`signed_only`: it only starts what is signed; `encrypts`: it decrypts what is in its flash; `locked` is why it
    lets nothing be read or written, else empty."""

    signed_only: bool = False
    encrypts: bool = False
    locked: str = ""

    @classmethod
    def of(cls, part: Part, information: bytes, read_register: ReadRegister) -> Security:
        """From the security information, or from the ESP32's own fuse registers; nothing on an ESP8266."""
        if information:
            flags, crypt = int.from_bytes(information[:4], "little"), information[4] if len(information) > 4 else 0
        elif "fuses" in part.extra:
            fuses = int(part.extra["fuses"])
            crypt = read_register(fuses) >> 20 & 0x7F
            flags = int(bool(read_register(fuses + 0x18) >> 4 & 3))  # ABS_DONE_0, ABS_DONE_1: secure boot V1, V2
        else:
            return cls()
        locked = f"security flags {flags:08X}: secure download is on" if flags & 4 else ""
        return cls(bool(flags & 1), bool(crypt.bit_count() & 1), locked)

    @property
    def details(self) -> list[tuple[str, str]]:
        on = (("secure boot", self.signed_only), ("flash encryption", self.encrypts))
        return [(title, "on") for title, is_on in on if is_on]
