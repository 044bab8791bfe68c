"""How chip families divide their clock into a baud rate, how much error their receivers tolerate, and what that makes
of a rate: its error, whether both ends bear it, and which is the highest safe one.

A family is a row of `UARTS`; each of its modes is tried.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal

from ..errors import usage
from ..frozen import frozen
from ..link import Frame


@frozen
class Divided:
    """The rate that a divider makes: `real` in baud, `register` what is written and where."""

    real: float
    register: str


@frozen
class Mode:
    """One way of dividing. `divide` takes clock in Hz and baud and returns None if the divider cannot; `tolerance` is
    the error that the receiver tolerates in this mode, as a share, by the divider and the frame."""

    name: str
    divide: Callable[[float, int], Divided | None]
    tolerance: Callable[[Divided, Frame], float]


@frozen
class UartRules:
    """A family's modes. `clock` says which clock is divided; `document` is where the rules come from."""

    name: str
    title: str
    clock: str
    document: str
    modes: tuple[Mode, ...]


def _avr(samples: int) -> Callable[[float, int], Divided | None]:
    """UBRR of 12 bits: baud = f / (samples (UBRR + 1))."""

    def divide(clock_hz: float, baud: int) -> Divided | None:
        register = round(clock_hz / (samples * baud)) - 1
        if not 0 <= register <= 4095:
            return None
        return Divided(clock_hz / (samples * (register + 1)), f"UBRR {register}")

    return divide


def _avr_tolerance(samples: int, first: int, middle: int) -> Callable[[Divided, Frame], float]:
    """By the formulas of "Asynchronous Operational Range": D bits of data and parity, S samples a bit, SF and SM the
    first and the middle sample of the majority vote."""

    def tolerance(_: Divided, frame: Frame) -> float:
        d = frame.data_bits + (frame.parity != "none")
        slow = (d + 1) * samples / (samples - 1 + d * samples + first)
        fast = (d + 2) * samples / ((d + 1) * samples + middle)
        return min(1 - slow, fast - 1)

    return tolerance


def _stm32(least: int) -> Callable[[float, int], Divided | None]:
    """USARTDIV in steps of one clock: baud = f / n, with n from 16 (or 8) to 65535."""

    def divide(clock_hz: float, baud: int) -> Divided | None:
        divider = round(clock_hz / baud)
        if not least <= divider <= 0xFFFF:
            return None
        return Divided(clock_hz / divider, f"divider {divider}")

    return divide


def _stm32_tolerance(
    even: tuple[float, float], odd: tuple[float, float], step: int
) -> Callable[[Divided, Frame], float]:
    """Tolerances for 8 and 9 bits after the start bit, with a whole and with a broken USARTDIV."""

    def tolerance(divided: Divided, frame: Frame) -> float:
        whole = int(divided.register.split()[1]) % step == 0
        bits = frame.data_bits + (frame.parity != "none")
        return (even if whole else odd)[0 if bits <= 8 else 1]

    return tolerance


def _pic18(clocks: int, most: int) -> Callable[[float, int], Divided | None]:
    """SPBRG: baud = f / (clocks (n + 1))."""

    def divide(clock_hz: float, baud: int) -> Divided | None:
        register = round(clock_hz / (clocks * baud)) - 1
        return Divided(clock_hz / (clocks * (register + 1)), f"SPBRG {register}") if 0 <= register <= most else None

    return divide


def _lpc(clock_hz: float, baud: int) -> Divided | None:
    """Divisor latch alone: baud = f / (16 DL)."""
    latch = round(clock_hz / (16 * baud))
    return Divided(clock_hz / (16 * latch), f"DL {latch}") if 1 <= latch <= 0xFFFF else None


def _lpc_fraction(clock_hz: float, baud: int) -> Divided | None:
    """baud = f / (16 DL (1 + DIVADDVAL / MULVAL)); with a fraction DL is 3 or more."""
    best: tuple[float, Divided] | None = None
    for multiply in range(2, 16):
        for add in range(1, multiply):
            share = 1 + add / multiply
            latch = round(clock_hz / (16 * baud * share))
            if not 3 <= latch <= 0xFFFF:
                continue
            real = clock_hz / (16 * latch * share)
            if best is None or abs(real - baud) < best[0]:
                best = abs(real - baud), Divided(real, f"DL {latch}, {add}/{multiply}")
    return best[1] if best else None


def _esp(steps: int) -> Callable[[float, int], Divided | None]:
    """CLKDIV of 20 bits with a fraction in `steps`: baud = f / (CLKDIV + FRAG / steps)."""

    def divide(clock_hz: float, baud: int) -> Divided | None:
        parts = round(clock_hz * steps / baud)
        whole, fraction = divmod(parts, steps)
        if not 1 <= whole < 1 << 20:
            return None
        return Divided(clock_hz * steps / parts, f"CLKDIV {whole}" + (f" {fraction}/{steps}" if fraction else ""))

    return divide


def _half_bit(samples: int) -> Callable[[Divided, Frame], float]:
    """Used where the documents give no figure: the stop bit is sampled in its middle, which may move by half a bit
    minus the step in which the start bit is found."""

    def tolerance(_: Divided, frame: Frame) -> float:
        return (0.5 - 1 / samples) / (frame.bits - 0.5)

    return tolerance


UARTS: dict[str, UartRules] = {
    "avr": UartRules(
        "avr",
        "AVR USART",
        "the system clock, after the prescaler CLKPR",
        'ATmega328P data sheet, "USART0", "Baud Rate Register" and "Asynchronous Operational Range"',
        (Mode("normal", _avr(16), _avr_tolerance(16, 8, 9)), Mode("double speed", _avr(8), _avr_tolerance(8, 4, 5))),
    ),
    "pic18": UartRules(
        "pic18",
        "PIC18 EUSART",
        "the oscillator (Fosc), after its PLL",
        'PIC18 data sheets, "Baud Rate Generator (BRG)"; tolerance computed from half a bit',
        (
            Mode("8 bit, low speed", _pic18(64, 255), _half_bit(16)),
            Mode("8 bit, high speed", _pic18(16, 255), _half_bit(16)),
            Mode("16 bit, high speed", _pic18(4, 65535), _half_bit(4)),
        ),
    ),
    "lpc": UartRules(
        "lpc",
        "LPC UART",
        "the UART's own clock (PCLK or U_PCLK)",
        'NXP UM10360, "UARTn Fractional Divider Register"; tolerance computed from half a bit',
        (Mode("whole divider", _lpc, _half_bit(16)), Mode("fractional divider", _lpc_fraction, _half_bit(16))),
    ),
    "esp": UartRules(
        "esp",
        "ESP32 UART",
        "the UART's clock, usually 80 MHz (APB)",
        'ESP32 Technical Reference Manual, "Baud Rate Detection and Generation"; tolerance computed from half a bit',
        (Mode("divider", _esp(16), _half_bit(16)),),
    ),
    "esp8266": UartRules(
        "esp8266",
        "ESP8266 UART",
        "80 MHz (with the 26 MHz crystal, in its ROM 52 MHz)",
        'ESP8266 Technical Reference, "UART"; tolerance computed from half a bit',
        (Mode("divider", _esp(1), _half_bit(16)),),
    ),
    "stm32": UartRules(
        "stm32",
        "STM32 USART",
        "the clock of the USART's bus (PCLK)",
        'ST RM0090, "Fractional baud rate generation" and "USART receiver tolerance to clock deviation"',
        (
            Mode("oversampling 16", _stm32(16), _stm32_tolerance((0.0375, 0.0341), (0.0333, 0.0303), 16)),
            Mode("oversampling 8", _stm32(8), _stm32_tolerance((0.025, 0.0227), (0.02, 0.0182), 8)),
        ),
    ),
}


def uart_rules(name: str) -> UartRules:
    """The rules with that name, which a dialect may bring. Raises UsageFault."""
    if name in UARTS:
        return UARTS[name]
    from ..dialects.registry import all_dialects

    brought = (dialect.uart for dialect in all_dialects() if dialect.uart is not None and dialect.uart.name == name)
    if found := next(brought, None):
        return found
    raise usage("no-uart", f"the divider of '{name}' is not known here", f"there are {', '.join(UARTS)}")


USUAL_BAUDS = (
    *(1200, 2400, 4800, 9600, 14400, 19200, 28800, 38400, 57600, 76800, 115200),
    *(230400, 250000, 460800, 500000, 921600, 1000000, 2000000),
)
SAFE_EACH = 0.02
"""What each end should stay within, so that both together are within what a receiver tolerates."""

Verdict = Literal["safe", "edge", "no"]
MISSET = (0.25, 0.5, 2.0, 4.0)


@frozen
class RateMade:
    """A baud rate and the best that a clock makes of it. `error` is a share, positive if the chip is fast;
    `tolerates` is what its receiver tolerates, as a share; the errors of both ends count against it. None if no
    divider can."""

    baud: int
    mode: Mode | None
    divided: Divided | None
    error: float
    tolerates: float
    verdict: Verdict


def judge(
    rules: UartRules, clock_hz: float, frame: Frame, bauds: Sequence[int] = USUAL_BAUDS, adapter: float = 0.0
) -> list[RateMade]:
    """Each rate with the mode that has most margin. `adapter` is the other end's own error, as a share."""
    return [_best(rules, clock_hz, frame, baud, adapter) for baud in bauds]


def _best(rules: UartRules, clock_hz: float, frame: Frame, baud: int, adapter: float) -> RateMade:
    made = []
    for mode in rules.modes:
        divided = mode.divide(clock_hz, baud)
        if divided is not None:
            error = divided.real / baud - 1
            made.append((mode.tolerance(divided, frame) - abs(error - adapter), mode, divided, error))
    if not made:
        return RateMade(baud, None, None, 0.0, 0.0, "no")
    spare, mode, divided, error = max(made, key=lambda one: one[0])
    verdict: Verdict = "no" if spare <= 0 else "safe" if abs(error - adapter) <= SAFE_EACH else "edge"
    return RateMade(baud, mode, divided, error, mode.tolerance(divided, frame), verdict)


def highest_safe(made: Sequence[RateMade]) -> RateMade | None:
    """The fastest safe one."""
    return max((rate for rate in made if rate.verdict == "safe"), key=lambda rate: rate.baud, default=None)


def rates_if_wrong(made: RateMade) -> list[tuple[float, float]]:
    """(factor, baud) heard from a program that assumes this clock, while the real one is that many times as fast:
    another crystal, prescaler or PLL than the program was built for."""
    real = made.divided.real if made.divided else float(made.baud)
    return [(factor, real * factor) for factor in MISSET]
