"""Late answers told from lost ones, in protocols that do not number them.

If an answer does not come, a question is asked that changes nothing and whose answer is like no other. Answers keep
their order: if this question's comes first, the other is lost; if the other comes first, it was only late. The
probe's own answers can be late too, and are skipped whenever they come. In the meantime, a loader that would time out
hears that it is still spoken to.
"""

from __future__ import annotations

from collections.abc import Callable

from ..link import Link

_REST_S = 0.1
_MOST_SKIPPED = 8192
"""Bytes of earlier answers: one that sends without pause answers nothing."""
EVERY_S = 0.4
"""Loaders that time out do so after a second or more."""


# Why a probe, and not a longer wait
# ----------------------------------
# Waiting long enough for any late answer costs seconds for each lost character, and loaders start the
# program meanwhile: some give up after about a second of silence. A probe is a question that
# changes nothing and whose answer cannot be mistaken for the one that is missing, for instance "which version
# are you" while the answer to "write this page" is due.
#
# The line keeps its order: what was asked first is answered first. That makes the probe decide between late
# and lost:
#
#     page   --------->                       page   ----x
#                        (nothing in time)                   (nothing in time)
#     probe  --------->                       probe  --------->
#            <--------- page's answer                <--------- probe's answer
#            <--------- probe's answer
#
# On the left the page's answer was only late; it is returned, and the probe's own answer, which is still to
# come, must be skipped whenever it arrives (`_open` counts these). On the right the probe's answer has come
# first, so the page's never will: the page may be sent again.
#
# Two traps. The probe's answer may begin like the awaited one, so that a part of it is taken for the whole:
# it is read to its end before it is judged (`_begins_late`). And a chip that sends without pause answers
# nothing: what is skipped is limited (`_MOST_SKIPPED`).
class Probe:
    """`question` and its `answer`, as bytes; both empty until they are known."""

    def __init__(self, link: Link) -> None:
        self._link = link
        self.question = b""
        self.answer = b""
        self.asked = 0
        self._open = 0
        """How many of its answers may still come."""

    def hear(
        self, size: int, line_s: float, patience_s: float, unasked_s: float, over: Callable[[bytes], bool]
    ) -> bytes:
        """The `size` bytes of an answer; fewer if it is `over` before that, or is lost. Beyond `line_s`, which line
        and chip need for it, it is waited for `patience_s`, or `unasked_s` if there is nothing to ask in the
        meantime."""
        left_s = patience_s if self.question else unasked_s
        wait_s = min(EVERY_S, left_s) if self.question else left_s
        heard, asked = b"", 0
        left_s -= wait_s
        wait_s += line_s
        while True:
            more = self._link.read(1 if not heard else size - len(heard), wait_s)
            heard = self._without_late(heard + more)
            if len(heard) >= size and self._begins_late(heard):  # an answer longer than the expected one
                rest = self._link.read(len(self.answer) - len(heard), _REST_S)
                heard = self._without_late(heard + rest)
            lost = self._open < asked
            if lost or (heard and (len(heard) >= size or over(heard))):
                return heard
            if more:
                continue
            if not self.question or left_s <= 0:
                return heard
            self._ask()
            asked += 1
            wait_s = min(EVERY_S, left_s)
            left_s -= wait_s

    def forget(self) -> None:
        """The chip was reset: earlier questions will not be answered."""
        self.question = self.answer = b""
        self._open = 0

    def _ask(self) -> None:
        self._link.write(self.question)
        self.asked += 1
        self._open += 1

    def _begins_late(self, heard: bytes) -> bool:
        return bool(self._open) and len(heard) < len(self.answer) and self.answer.startswith(heard)

    def _without_late(self, heard: bytes) -> bytes:
        """What was heard, minus answers to this question before it, or after as much as there is of another
        answer."""
        while self._open and heard.startswith(self.answer):
            heard = heard[len(self.answer) :]
            self._open -= 1
        if self._open and heard.endswith(self.answer):
            heard = heard[: -len(self.answer)]
            self._open -= 1
        return heard

    def catch_up(self, patience_s: float) -> bool:
        """Ask, and skip everything before the answer: whatever was asked earlier is then over."""
        self._ask()
        heard, left_s, most = b"", patience_s, _MOST_SKIPPED + len(self.answer)
        while left_s > 0 and most > 0:
            more = self._link.read(1, EVERY_S)
            heard = (heard + more)[-len(self.answer) :]
            if heard == self.answer:
                self._open -= 1
                return True
            if more:
                most -= 1
            else:
                left_s -= EVERY_S
        return False
