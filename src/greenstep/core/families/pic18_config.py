"""The configuration words of a PIC18 in words: oscillator, PLL, watchdog, brown-out, code protection.

Bit places and values: the data sheets' "Special Features of the CPU", CONFIG1L to CONFIG7H: DS39631 (PIC18F2420 to
4620 and relatives), DS41412 (K22), DS40001919 and relatives (K40). A bootloader does not write them, a programmer
does; but the hex file of a program holds them, and says what clock it was built for.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from ..chips.part import Part
from ..frozen import frozen
from ..image import Image

START = 0x300000
_BYTES = 14


@frozen
class Field:
    """Bits of the configuration byte at `at` (from 300000), and what their values mean."""

    label: str
    at: int
    mask: int
    words: Mapping[int, str]

    def value(self, config: Mapping[int, int]) -> int | None:
        """The bits, moved down; None if the byte is not in the file."""
        if self.at not in config:
            return None
        low = self.mask & -self.mask
        return (config[self.at] & self.mask) // low


def _switch(label: str, at: int, mask: int, off: str, on: str) -> Field:
    return Field(label, at, mask, {0: off, 1: on})


_PROTECTED = {0: "on", **dict.fromkeys(range(1, 15), "partly on"), 15: "off"}
_COMMON = (
    _switch("power-up timer", 2, 0x01, "on", "off"),
    _switch("MCLR pin", 5, 0x80, "off: the pin is an input", "on"),
    _switch("low-voltage programming", 6, 0x04, "off", "on"),
    _switch("extended instructions", 6, 0x40, "off", "on"),
    Field("code protection", 8, 0x0F, _PROTECTED),
    Field("write protection", 10, 0x0F, _PROTECTED),
    _switch("boot block writes", 11, 0x40, "protected", "allowed"),
)
_FOSC_OLD = {
    0: "LP crystal", 1: "XT crystal, up to 4 MHz", 2: "HS crystal", 3: "RC", 4: "external clock",
    5: "external clock, RA6 free", 6: "HS crystal with the PLL: four times it", 7: "RC, RA6 free",
    8: "internal oscillator", 9: "internal oscillator, clock out on RA6",
}  # fmt: skip
_FOSC_K22 = {
    0: "LP crystal", 1: "XT crystal", 2: "HS crystal, over 16 MHz", 3: "HS crystal, 4 to 16 MHz",
    4: "external clock, over 16 MHz, clock out", 5: "external clock, over 16 MHz", 6: "RC, clock out", 7: "RC",
    8: "internal oscillator", 9: "internal oscillator, clock out", 10: "external clock, 4 to 16 MHz, clock out",
    11: "external clock, 4 to 16 MHz", 12: "external clock, under 4 MHz, clock out",
    13: "external clock, under 4 MHz",
}  # fmt: skip
_OLD = (
    Field("oscillator", 1, 0x0F, _FOSC_OLD),
    _switch("watchdog", 3, 0x01, "off, unless the program turns it on", "on"),
    Field("brown-out reset", 2, 0x06, {0: "off", 1: "as the program says", 2: "off in sleep", 3: "on"}),
    *_COMMON,
)
_K22 = (
    Field("oscillator", 1, 0x0F, _FOSC_K22),
    _switch("PLL", 1, 0x10, "off, unless the program turns it on", "on: four times the oscillator"),
    Field("watchdog", 3, 0x03, {0: "off", 1: "off in sleep", 2: "as the program says", 3: "on"}),
    Field("brown-out reset", 2, 0x06, {0: "off", 1: "as the program says", 2: "off in sleep", 3: "on"}),
    *_COMMON,
)
_K40 = (
    Field("external oscillator", 0, 0x07, {
        0: "LP crystal", 1: "XT crystal", 2: "HS crystal", 4: "none", 5: "clock, under 100 kHz",
        6: "clock, up to 16 MHz", 7: "clock, over 16 MHz",
    }),
    Field("oscillator at reset", 0, 0x70, {
        0: "internal, 64 MHz", 2: "external, with the PLL: four times it", 4: "secondary", 5: "internal, 31 kHz",
        6: "internal, 1 MHz", 7: "external",
    }),
    Field("watchdog", 4, 0x60, {0: "off", 1: "as the program says", 2: "off in sleep", 3: "on"}),
    Field("brown-out reset", 2, 0xC0, {0: "off", 1: "as the program says", 2: "off in sleep", 3: "on"}),
    _switch("MCLR pin", 2, 0x01, "off, unless low-voltage programming is on", "on"),
    _switch("low-voltage programming", 7, 0x20, "off", "on"),
    _switch("extended instructions", 3, 0x80, "on", "off"),
    _switch("code protection", 8, 0x01, "on", "off"),
)  # fmt: skip
_BY_NAME = (
    (r"pic18l?f\d\dk22$", _K22), (r"pic18l?f\d\dk40$", _K40),
    (r"pic18f[24](420|520|525|620|580|680)$", _OLD),
)  # fmt: skip


def fields_of(part: Part) -> tuple[Field, ...]:
    """What is known of a part's configuration words; nothing for parts that are not here."""
    return next((fields for name, fields in _BY_NAME if re.match(name, part.name)), ())


def config_in(image: Image) -> dict[int, int]:
    """The configuration bytes that a file holds, by their place from 300000."""
    return {at: image.cut(START + at, 1, 0xFF)[0] for at in range(_BYTES) if image.covers(START + at, 1)}


def in_words(image: Image, part: Part) -> tuple[tuple[str, str], ...]:
    """(what, how) for each field that the file sets."""
    config, said = config_in(image), []
    for field in fields_of(part):
        value = field.value(config)
        if value is not None:
            said.append((field.label, field.words.get(value, f"not known ({value:X})")))
    return tuple(said)


def _value(fields: tuple[Field, ...], label: str, config: Mapping[int, int]) -> int | None:
    field = next((field for field in fields if field.label == label), None)
    return None if field is None else field.value(config)


def words_for(part: Part, clock: float) -> bytes | None:
    """The configuration words with which a made loader runs at a clock in Hz: for the programmer. None for parts
    whose words are not known here. The internal oscillator for 16 and 64 MHz, else a crystal; watchdog off, code not
    protected, and the boot block, where the loader is, guarded against itself being written."""
    if fields_of(part) is not _K22:
        return None
    internal = clock in (16e6, 64e6)
    oscillator = 8 if internal else 2 if clock > 16e6 else 3
    return bytes([0xFF, 0x20 | oscillator, 0x1E, 0x3C, 0xFF, 0xBD, 0x85, 0xFF, 0x0F, 0xC0, 0x0F, 0xA0, 0x0F, 0x40])


def difference(image: Image, part: Part, clock: float) -> str:
    """Why a program will run at another rate than it was built for, on a chip whose loader was made for `clock` Hz:
    the chip keeps the words that came with the loader. Empty if nothing shows that."""
    config, fields = config_in(image), fields_of(part)
    own = words_for(part, clock)
    program = _value(fields, "oscillator", config)
    if own is None or program is None:
        return ""
    theirs = dict(enumerate(own))
    loader = _value(fields, "oscillator", theirs)
    program_pll, loader_pll = (_value(fields, "PLL", words) or 0 for words in (config, theirs))
    names = next(field for field in fields if field.label == "oscillator").words
    said = []
    if program != loader:
        said.append(
            f"the program's words want the {names.get(program, '?')}, the loader runs on the {names[loader or 0]}"
        )
    if program_pll != loader_pll:
        factor = 4 ** (loader_pll - program_pll)
        said.append(
            f"the program wants the PLL {'on' if program_pll else 'off'}: its rates will be off by {factor:g}"
        )
    if not said:
        return ""
    return "; ".join(said) + "; the words stay as the programmer set them"
