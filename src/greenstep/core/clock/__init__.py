"""What baud rates a chip's clock can make, and what that means for the line."""

from .rates import USUAL_BAUDS, RateMade, Verdict, highest_safe, judge, rates_if_wrong
from .uarts import UARTS, Divided, UartRules, uart_rules

__all__ = [
    "UARTS",
    "USUAL_BAUDS",
    "Divided",
    "RateMade",
    "UartRules",
    "Verdict",
    "highest_safe",
    "judge",
    "rates_if_wrong",
    "uart_rules",
]
