"""Which adapter pin goes to which chip pin, and what else a person has to take care of."""

from __future__ import annotations

from .chips import Part
from .frozen import frozen
from .hookup import Hookup, Role
from .hookup.outside import ByGpio

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


def wiring_of(part: Part, hookup: Hookup, straight: bool = False) -> Wiring:
    """For a part with a hookup. `straight`: the bridge of another board is borrowed, whose pins are named from that
    board's chip: TX to TX and RX to RX."""
    pins = part.wires
    volts = f"{pins.volts:g} V"
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
        return Wiring((cable,), _advice(part, hookup, straight), "", "", "", False)
    wires.append(
        Wire(volts.replace(".3 V", "V3").replace("5 V", "5V"), "VCC", "supply", note="or a supply of its own")
    )
    load = part.boot_level
    run = {"high": "low", "low": "high"}.get(load, "")
    return Wiring(
        tuple(wires),
        _advice(part, hookup, straight),
        pins.boot,
        load,
        run,
        bool(pins.boot and not hookup.mover_of("boot")),
    )


def _line(role: Role, pin: str, hookup: Hookup, name: str) -> Wire:
    if hookup.crossed:
        return Wire(role.line.upper(), pin, "out", "transistor", f"{name}, cross pair")
    through = "100 nF" if role.through == "capacitor" else "" if role.asserted or name == "boot" else "inverter"
    if through == "100 nF":
        return Wire(role.line.upper(), pin, "out", through, "reset pulse")
    doing = "holds reset" if name == "reset" else "selects the bootloader"
    return Wire(role.line.upper(), pin, "out", through, f"{'asserted' if role.asserted else 'released'} {doing}")


def _advice(part: Part, hookup: Hookup, straight: bool) -> tuple[tuple[str, str], ...]:
    pins = part.wires
    low, high = pins.volts_range
    if high < 5:
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
    if straight:
        rows.append(("borrowed", "hold that board's own chip in reset, or take it out: it drives the same wires"))
    rows.append(("not seen", NOT_SEEN))
    return tuple(rows)


def _other(part: Part) -> str:
    return "low" if part.boot_level == "high" else "high"
