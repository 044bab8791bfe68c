"""What a receiver makes of characters sent at another rate or in another frame, and how to tell from it.

A UART waits for a falling edge, then samples the middle of each bit of its own rate. `hear` does that to
a waveform. `likely_factors` compares what was heard with what known kinds of talk would sound like at
other rates.
"""

from __future__ import annotations

import math
from collections import Counter
from functools import cache

from .frozen import frozen
from .link import Frame

FACTORS = (
    *(1 / 12, 1 / 8, 1 / 6, 1 / 4, 1 / 3, 1 / 2, 0.65, 2 / 3, 0.926),
    *(1.08, 3 / 2, 2.0, 2.17, 3.0, 4.0, 6.0, 8.0, 12.0),
)
"""Rates of the other side as multiples of ours that are seen in practice: a clock set wrong by powers of two,
the neighbouring standard rates, 9600 and 250000 heard at 115200, 74880 too, an untuned RC oscillator."""

ENOUGH_BYTES = 6
"""Below this many bytes nothing is said about a rate."""

_TUNING = (1.0, 0.99, 1.008)  # no two clocks agree; at whole multiples it decides which bit is sampled
_SAMPLED_AT = 8.5 / 16  # of a bit: the usual majority of samples 8, 9 and 10 of 16 (AVR and STM32 USARTs)
_SAME_REPLY = 3  # the same answer to the same question, over and over, is not evidence anew
_UNSEEN = 0.05  # counts that stand for byte values the examples do not contain

_TALK = (
    b"\r\nready\r\nstarting up, version 1.04\r\ninit ok\r\nsensor 23.5 C, battery 3.71 V\r\n",
    b"boot: app at 0x08004000, size 24576 bytes\r\nWaiting for connection...\r\nrssi -67 dBm\r\n",
    b"> help\r\nt=000123 ms weight=41.20 kg hum=55%\r\nerror: timeout on bus 2, retry 1\r\n",
)


@frozen
class Heard:
    """What a receiver delivered: the characters, and how many had a wrong stop bit or parity."""

    data: bytes
    framing_errors: int
    parity_errors: int


def levels(data: bytes, frame: Frame) -> list[int]:
    """The line's bits, a list of 0 and 1, for characters sent back to back: start, data LSB first, parity, stop."""
    bits: list[int] = []
    for byte in data:
        low = [byte >> position & 1 for position in range(frame.data_bits)]
        bits += [0, *low]
        if frame.parity != "none":
            bits.append(sum(low) & 1 ^ (frame.parity == "odd"))
        bits += [1] * frame.stop_bits
    return bits


def hear(data: bytes, sent_frame: Frame, factor: float, frame: Frame) -> Heard:
    """Characters sent at `factor` times the receiver's rate, as the receiver takes them."""
    sent = levels(data, sent_frame)
    end = len(sent) / factor  # in the receiver's bit times

    def level(time: float) -> int:
        index = int(time * factor)
        return sent[index] if 0 <= index < len(sent) else 1

    out = bytearray()
    framing = parity = 0
    time = 0.0
    while True:
        start = _next_start(sent, factor, time)
        if start is None or start >= end:
            return Heard(bytes(out), framing, parity)
        middle = start + _SAMPLED_AT
        if level(middle):  # too short for a start bit: the receiver goes on waiting
            time = start + 0.5 / factor
            continue
        bits = [level(middle + 1 + position) for position in range(frame.data_bits)]
        out.append(sum(bit << position for position, bit in enumerate(bits)))
        at = middle + 1 + frame.data_bits
        if frame.parity != "none":
            parity += level(at) != (sum(bits) & 1 ^ (frame.parity == "odd"))
            at += 1
        framing += level(at) == 0
        time = at


def _next_start(sent: list[int], factor: float, time: float) -> float | None:
    """The next falling edge from `time` on, in receiver bit times."""
    index = max(0, int(time * factor))
    previous = 1 if index == 0 else sent[min(index, len(sent)) - 1]
    if index < len(sent) and index / factor < time:
        previous = sent[index]
        index += 1
    while index < len(sent):
        if previous == 1 and sent[index] == 0:
            return index / factor
        previous = sent[index]
        index += 1
    return None


_EIGHT_N_ONE = Frame()


@frozen
class Sample:
    """Bytes as they were received in `frame`, from somebody who sends in `sent_frame`.

    `replies` are short answers that may stand behind them instead of ordinary talk.
    """

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
    # where a bootloader may have replied in its own frame, it may also be a program that talks, and those talk 8N1
    talk = _talk_profile(factor, sample.frame, _EIGHT_N_ONE if sample.replies else sample.sent_frame)
    if not sample.replies:
        return sum(talk[byte] for byte in sample.data)
    replies = _reply_profile(factor, sample.frame, sample.sent_frame, sample.replies)
    counts = {byte: min(number, _SAME_REPLY) for byte, number in Counter(sample.data).items()}
    return max(sum(profile[byte] * number for byte, number in counts.items()) for profile in (talk, replies))


def likely_factors(*samples: Sample) -> list[float]:
    """The other side's rate as multiples of ours, by how well they explain all samples together, best first.

    Factor 1 is among them. Empty where too little was heard.
    """
    if sum(len(sample.data) for sample in samples) < ENOUGH_BYTES:
        return []
    scores = {factor: sum(_score(sample, factor) for sample in samples) for factor in (1.0, *FACTORS)}
    return sorted(scores, key=lambda factor: scores[factor], reverse=True)


def reads_as_talk(data: bytes, frame: Frame) -> bool:
    """Whether bytes received in `frame` are best explained as 8N1 text at the receiver's own rate."""
    guesses = likely_factors(Sample(data, frame))
    return bool(guesses) and guesses[0] == 1.0
