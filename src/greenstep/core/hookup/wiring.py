"""Which adapter pin goes to which chip pin, and what else a person has to take care of."""

from __future__ import annotations

from dataclasses import replace

from ..chips.part import ByHandWords, Part
from ..frozen import frozen
from .circuits import Hookup, Role
from .other_pins import ByGpio

NOT_SEEN = "no program can see volts: measure supply and levels before the first connection"


@frozen
class Wire:
    """One wire: pin names at both ends, its direction ('out' of the adapter, 'in' to it, 'ground', 'supply'), what
    lies in it, and a note."""

    adapter: str
    chip: str
    way: str
    through: str = ""
    note: str = ""


@frozen
class Wiring:
    """`advice` are (heading, text); `boot_run` and `boot_load` are the boot pin's levels, empty if there is none;
    `jumper` says that a person sets it."""

    wires: tuple[Wire, ...]
    advice: tuple[tuple[str, str], ...]
    boot_pin: str
    boot_load: str
    boot_run: str
    jumper: bool


@frozen
class Bridge:
    """Another board, whose USB bridge is borrowed as the adapter. `chip` is that board's own; None if it was not
    said."""

    chip: Part | None = None


def wiring_of(
    part: Part,
    hookup: Hookup,
    bridge: Bridge | None = None,
    hands: ByHandWords | None = None,
    volts: float | None = None,
) -> Wiring:
    """For a part with a hookup. The pads of a `bridge` are named from its own chip's side: TX to TX and RX to RX.
    `hands` are the board's own moves; `volts` is its supply, if it is not the usual one. Raises ValueError if the
    part does not stand that."""
    low, high = part.wires.volts_range
    if volts is not None and not low <= volts <= high:
        raise ValueError(f"the {part.title} needs {low:g} to {high:g} V")
    pins = part.wires if volts is None else replace(part.wires, volts=volts)
    part, straight = replace(part, wires=pins, hands=hands or part.hands), bridge is not None
    supply = f"{pins.volts:g} V"
    tx, rx = ("RX", "TX") if straight else ("TX", "RX")
    why = "named from the other board's side" if straight else "crossed"
    wires = [
        Wire("GND", "GND", "ground", note="first, always"),
        Wire(tx, f"{pins.rx}, RX", "out", note=why),
        Wire(rx, f"{pins.tx}, TX", "in", note=why),
    ]
    if hookup.reset is not None:
        wires.append(_line(hookup.reset, pins.reset, hookup, "reset"))
    if hookup.boot is not None and pins.boot:
        wires.append(_line(hookup.boot, pins.boot, hookup, "boot"))
    for pin, by in hookup.outside:
        if isinstance(by, ByGpio) and pin != "power":
            level = "high" if by.on_is_high else "low"
            doing = "holds reset" if pin == "reset" else "selects the bootloader"
            wires.append(Wire(str(by), getattr(pins, pin) or pin, "out", note=f"{level} {doing}"))
    if hookup.enter is not None and hookup.enter.hangs_up:
        cable = Wire("USB", "USB", "supply", note="its own cable, with data wires")
        return Wiring((cable,), _advice(part, hookup, bridge, volts), "", "", "", False)
    wires.append(Wire(_supply(supply), "VCC", "supply", note="or a supply of its own"))
    load = part.boot_level
    run = {"high": "low", "low": "high"}.get(load, "")
    return Wiring(
        tuple(wires),
        _advice(part, hookup, bridge, volts),
        pins.boot,
        load,
        run,
        bool(pins.boot and not hookup.mover_of("boot")),
    )


def _supply(volts: str) -> str:
    whole, _, tenths = volts.removesuffix(" V").partition(".")
    return f"{whole}V{tenths}"


def _line(role: Role, pin: str, hookup: Hookup, name: str) -> Wire:
    if hookup.crossed:
        return Wire(role.line.upper(), pin, "out", "transistor", f"{name}, cross pair")
    through = "100 nF" if role.through == "capacitor" else "" if role.asserted or name == "boot" else "inverter"
    if through == "100 nF":
        return Wire(role.line.upper(), pin, "out", through, "reset pulse")
    doing = "holds reset" if name == "reset" else "selects the bootloader"
    return Wire(role.line.upper(), pin, "out", through, f"{'asserted' if role.asserted else 'released'} {doing}")


def _advice(part: Part, hookup: Hookup, bridge: Bridge | None, volts: float | None) -> tuple[tuple[str, str], ...]:
    pins = part.wires
    low, high = pins.volts_range
    if volts is not None and pins.volts < high:
        levels = f"{volts:g} V, this board's supply: set the adapter to it; a pin stands no more than that"
    elif high < 5:
        levels = f"3.3 V: the chip stands {low:g} to {high:g} V; 5 V can destroy it, RS-232 does"
    else:
        levels = f"those of the chip's supply, {low:g} to {high:g} V, usually {pins.volts:g} V; never RS-232 levels"
    rows = [
        ("levels", levels),
        ("power", "one supply, not two; an adapter's pin gives little: feed motors and radios otherwise"),
    ]
    if pins.boot:
        rows.append(("boot pin", f"{pins.boot} {part.boot_level} for the bootloader, {_other(part)} to run"))
    by_hand = hookup.by_hand or (not hookup.mover_of("boot") and bool(pins.boot))
    if by_hand:
        rows += [
            ("to load" if number == 1 else "", f"{number}. {move}") for number, move in enumerate(part.hands.enter, 1)
        ]
        rows += [
            ("to run" if number == 1 else "", f"{number}. {move}") for number, move in enumerate(part.hands.leave, 1)
        ]
    rows += [(str(pin), f"by {by}") for pin, by in hookup.outside if not isinstance(by, ByGpio) or pin == "power"]
    rows += [("pull-ups" if number == 0 else "", text) for number, text in enumerate(pins.advice)]
    if hookup.enter is None or not hookup.enter.hangs_up:
        rows.append(("leave open", "CTS, DSR, DCD, RI" + ("" if hookup.reset else ", DTR, RTS")))
    if hookup.reset is not None and hookup.reset.through == "capacitor" and hookup.reset.line == "dtr":
        rows.append(("header", _HEADER))
    if volts is not None and part.core == "avr" and volts < _FULL_SPEED_V:
        rows.append(("clock", _SLOW_AVR))
    if bridge is not None:
        rows += _borrowed(bridge, hookup)
    rows.append(("not seen", NOT_SEEN))
    return tuple(rows)


_HEADER = (
    "six in a row are often GND CTS VCC RX TX DTR, from one end or the other: match GND (black) and DTR (green) "
    "before you plug it in; turned round, supply and signals meet"
)
_FULL_SPEED_V = 4.5
"""Data sheets, "Speed Grades": the full clock needs at least that."""
_SLOW_AVR = "boards for less than 4.5 V often run at 8 MHz, and their loaders at half the rate: --baud 57600"


def _borrowed(bridge: Bridge, hookup: Hookup) -> list[tuple[str, str]]:
    """How to keep the borrowed board's own chip quiet, which drives the same wires."""
    rows = [("borrowed", "RX and TX are the pads so labelled there, as seen from that board's own chip")]
    chip = bridge.chip
    if chip is None:
        quiet = "keep its own chip in reset or take it out, as it drives the same wires; --borrow CHIP says how"
    elif chip.name == "esp8266":
        quiet = "its chip-enable (EN, CH_PD) to ground; its RST is another pin, and stays free"
    elif chip.name.startswith("esp32"):
        quiet = "EN to ground: EN is its only reset"
    else:
        quiet = f"its {chip.wires.reset or 'reset'} to ground, or take that chip out"
    rows.append(("keep quiet", quiet))
    if hookup.resets and (chip is None or chip.name != "esp8266"):
        rows.append(
            (
                "reset",
                "that board's lines move its own reset pin: held at ground, it cannot reset yours too. Take the line "
                "from the bridge chip itself, or reset by hand: --hookup by-hand",
            )
        )
    return rows


def _other(part: Part) -> str:
    return "low" if part.boot_level == "high" else "high"
