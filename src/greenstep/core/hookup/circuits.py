"""Circuits between DTR/RTS and the pins reset and boot: direct, through inverters, cross pair, capacitor, none.

'Asserted' is what the driver calls true: 0 V on a TTL adapter, whose pins are active low.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

from ..errors import check_keys, usage
from ..frozen import frozen
from ..suggestions import nearest
from .other_pins import OUTSIDE, Outside, OutsidePin, is_outside, outside_from
from .sequence import Move, Sequence, SequenceError, parse_sequence

LineName = Literal["dtr", "rts"]
Through = Literal["wire", "capacitor"]


@frozen
class Role:
    """A pin's line: which one, and whether asserting it holds (or selects) the pin."""

    line: LineName
    asserted: bool = True
    through: Through = "wire"


@frozen
class Hookup:
    """How the lines reach the pins, and the sequences that use them. Without roles it is 'by hand'. `outside` are
    pins that no line of the port reaches, and what moves them."""

    name: str
    reset: Role | None = None
    boot: Role | None = None
    crossed: bool = False
    enter: Sequence | None = None
    leave: Sequence | None = None
    outside: tuple[tuple[OutsidePin, Outside], ...] = ()

    @property
    def by_hand(self) -> bool:
        """Whether a person has to do it: no line here enters the bootloader."""
        return self.enter is None

    @property
    def moves_boot(self) -> bool:
        """Whether lines or anything else but a person select the bootloader: the boot pin has its line, or the
        sequence names lines or the break itself."""
        if self.enter is None:
            return False
        named = {pin for step in self.enter.steps if isinstance(step, Move) for pin, _ in step.pins}
        by_line = bool(named - {"reset", "power", "boot"})
        return self.enter.hangs_up or bool(self.mover_of("boot")) or by_line

    @property
    def resets(self) -> str:
        """What resets: the line in capitals, a program, a pin of the computer, the supply; empty by hand."""
        return self.mover_of("reset") or (
            f"its supply, by {self.mover_of('power')}" if self.mover_of("power") else ""
        )

    def mover_of(self, pin: OutsidePin) -> str:
        """What moves a pin, in words; empty if nothing does."""
        role = {"reset": self.reset, "boot": self.boot}.get(pin)
        by = dict(self.outside).get(pin)
        return role.line.upper() if role else str(by) if by else ""

    def lines_for(self, reset_held: bool, boot_selected: bool) -> tuple[bool, bool]:
        """(DTR, RTS), True = asserted, that put both pins in the wanted states.

        In a cross pair each transistor conducts only while the other line is released, so the two pins cannot be low
        at once: reset goes first, and boot follows the moment reset is released.
        """
        if self.crossed:
            boot_selected = boot_selected and not reset_held
        lines: dict[LineName, bool] = {"dtr": False, "rts": False}
        for role, active in ((self.reset, reset_held), (self.boot, boot_selected)):
            if role is not None:
                lines[role.line] = active == role.asserted
        return lines["dtr"], lines["rts"]

    @property
    def idle_lines(self) -> tuple[bool, bool]:
        """(DTR, RTS) with the chip running and boot not selected: the state in which a port is opened."""
        return self.lines_for(False, False)


_PULSE = "reset off; wait 50 ms; reset on"
_DIRECT_ENTER = "boot on; reset on; wait 50 ms; reset off; wait 50 ms"
_RESET_ONLY = "reset on; wait 50 ms; reset off"
_POWER_CYCLE = "power off; wait 500 ms; power on"
_POWER_ENTER = f"boot on; {_POWER_CYCLE}; wait 100 ms"
_POWER_LEAVE = f"boot off; {_POWER_CYCLE}"
_DIRECT_LEAVE = "boot off; reset on; wait 50 ms; reset off"

CROSS_OHM, CROSS_FARAD = 10e3, (1e-6, 10e-6)
"""Around a cross pair: the pull-up at reset, and the least and the largest capacitor from there to ground."""

_TOO_NEAR_S = 0.01  # an adapter may carry out two moves by so much nearer to each other than they were asked for


def cross_times(ohm: float, farad: float) -> tuple[float, float]:
    """(how long to hold reset, how long to keep boot selected after reset is released) by a cross pair with this
    pull-up and capacitor at reset, in seconds and whole 10 ms.

    Released, reset rises as Vcc (1 - exp(-t / RC)) and is surely high from 0.75 Vcc on: after RC ln 4. Held, the
    transistor draws at least ten times the pull-up's current: 0.75 Vcc C / (10 Vcc / R) = 0.075 RC until surely low.
    """
    held, kept = 0.075 * ohm * farad, math.log(4) * ohm * farad
    return math.ceil((held + _TOO_NEAR_S) * 100) / 100, math.ceil((kept + _TOO_NEAR_S) * 100) / 100


def _cross_moves() -> tuple[str, str]:
    """The sequences in and out that are right for every capacitor up to the largest: a ROM loader waits."""
    held_s, kept_s = cross_times(CROSS_OHM, CROSS_FARAD[1])
    held = f"reset on; wait {held_s * 1000:.0f} ms; reset off"
    return f"boot on; {held}; wait {kept_s * 1000:.0f} ms; boot off", f"boot off; {held}"


NAMED = {
    "by-hand": "no line: a person moves the jumper or presses the buttons",
    "cap-dtr": "DTR through a capacitor to reset",
    "cap-rts": "RTS through a capacitor to reset",
    "cross-pair": "two transistors: RTS pulls reset low, DTR pulls boot low, never both",
    "dtr-reset-rts-boot": "DTR to reset, RTS to the boot pin, by wire",
    "rts-reset-dtr-boot": "RTS to reset, DTR to the boot pin, by wire",
    "dtr-reset-only": "DTR to reset by wire; the boot pin by hand, or none",
    "rts-reset-only": "RTS to reset by wire; the boot pin by hand, or none",
    "usb-hangup": "its own USB device: its port, opened and closed at 1200 baud, comes back as the bootloader",
}


def named_hookup(name: str, boot_level: str) -> Hookup:
    """A hookup by its name in NAMED. `boot_level` ('high', 'low' or '') is the level at which the chip's boot pin
    selects the bootloader. Raises UsageFault for an unknown name."""
    reset_line: LineName = "rts" if name.startswith("rts") or name in ("cap-rts", "cross-pair") else "dtr"
    boot_line: LineName = "dtr" if reset_line == "rts" else "rts"
    if name == "by-hand":
        return Hookup(name)
    if name == "usb-hangup":
        return Hookup(name, enter=parse_sequence("hang-up 1200"))
    if name in ("cap-dtr", "cap-rts"):
        return _completed(Hookup(name, Role(reset_line, through="capacitor")))
    if name == "cross-pair":
        return _completed(Hookup(name, Role("rts"), Role("dtr"), crossed=True))
    if name in ("dtr-reset-rts-boot", "rts-reset-dtr-boot"):
        return _completed(Hookup(name, Role(reset_line), Role(boot_line, asserted=boot_level != "high")))
    if name in ("dtr-reset-only", "rts-reset-only"):
        return _completed(Hookup(name, Role(reset_line)))
    near = nearest(name, NAMED, 2, 0.5)
    listed = " or ".join(near) if near else ", ".join(NAMED)
    raise usage("hookup", f"no hookup is called '{name}'", f"use {listed}, or a table of its own")


def _completed(hookup: Hookup) -> Hookup:
    """The hookup with its circuit's default sequences, if it has none of its own."""
    if not hookup.mover_of("reset"):
        if not hookup.mover_of("power"):
            return hookup
        enter, leave = _POWER_ENTER, _POWER_LEAVE
        if not hookup.mover_of("boot"):
            enter = leave = _POWER_CYCLE
    elif hookup.reset is not None and hookup.reset.through == "capacitor":
        enter = leave = _PULSE
    elif hookup.crossed:
        enter, leave = _cross_moves()
    elif hookup.mover_of("boot"):
        enter, leave = _DIRECT_ENTER, _DIRECT_LEAVE
    else:
        enter = leave = _RESET_ONLY
    return replace(hookup, enter=hookup.enter or parse_sequence(enter), leave=hookup.leave or parse_sequence(leave))


def entered_by(hookup: Hookup, moves: str, instead_of: str = "") -> Hookup:
    """The hookup with a dialect's own moves into its bootloader, if reset and boot pin are each on a wire and nothing
    else was said. `instead_of` are those of the dialect that it has now; no moves are the usual ones."""
    if hookup.enter not in (parse_sequence(_DIRECT_ENTER), parse_sequence(instead_of or _DIRECT_ENTER)):
        return hookup
    return replace(hookup, enter=parse_sequence(moves or _DIRECT_ENTER))


TABLE_KEYS = {
    "like": "a named hookup to start from",
    "reset": 'line; held = "asserted" or "released"; through = "wire" or "capacitor"; or as `power`',
    "boot": 'line; selected = "asserted" or "released"; or as `power`',
    "power": 'run_on = ["relay", "on"], run_off = […]: programs; or gpio = "gpiochip0:17", on = "high"',
    "cross": "true for a cross pair",
    "enter": "moves into the bootloader, instead of the circuit's own",
    "leave": "moves that start the application, instead of the circuit's own",
}
"""The keys of a hookup's own table."""


def hookup_from_table(table: Mapping[str, Any], boot_level: str, where: str = "hookup") -> Hookup:
    """A hookup from a table of the project file. `where` names it in messages.

    Keys: `like` (a named one to start from), `reset` = {line, held, through}, `boot` = {line, selected}, either of
    them or `power` = {run_on, run_off} or {gpio, level}, `cross`, `enter`, `leave`. Raises UsageFault.
    """
    check_keys(table, tuple(TABLE_KEYS), where, "hookup")
    base = named_hookup(_text(table["like"], f"{where}.like"), boot_level) if "like" in table else Hookup(where)
    cross = table.get("cross", base.crossed)
    if not isinstance(cross, bool):
        raise usage("hookup", f"{where}.cross is {cross!r}", "write true or false")
    moved = {pin: table[pin] for pin in OUTSIDE if pin in table and (pin == "power" or is_outside(table[pin]))}
    outside = tuple((pin, outside_from(pin, of, boot_level, f"{where}.{pin}")) for pin, of in moved.items())
    reset = _role(table["reset"], "held", f"{where}.reset") if "reset" in table.keys() - moved else base.reset
    boot = _role(table["boot"], "selected", f"{where}.boot") if "boot" in table.keys() - moved else base.boot
    reset, boot = None if "reset" in moved else reset, None if "boot" in moved else boot
    if reset and boot and reset.line == boot.line:
        raise usage("hookup", f"{where}: reset and boot are both on {reset.line.upper()}", "give each its line")
    if cross and not (reset and boot and reset.asserted and boot.asserted):
        raise usage(
            "hookup",
            f"{where}: a cross pair needs reset and boot, each held by asserting its line",
            "set both, or leave out cross",
        )
    enter = _sequence(table, "enter", where) or (None if outside else base.enter)
    leave = _sequence(table, "leave", where) or (None if outside else base.leave)
    return _completed(Hookup(where, reset, boot, cross, enter, leave, outside))


def with_sequences(hookup: Hookup, enter: str | None, leave: str | None) -> Hookup:
    """The hookup with other sequences. Raises UsageFault."""
    table = {"enter": enter, "leave": leave}
    return replace(
        hookup,
        enter=(_sequence(table, "enter", "") if enter else None) or hookup.enter,
        leave=(_sequence(table, "leave", "") if leave else None) or hookup.leave,
    )


def _sequence(table: Mapping[str, Any], key: str, where: str) -> Sequence | None:
    if key not in table:
        return None
    name = f"{where}.{key}" if where else key
    text = _text(table[key], name)
    try:
        return parse_sequence(text)
    except SequenceError as error:
        pointer = f"{' ' * (error.column - 1)}^"
        raise usage(
            "sequence", f"{name}, {error}", "greenstep hookup list explains the moves", evidence=(text, pointer)
        ) from None


def _role(value: object, word: str, where: str) -> Role:
    if not isinstance(value, Mapping):
        raise usage("hookup", f"{where} is {value!r}", f'write {{ line = "rts", {word} = "asserted" }}')
    check_keys(value, ("line", word, "through"), where, "hookup")
    line = value.get("line")
    if line not in ("dtr", "rts"):
        raise usage("hookup", f"{where}.line is {line!r}", 'write "dtr" or "rts"')
    state = value.get(word, "asserted")
    if state not in ("asserted", "released"):
        raise usage("hookup", f"{where}.{word} is {state!r}", 'write "asserted" or "released"')
    through = value.get("through", "wire")
    if through not in ("wire", "capacitor"):
        raise usage("hookup", f"{where}.through is {through!r}", 'write "wire" or "capacitor"')
    return Role(line, state == "asserted", through)


def _text(value: object, where: str) -> str:
    if not isinstance(value, str):
        raise usage("hookup", f"{where} is {value!r}", "write it in quotes")
    return value
