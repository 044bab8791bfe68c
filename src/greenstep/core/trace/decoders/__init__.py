"""What recorded conversations were about, one file per dialect: from (sent, heard) in order to rows that each cover
some."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from importlib import import_module
from typing import cast

from ...dialects.dialect import Dialect
from ...quantities import show_bytes
from ..decoded import DecodedExchange

Narrate = Callable[[Sequence[tuple[bytes, bytes]]], list[DecodedExchange]]


def decode_exchanges(dialect: type[Dialect], exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """Use the dialect's decoder; without one, each exchange is a row of its own."""
    if not dialect.decoder:
        return [DecodedExchange(index, 1, "", show_bytes(sent, 12)) for index, (sent, _) in enumerate(exchanges)]
    module, _, function = dialect.decoder.partition(":")
    return cast(Narrate, getattr(import_module(module), function))(exchanges)
