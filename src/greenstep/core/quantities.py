"""Numbers as people write and read them: addresses, sizes, durations, rates, quoted bytes."""

from __future__ import annotations

import re

_READABLE = bytes(range(32, 127)) + b"\t\n\r"
_SIZE_SUFFIX = {"": 1, "k": 1024, "m": 1024 * 1024}


def parse_number(text: str) -> int:
    """A whole number in decimal, hexadecimal (`0x…`) or with a K or M of 1024.

    Raises ValueError with a message fit to be shown.
    """
    cleaned = text.strip().replace("_", "")
    if re.fullmatch(r"0[xX][0-9a-fA-F]+", cleaned):
        return int(cleaned, 16)
    match = re.fullmatch(r"([0-9]+)\s*([kKmM]?)(?:i?[bB])?", cleaned)
    if match is None:
        raise ValueError(f"'{text}' is not a number (write 4096, 0x1000 or 4K)")
    return int(match[1]) * _SIZE_SUFFIX[match[2].lower()]


_PREFIX = {"p": 1e-12, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "m": 1e-3, "": 1.0, "k": 1e3, "M": 1e6, "G": 1e9}


def parse_engineering(text: str, unit: str) -> float:
    """A value with the prefix of its unit: `10k`, `4k7`, `100 nF`, `16 MHz`, `11.0592M`. Raises ValueError with a
    message fit to be shown."""
    cleaned = text.strip().replace(" ", "").removesuffix(unit)
    match = re.fullmatch(r"([0-9]+(?:\.[0-9]+)?)([pnuµmkKMG]?)([0-9]*)", cleaned)
    if match is None or (match[3] and ("." in match[1] or not match[2])):
        raise ValueError(f"'{text}' is not a value in {unit} (write {_EXAMPLES.get(unit, '10k')})")
    number = float(f"{match[1]}.{match[3]}" if match[3] else match[1])
    return number * _PREFIX["k" if match[2] == "K" else match[2]]


_EXAMPLES = {"F": "100n or 1u", "ohm": "10k or 4k7", "Hz": "16M or 11.0592M", "V": "3.3", "s": "1.5s or 500ms"}


def show_engineering(value: float, unit: str) -> str:
    """A value with three digits and a suitable prefix: 16 MHz, 100 nF."""
    for prefix, factor in (("G", 1e9), ("M", 1e6), ("k", 1e3), ("", 1.0), ("m", 1e-3), ("u", 1e-6), ("n", 1e-9)):
        if abs(value) >= factor * 0.9995:
            return f"{value / factor:.6g} {prefix}{unit}"
    return f"{value * 1e12:.6g} p{unit}" if value else f"0 {unit}"


def show_address(address: int) -> str:
    """An address in hexadecimal: four digits below 64 KiB, else eight."""
    return f"{address:04X}" if address < 0x10000 else f"{address:08X}"


def show_span(start: int, size: int) -> str:
    """First and last address of `size` bytes from `start`, both in the same number of digits."""
    last = start + size - 1
    digits = 4 if last < 0x10000 else 8
    return f"{start:0{digits}X}-{last:0{digits}X}"


def show_size(size_bytes: int) -> str:
    """A round size in KiB or MiB, any other in bytes."""
    if size_bytes and size_bytes % (1024 * 1024) == 0:
        return f"{size_bytes // (1024 * 1024)} MiB"
    if size_bytes and size_bytes % 1024 == 0:
        return f"{size_bytes // 1024:,} KiB"
    return f"{size_bytes:,} bytes"


def show_bytes(data: bytes, most: int = 16) -> str:
    """Bytes in hexadecimal, cut after `most` of them."""
    shown = data[:most].hex(" ").upper()
    return f"{shown} … ({len(data)} bytes)" if len(data) > most else shown


def show_heard(data: bytes, most: int = 60) -> str:
    """What was heard on a line: as quoted text if nearly all of it is readable, else in hexadecimal."""
    if readable_share(data) < 0.85:
        return show_bytes(data)
    text = "".join(chr(b) if 32 <= b < 127 else " " for b in data)
    text = re.sub(r"\s+", " ", text).strip()
    return f'"{text[:most]}…"' if len(text) > most else f'"{text}"'


def readable_share(data: bytes) -> float:
    """The share (0 to 1) of bytes that are printable ASCII, tab or line ends; 0 for no bytes."""
    if not data:
        return 0.0
    return 1 - len(data.translate(None, _READABLE)) / len(data)


def show_seconds(seconds: float) -> str:
    """A duration: milliseconds below a tenth of a second, else seconds, else minutes."""
    if seconds < 0.0995:
        return f"{seconds * 1000:.0f} ms"
    if seconds < 9.95:
        return f"{seconds:.2f} s" if seconds < 0.995 else f"{seconds:.1f} s"
    if seconds < 99.5:
        return f"{seconds:.0f} s"
    return f"{int(seconds) // 60} min {int(seconds) % 60:02d} s"


def count(number: int, noun: str, plural: str | None = None) -> str:
    """A number with its noun: `count(2, 'page')` is '2 pages'."""
    return f"{number:,} {noun}" if number == 1 else f"{number:,} {plural or noun + 's'}"
