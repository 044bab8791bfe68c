"""What a receiver makes of characters sent at another rate or in another frame, and how to infer the rate from that.

A UART waits for a falling edge, then samples the middle of each bit of its own rate. `hear` does that to a waveform.
`likely_factors` compares what was heard with what known kinds of talk would sound like at other rates.
"""

from __future__ import annotations

import math
from collections import Counter
from functools import cache, lru_cache

from ..frozen import frozen
from ..link import Frame

FACTORS = (
    *(1 / 12, 1 / 8, 1 / 6, 1 / 4, 1 / 3, 1 / 2, 0.65, 2 / 3, 0.926),
    *(1.08, 3 / 2, 2.0, 2.17, 3.0, 4.0, 6.0, 8.0, 12.0),
)
"""Rates of the other side as multiples of ours that occur in practice: a clock set wrong by powers of two, the
neighbouring standard rates, 9600 and 250000 heard at 115200, 74880 too, an untrimmed RC oscillator."""

ENOUGH_BYTES = 6
"""Below this many bytes no rate is inferred."""

_TUNING = (1.0, 0.99, 1.008)  # no two clocks agree; at whole multiples this decides which bit is sampled
_SAMPLED_AT = 8.5 / 16  # of a bit: the usual majority of samples 8, 9 and 10 of 16 (AVR and STM32 USARTs)
_SAME_REPLY = 3  # the same answer to the same question again and again is no new evidence
_UNSEEN = 0.05  # pseudo-counts for byte values that the examples do not contain

_TALK = (
    b"\r\nready\r\nstarting up, version 1.04\r\ninit ok\r\nsensor 23.5 C, battery 3.71 V\r\n",
    b"boot: app at 0x08004000, size 24576 bytes\r\nWaiting for connection...\r\nrssi -67 dBm\r\n",
    b"> help\r\nt=000123 ms weight=41.20 kg hum=55%\r\nerror: timeout on bus 2, retry 1\r\n",
)


@frozen
class HeardAt:
    """What a receiver delivered: the characters, and how many had a wrong stop bit or parity."""

    data: bytes
    framing_errors: int
    parity_errors: int


@lru_cache(maxsize=64)
def levels(data: bytes, frame: Frame) -> bytes:
    """The line's bits, each 0 or 1, for characters sent back to back: start, data LSB first, parity, stop."""
    bits = bytearray()
    for byte in data:
        low = [byte >> position & 1 for position in range(frame.data_bits)]
        bits.append(0)
        bits += bytes(low)
        if frame.parity != "none":
            bits.append(sum(low) & 1 ^ (frame.parity == "odd"))
        bits += b"\x01" * frame.stop_bits
    return bytes(bits)


def hear(data: bytes, sent_frame: Frame, factor: float, frame: Frame) -> HeardAt:
    """Characters sent at `factor` times the receiver's rate, as the receiver reads them."""
    has_parity, odd = frame.parity != "none", frame.parity == "odd"
    # where the receiver samples, in bits of the line after the one in which it fell
    looks = [int((_SAMPLED_AT + n) * factor) for n in range(frame.data_bits + 2 + has_parity)]
    start, *data_looks = looks[: frame.data_bits + 1]
    places = tuple(enumerate(data_looks))
    parity_look, stop_look = looks[frame.data_bits + 1], looks[-1]
    length = math.ceil((_SAMPLED_AT + frame.data_bits + 1 + has_parity) * factor)
    bits = levels(data, sent_frame)
    line = b"\x01" + bits + b"\x01" * (length + 1)  # at rest before and after
    out = bytearray()
    framing = parity = at = 0
    while (at := line.find(b"\x01\x00", at)) >= 0:
        fell = at + 1
        if line[fell + start]:  # too short for a start bit: the receiver keeps waiting
            at += 1
            continue
        value = 0
        for place, look in places:
            value |= line[fell + look] << place
        out.append(value)
        if has_parity:
            parity += line[fell + parity_look] != (value.bit_count() & 1 ^ odd)
        framing += not line[fell + stop_look]
        at += length
    return HeardAt(bytes(out), framing, parity)


_EIGHT_N_ONE = Frame()


@frozen
class Sample:
    """Bytes as received in `frame`, from something that sends in `sent_frame`. `replies` are short answers that may
    follow them instead of ordinary talk."""

    data: bytes
    frame: Frame
    sent_frame: Frame = _EIGHT_N_ONE
    replies: tuple[bytes, ...] = ()


@cache
def _talk_profile(factor: float, frame: Frame, sent_frame: Frame) -> tuple[float, ...]:
    """Log-probability of each byte value when ordinary talk is heard at the wrong rate."""
    seen: Counter[int] = Counter()
    for talk in _TALK:
        for shift, tuning in enumerate(_TUNING):
            seen.update(hear(talk[shift * 7 :] + talk, sent_frame, factor * tuning, frame).data)
    return _logarithms(seen)


@cache
def _reply_profile(factor: float, frame: Frame, sent_frame: Frame, replies: tuple[bytes, ...]) -> tuple[float, ...]:
    """The same for short replies, each with silence around it."""
    seen: Counter[int] = Counter()
    for reply in replies:
        for tuning in _TUNING:
            seen.update(hear(reply, sent_frame, factor * tuning, frame).data)
    return _logarithms(seen)


def _logarithms(seen: Counter[int]) -> tuple[float, ...]:
    total = sum(seen.values()) + 256 * _UNSEEN
    return tuple(math.log((seen[value] + _UNSEEN) / total) for value in range(256))


def _score(sample: Sample, factor: float) -> float:
    """How well a factor explains a sample: log-likelihood of all its bytes."""
    # a bootloader may have replied in its own frame; a program that talks does so in 8N1
    talk = _talk_profile(factor, sample.frame, _EIGHT_N_ONE if sample.replies else sample.sent_frame)
    if not sample.replies:
        return sum(talk[byte] for byte in sample.data)
    replies = _reply_profile(factor, sample.frame, sample.sent_frame, sample.replies)
    counts = {byte: min(number, _SAME_REPLY) for byte, number in Counter(sample.data).items()}
    return max(sum(profile[byte] * number for byte, number in counts.items()) for profile in (talk, replies))


def likely_factors(*samples: Sample) -> list[float]:
    """The other side's rate as multiples of ours, ordered by how well each explains all samples together. Factor 1 is
    among them. Empty if too little was heard."""
    if sum(len(sample.data) for sample in samples) < ENOUGH_BYTES:
        return []
    scores = {factor: sum(_score(sample, factor) for sample in samples) for factor in (1.0, *FACTORS)}
    return sorted(scores, key=lambda factor: scores[factor], reverse=True)


def reads_as_talk(data: bytes, frame: Frame) -> bool:
    """Whether bytes received in `frame` are best explained as 8N1 text at the receiver's own rate."""
    guesses = likely_factors(Sample(data, frame))
    return bool(guesses) and guesses[0] == 1.0
