"""Faults that can be switched on, on the line and in the chip."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import field

from greenstep.core.frozen import changing

KINDS = {
    "drop-to-chip": ("N", "the Nth character to the chip is lost"),
    "drop-to-host": ("N", "the Nth character from the chip is lost"),
    "flip-to-chip": ("N:MASK", "bits MASK (hex) of the Nth character to the chip are flipped"),
    "flip-to-host": ("N:MASK", "the same from the chip"),
    "repeat-to-chip": ("N", "the Nth character to the chip arrives twice"),
    "repeat-to-host": ("N", "the same from the chip"),
    "late": ("MS", "every answer comes this much later"),
    "late-once": ("N:MS", "the Nth character from the chip, and what follows it, comes this much later"),
    "late-some": ("MS", "one answer in eight comes up to this much later; the seed decides which, and how much"),
    "silence-after": ("N", "the chip sends nothing more after N characters"),
    "restart-after": ("N", "the chip resets itself when it has received N characters, as with a weak supply"),
    "restart-every": ("N", "the same after every N characters"),
    "cut-after": ("N", "the supply fails for good when the chip has received N characters"),
    "worn": ("ADDRESS", "one bit of the flash byte there cannot be programmed"),
    "dead-write": ("", "writing the flash has no effect"),
    "slow-erase": ("FACTOR", "erasing takes this many times as long"),
    "locked": ("", "readout protection is on"),
    "lock-stays": ("", "an unlock erases the flash, and the readout protection stays on nevertheless"),
    "encrypted": ("", "the chip's fuses say that it encrypts its flash (ESP)"),
    "boot-ignored": (
        "",
        "the boot pin is ignored, as on new STM32G0 and C0: the bootloader runs only while the flash is empty",
    ),
    "write-protected": (
        "UNIT",
        "the erase unit of this index accepts every erase and write, and stays unchanged (STM32)",
    ),
    "rate-refused": ("BAUD", "the adapter cannot make this rate"),
    "adapter-limit": ("BAUD", "the adapter refuses every higher rate"),
    "adapter-clamps": ("BAUD", "the adapter takes every higher rate, and makes this one instead"),
    "chip-limit": ("BAUD", "the chip cannot measure or make a higher rate"),
    "noise-above": (
        "BAUD",
        "above this rate about one character in a thousand is damaged, and more the higher it is; the seed decides",
    ),
    "clock": ("FACTOR", "the chip's clock, and so its rate, is off by it"),
    "echo": ("", "every character sent comes straight back, and nothing else"),
    "no-boot": ("", "nothing enters the bootloader: the boot jumper is forgotten, or reset came too late"),
    "dead": ("", "the chip has no supply"),
    "says": ("TEXT", "the program prints this text instead of its own"),
    "console": ("BAUD", "the program talks at another rate than usual"),
}
"""Faults by name: what is written after the '=', and what they do."""


@changing
class Faults:
    """Character numbers count from 0 in each direction, from power-on. `seed` makes random faults repeatable."""

    drop_to_chip: set[int] = field(default_factory=set)
    drop_to_host: set[int] = field(default_factory=set)
    flip_to_chip: dict[int, int] = field(default_factory=dict)
    flip_to_host: dict[int, int] = field(default_factory=dict)
    repeat_to_chip: set[int] = field(default_factory=set)
    repeat_to_host: set[int] = field(default_factory=set)
    late: float = 0.0
    late_once: dict[int, float] = field(default_factory=dict)
    late_some: float = 0.0
    silence_after: int | None = None
    restart_after: int | None = None
    restart_every: int | None = None
    cut_after: int | None = None
    worn: set[int] = field(default_factory=set)
    dead_write: bool = False
    slow_erase: float = 1.0
    locked: bool = False
    lock_stays: bool = False
    encrypted: bool = False
    boot_ignored: bool = False
    write_protected: set[int] = field(default_factory=set)
    rate_refused: set[int] = field(default_factory=set)
    adapter_limit: int | None = None
    adapter_clamps: int | None = None
    chip_limit: int | None = None
    noise_above: int | None = None
    clock: float = 1.0
    echo: bool = False
    no_boot: bool = False
    dead: bool = False
    says: str = ""
    console: int | None = None
    seed: int = 0

    @classmethod
    def parse(cls, texts: Iterable[str], seed: int = 0) -> Faults:
        """Faults as written on the command line: `drop-to-chip=120`, `locked`. Raises ValueError."""
        faults = cls(seed=seed)
        for text in texts:
            faults.add(text)
        return faults

    def add(self, text: str) -> None:
        """Switch one fault on. Raises ValueError."""
        kind, _, value = text.partition("=")
        if kind not in KINDS:
            raise ValueError(f"no fault is called '{kind}'; there are {', '.join(KINDS)}")
        name = kind.replace("-", "_")
        current = getattr(self, name)
        try:
            if isinstance(current, bool):
                if value:
                    raise ValueError(value)
                setattr(self, name, True)
            elif isinstance(current, str):
                if not value:
                    raise ValueError(value)
                setattr(self, name, value)
            elif isinstance(current, float):
                setattr(self, name, float(value))
            elif isinstance(current, dict):
                number, _, what = value.partition(":")
                current[int(number, 0)] = float(what) if name == "late_once" else int(what, 16)
            elif isinstance(current, set):
                current.add(int(value, 0))
            else:
                setattr(self, name, int(value, 0))
        except ValueError:
            argument, meaning = KINDS[kind]
            written = f"{kind}={argument}" if argument else kind
            raise ValueError(f"'{text}' cannot be read: write {written} ({meaning})") from None

    @property
    def hurts_to_chip(self) -> bool:
        """Whether any character on its way to the chip is affected."""
        return bool(self.drop_to_chip or self.flip_to_chip or self.repeat_to_chip)

    @property
    def spare_what_is_sent(self) -> bool:
        """Leave every character on its way to the chip unharmed."""
        return not (
            self.echo or self.dead or self.hurts_to_chip or self.clock != 1.0 or self.noise_above is not None
            or self.restart_after is not None or self.restart_every is not None or self.cut_after is not None
        )  # fmt: skip

    @property
    def hurts_to_host(self) -> bool:
        """Whether any character from the chip is affected or lost."""
        return bool(
            self.drop_to_host or self.flip_to_host or self.repeat_to_host or self.silence_after is not None
            or self.noise_above is not None
        )  # fmt: skip

    def refuses(self, baud: int) -> bool:
        """Whether the adapter refuses a rate."""
        return baud in self.rate_refused or (self.adapter_limit is not None and baud > self.adapter_limit)

    def made_of(self, baud: int) -> int:
        """The rate that the adapter makes of one that it accepts."""
        return baud if self.adapter_clamps is None else min(baud, self.adapter_clamps)

    def damaged_share(self, baud: int) -> float:
        """The share of characters that noise damages at a rate: it grows tenfold with each doubling."""
        if self.noise_above is None or baud <= self.noise_above:
            return 0.0
        return min(0.5, 0.001 * math.pow(baud / self.noise_above, 3.3))

    def to_chip(self, number: int, value: int) -> list[int]:
        """What happens to a character on its way to the chip."""
        if number in self.drop_to_chip:
            return []
        value ^= self.flip_to_chip.get(number, 0)
        return [value, value] if number in self.repeat_to_chip else [value]

    def to_host(self, number: int, value: int) -> list[int]:
        """What happens to a character on its way from the chip."""
        if number in self.drop_to_host or (self.silence_after is not None and number >= self.silence_after):
            return []
        value ^= self.flip_to_host.get(number, 0)
        return [value, value] if number in self.repeat_to_host else [value]
