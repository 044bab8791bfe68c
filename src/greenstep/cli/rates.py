"""`greenstep rates`"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from greenstep.core.quantities import show_engineering, show_seconds
from greenstep.store.board import BoardSettings

from .completion import complete_target
from .figures import save_figure
from .options import RATE, Engineering, How, Real, clock_options, general_options, written_options
from .screen import say
from .target import settle

if TYPE_CHECKING:
    from greenstep.core.clock.uarts import RateMade
    from greenstep.core.link import Frame
    from greenstep.core.plan.layout import PlanCosts
    from greenstep.work.planning import Planned

_WORDS = {"safe": "safe", "edge": "at the edge", "no": "no"}


@click.command("rates", short_help="Baud rates a clock can make.")
@click.argument("oscillator", type=Engineering("Hz"))
@click.argument("target", nargs=-1, metavar="[BOARD] [FILE [at ADDRESS]]…", shell_complete=complete_target)
@clock_options
@written_options
@click.option("--pll", type=Real(0.001, 1000), default=1.0, metavar="FACTOR",
              help="The clock is the oscillator times this.")  # fmt: skip
@click.option("--prescaler", type=Real(1, 65536), default=1.0, metavar="DIVISOR",
              help="The clock is divided by this.")  # fmt: skip
@click.option(
    "--uart", metavar="FAMILY", help="Divider rules, instead of the chip's: avr, esp, esp8266, lpc, pic18, stm32."
)
@click.option("--adapter-error", type=float, default=0.0, metavar="PERCENT", help="The other end's own error.")
@click.option("--if-clock-wrong", "if_wrong_baud", type=RATE, metavar="RATE",
              help="The rate that a wrong clock would shift. [--baud, else the chip's]")  # fmt: skip
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="A figure: PNG, SVG.")
@general_options
def rates_command(
    oscillator: float,
    target: tuple[str, ...],
    pll: float,
    prescaler: float,
    uart: str | None,
    adapter_error: float,
    if_wrong_baud: int | None,
    save: Path | None,
    settings: BoardSettings,
    how: How,
) -> int:
    """The baud rates that an oscillator gives with the chip's UART: the real rate and error of each, whether both
    ends tolerate it, and how long an image takes.

    \b
    greenstep rates 16M --chip atmega328p
    greenstep rates 8M --pll 9 --chip stm32f103 --save rates.png
    greenstep rates 16M hive-scale
    """
    from greenstep.core.clock.uarts import highest_safe, judge, rates_if_wrong, uart_rules
    from greenstep.core.errors import usage

    if not 1000 <= oscillator <= 1e9:
        raise usage(
            "oscillator",
            f"an oscillator of {show_engineering(oscillator, 'Hz')} is not plausible",
            "write 16M or 11.0592M",
        )
    title, family, frame, planned, said_baud = _about(target, settings, how, uart)
    plan = None if planned is None else planned.costs
    rules = uart_rules(family)
    clock_hz = oscillator * pll / prescaler
    made = judge(rules, clock_hz, frame, adapter=adapter_error / 100)
    best = highest_safe(made)
    judged = judge(rules, clock_hz, frame, (if_wrong_baud or said_baud,), adapter_error / 100)[0]
    missed = rates_if_wrong(judged) if judged.divided is not None else []
    head = f"{title}   {_clock_words(oscillator, pll, prescaler, clock_hz)}   {frame}"
    save_figure(save, "clock_figure:save_clock", made, head, adapter_error / 100)
    if how.as_json:
        _as_json(made, best, judged, missed, plan, frame, clock_hz)
        return 0
    say(head, "")
    _table(made, plan, frame)
    say("", f" highest safe: {best.baud} baud" if best else " no usual rate is safe with this clock")
    if judged.divided is not None:
        heard = ", ".join(_about_baud(baud) for _, baud in missed)
        say(f" if the clock is really 1/4, 1/2, 2 or 4 times this one, {judged.baud} comes out near {heard}")
    say(f" the divided clock is {rules.clock}")
    say(" the errors of both ends add up, so each should stay within 2 %")
    if planned is not None and planned.faster is not None:
        saved = show_seconds(planned.seconds - planned.costs.seconds(planned.faster))
        say(f" --baud fastest tries what both ends really carry: {planned.faster.baud} would save {saved}")
    if save is not None:
        say(f" saved {save}")
    return 0


def _about(
    target: tuple[str, ...], settings: BoardSettings, how: How, uart: str | None
) -> tuple[str, str, Frame, Planned | None, int]:
    """(title, rules, frame, plan of the upload or None, baud) of the chip, or of the rules alone."""
    from greenstep.core.clock.uarts import uart_rules
    from greenstep.work.board import frame_of
    from greenstep.work.planning import plan_for

    if uart and not target and not settings.chip:
        return uart_rules(uart).title, uart, frame_of(settings.frame), None, settings.rate or 115200
    board = settle(target, settings, how)
    part = board.choice.first
    planned = plan_for(board, (part,)) if board.settings.images else None
    return board.choice.title, uart or part.uart, board.frame, planned, board.baud


def _clock_words(oscillator: float, pll: float, prescaler: float, clock_hz: float) -> str:
    text = show_engineering(oscillator, "Hz")
    if pll != 1:
        text += f" x {pll:g}"
    if prescaler != 1:
        text += f" / {prescaler:g}"
    return text if pll == prescaler == 1 else f"{text} = {show_engineering(clock_hz, 'Hz')}"


def _seconds(costs: PlanCosts, baud: int, frame: Frame) -> float:
    from greenstep.core.link import LineSettings

    return costs.seconds(LineSettings(baud, frame))


def _table(made: Sequence[RateMade], costs: PlanCosts | None, frame: Frame) -> None:
    time_head = f"  {'image':>10}" if costs is not None else ""
    say(f"    baud      real     error   tolerates   {'by':<32}{'':<12}{time_head}".rstrip())
    for rate in made:
        if rate.divided is None or rate.mode is None:
            say(f" {rate.baud:>7}         -         -           -   {'no divider makes it':<32}")
            continue
        by = f"{rate.mode.name}, {rate.divided.register}"
        took = f"  {show_seconds(_seconds(costs, rate.baud, frame)):>10}" if costs is not None else ""
        say(
            f" {rate.baud:>7}  {rate.divided.real:>8.0f}  {rate.error * 100:>+6.1f} %   "
            f"{rate.tolerates * 100:>7.1f} %   {by:<32}{_WORDS[rate.verdict]:<12}{took}".rstrip()
        )


def _about_baud(baud: float) -> str:
    """A rate, and the usual one it is near to."""
    from greenstep.core.findings.text_detection import standard_rate

    near = standard_rate(round(baud))
    return f"{near}" if abs(near - baud) < 0.5 else f"{baud:.0f}" if near == round(baud) else f"{near}"


def _as_json(
    made: Sequence[RateMade],
    best: RateMade | None,
    judged: RateMade,
    missed: list[tuple[float, float]],
    costs: PlanCosts | None,
    frame: Frame,
    clock_hz: float,
) -> None:
    from .json_view import json_line

    for rate in made:
        values: dict[str, Any] = {"baud": rate.baud, "verdict": rate.verdict}
        if rate.divided is not None and rate.mode is not None:
            values |= {
                "real": round(rate.divided.real, 2),
                "error_percent": round(rate.error * 100, 3),
                "tolerates_percent": round(rate.tolerates * 100, 3),
                "mode": rate.mode.name,
                "register": rate.divided.register,
            }
        if costs is not None:
            values["seconds"] = round(_seconds(costs, rate.baud, frame), 3)
        json_line("rate", **values)
    json_line(
        "rates",
        clock_hz=clock_hz,
        highest_safe=best.baud if best else None,
        if_wrong_of=judged.baud,
        if_wrong=[{"factor": factor, "baud": round(baud, 1)} for factor, baud in missed],
    )
