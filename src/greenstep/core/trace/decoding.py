"""Recorded conversations, explained: from what was sent and heard, in order, to rows that each cover some of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from importlib import import_module
from typing import cast

from ..dialects.dialect import Dialect
from ..dialects.framing import Framing
from ..frozen import frozen
from ..quantities import count, show_bytes

Exchanges = Sequence[tuple[bytes, bytes]]
_FAR_WORD = 0x7FFFFFFF
"""Bit 31 of an address in words only says that the part is a large one (AVR068, CMD_LOAD_ADDRESS)."""


@frozen
class DecodedExchange:
    """`count` exchanges from number `first` on were one `command`, with something to say about it; `place` is the
    range (address, size) it was about, so that rows may be joined."""

    first: int
    count: int
    command: str
    detail: str = ""
    place: tuple[int, int] | None = None


def decode_exchanges(dialect: type[Dialect], exchanges: Exchanges) -> list[DecodedExchange]:
    """Use the dialect's framing, or its own decoder; without one, each exchange is a row of its own."""
    decoder = dialect.decoder
    if isinstance(decoder, Framing):
        return list(_framed(decoder, exchanges))
    if not decoder:
        return [unknown(index, sent) for index, (sent, _) in enumerate(exchanges)]
    own = getattr(import_module(".own_decoders", __package__), decoder)
    return list(cast(Callable[[Exchanges], Iterator[DecodedExchange]], own)(exchanges))


def unknown(index: int, sent: bytes) -> DecodedExchange:
    """What is none of the dialect's commands."""
    return DecodedExchange(index, 1, "", show_bytes(sent, 12))


def row(
    index: int,
    words: str,
    detail: str = "",
    answered: str = "",
    place: tuple[int, int] | None = None,
    exchanges: int = 1,
) -> DecodedExchange:
    """A command, and what its answer says if not all is well: then its place is not joined with others."""
    told = f"{detail}; {answered}".removeprefix("; ") if answered else detail
    return DecodedExchange(index, exchanges, words, told, None if answered else place)


def placed(address: int, size: int, digits: int = 8) -> str:
    return f"{address:0{digits}X}, {count(size, 'byte')}"


def _framed(framing: Framing, exchanges: Exchanges) -> Iterator[DecodedExchange]:
    """One row per exchange, by the layouts of the commands."""
    address = 0
    for index, (sent, heard) in enumerate(exchanges):
        opened = framing.opened(sent)
        if opened is None or not framing.commands.known(opened[0]):
            words, detail = framing.other(sent, heard) or ("", show_bytes(sent, 12))
            yield row(index, words, detail)
            continue
        number, data, *other = opened
        command = framing.commands.of(number)
        fields = _Fields(framing, address)
        fields.read(other[0] if other else command.layout, data)
        address = fields.address
        answered = framing.answered(command, sent, heard) if heard else ""
        if not heard and command not in framing.silent:
            answered = "no answer"
        yield row(index, command.words, fields.detail, answered, fields.place)


class _Fields:
    """What the fields of a command hold; `address` is where the next data go to."""

    def __init__(self, framing: Framing, address: int) -> None:
        self._framing = framing
        self.address = address
        self.place: tuple[int, int] | None = None
        self._where = ""
        self._size: int | None = None
        self._more: list[str] = []

    @property
    def detail(self) -> str:
        size = [] if self._size is None else [count(self._size, "byte")]
        return ", ".join([*([self._where] if self._where else []), *size, *self._more])

    def read(self, layout: str, data: bytes) -> None:
        """As far as the data reaches."""
        for field in layout.split():
            name, _, width = field.partition(":")
            if width:
                taken, data = data[: int(width)], data[int(width) :]
                if len(taken) < int(width):
                    return
                self._number(name, int.from_bytes(taken, self._framing.order), 2 * int(width))
            elif name == "data":
                self._size = len(data) if self._size is None else self._size
                self.place = self.address, self._size
                self._where = self._shown(self.address)
                self.address += self._size
            elif name == "bytes":
                self._size = len(data)
            elif data:
                self._more.append(data.hex().upper())

    def _number(self, name: str, value: int, width: int) -> None:
        match name:
            case "-":
                pass
            case "address":
                self.address, self._where = value, self._shown(value)
            case "words":
                self.address = 2 * (value & _FAR_WORD)
                self._where = self._shown(self.address)
            case "at":
                self._where = self._shown(value)
            case "end":
                self._where += f"-{value:0{width}X}"
            case "size":
                self._size = value
            case "baud":
                self._more.append(f"{value} baud")
            case _ if name.endswith("s"):
                self._more.append(f"{value:,} {name}")
            case _:
                self._more.append(f"{name} {value}")

    def _shown(self, address: int) -> str:
        return f"{address:0{self._framing.digits}X}"
