"""What baud rates a chip's clock can make, and what that means for the line."""

from .uarts import (
    UARTS,
    USUAL_BAUDS,
    Divided,
    RateMade,
    UartRules,
    Verdict,
    highest_safe,
    judge,
    rates_if_wrong,
    uart_rules,
)

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
