"""A recorded conversation in Doorstep, explained."""

from __future__ import annotations

from collections.abc import Sequence

from ...dialects.doorstep_frames import ANSWER, CRC_BYTES, HEAD_BYTES, Kind, Status, opened
from ...quantities import count
from ..decoded import DecodedExchange

_PLACED = (Kind.DIGEST, Kind.ERASE, Kind.WRITE, Kind.READ)


def decode_exchanges(exchanges: Sequence[tuple[bytes, bytes]]) -> list[DecodedExchange]:
    """One row for what was sent in a row: a question, or several writes; and what the answers said, which may have
    come when more was on its way already."""
    answers = [_messages(heard) for _, heard in exchanges]
    rows = []
    for index, (sent, _) in enumerate(exchanges):
        asked = [message for message in _messages(sent) if message[0] in list(Kind) and len(message) >= HEAD_BYTES]
        if not asked:
            rows.append(DecodedExchange(index, 1, "", count(len(sent), "byte") if sent else "text"))
            continue
        kind = Kind(asked[0][0])
        statuses = [_status(message, answers[index : index + 1 + len(asked) + 3]) for message in asked]
        refused = [status for status in statuses if status]
        places = [place for message in asked if (place := _place(message)) is not None]
        detail = ", ".join(f"{at:08X}, {count(size, 'byte')}" for at, size in places[:2])
        if len(asked) > 1:
            detail += f"{'; ' if detail else ''}{len(asked)} on their way"
        if None in statuses:
            detail += f"{'; ' if detail else ''}no answer"
        elif refused:
            detail += f"{'; ' if detail else ''}{Status(refused[0] & 3).words}"
        whole = not refused and None not in statuses and len(places) == len(asked) == 1
        rows.append(DecodedExchange(index, 1, kind.words, detail, places[0] if whole else None))
    return rows


def _messages(data: bytes) -> list[bytes]:
    """The whole messages in what was sent or heard."""
    return [message for frame in data.split(b"\x00") if len(frame) > CRC_BYTES and (message := opened(frame))]


def _status(message: bytes, answers: Sequence[Sequence[bytes]]) -> int | None:
    """The status that a question was answered with; None if it was not."""
    wanted = (message[0] | ANSWER, message[1])
    told = (answer for several in answers for answer in several if len(answer) >= 3)
    return next((answer[2] for answer in told if (answer[0], answer[1]) == wanted), None)


def _place(message: bytes) -> tuple[int, int] | None:
    """Address and size, of questions that have one."""
    kind = Kind(message[0])
    if kind not in _PLACED:
        return None
    address = int.from_bytes(message[2:HEAD_BYTES], "little")
    if kind is Kind.WRITE:
        return address, len(message) - HEAD_BYTES
    second = int.from_bytes(message[HEAD_BYTES : HEAD_BYTES + 4], "little")
    return address, (second & 0xFFFF) * (second >> 16) if kind is Kind.DIGEST else second
