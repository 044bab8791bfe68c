"""What every dialect can be asked.

A dialect is a class over an injected `Link`. It never opens a port, prints, or uses another clock than the link's.
What differs between dialects is stated as data (`Spec`, `Cost`), which plan, ladder and findings read.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, ClassVar, TypeVar

from ..link import Deadline, Frame
from ..quantities import show_size
from ..spans import Span, pieces_of
from .abilities import summing
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .framing import Framing
from .line import read_until
from .results import Examination, Fitted, Identity, OneFitted, Provable, WriteBlock
from .spec import Cost, Spec, sum_costs

if TYPE_CHECKING:
    from ..chips.part import EraseUnit, Memory, Part
    from ..clock.uarts import UartRules
    from ..image import Image
    from ..link import Link

Answer = TypeVar("Answer")

_AFTER_SYNC_S = 0.05
LATE_TIMES = 3.2
"""How many time-outs to wait for an answer: hubs, virtual machines and networks answer late."""


class Dialect(ABC):
    """One bootloader protocol over one link. Methods raise DialectError and LinkLost."""

    name: ClassVar[str]
    title: ClassVar[str]
    document: ClassVar[str]
    frame: ClassVar[Frame] = Frame(8, "none", 1)
    spec: ClassVar[Spec]
    uart: ClassVar[UartRules | None] = None
    """How its chips' UART divides a clock, if that is no row of `clock.UARTS`."""
    decoder: ClassVar[Framing | str] = ""
    """What explains a recorded conversation: how its frames are taken apart, or the name of a function in
    `trace/own_decoders.py`; empty if nothing does."""
    tried: ClassVar[str] = "from documents, not tried on silicon"
    """What the dialect and its parts rest on."""
    proof: ClassVar[str] = "each block acknowledged with its checksum by the bootloader, which cannot be read back"
    """What verify rests on where nothing can be read back."""
    answer_s: ClassVar[float] = 0.5
    """The dialect's time-out: an answer comes within it, on top of the time of its characters and of what the chip
    has to do. Later answers, up to three times as late, are late; after that they count as lost."""

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        self.link = link
        self.settings = settings or {}
        self.examined_part: Part | None = None
        """The chip as `examine` found it; None before that, and for dialects that need not remember it."""
        self.retries = 0
        """How often something was asked again because the chip or the line did not cooperate."""
        self.trial_s: float | None = None
        """While a rate is on trial: how long an answer is waited for. Nothing is repeated then."""
        self.doubt = ""
        """Why the last comparison of sums proves nothing either way, for loaders that may tell a sum that they have
        not computed; else empty."""
        self.shown = ""
        """How much of the image the chip has shown where there is a doubt, in words that end with "it"; empty if
        nothing."""
        self.may_have_erased = ""
        """Why the flash may be erased though nothing was asked to be, in words: some loaders do so on the way into a
        transfer. Empty if nothing of the kind was sent."""
        self.learned: list[str] = []
        """What this loader was seen to do where the documents leave it open, in words; each is told once."""
        self.start_proves_image = False
        """Whether the start has shown that the chip holds the image, which verify could not."""
        self.declared: Part | None = None
        """The part that the person declared, before the chip has told anything; None if it is not known."""
        self.also_accepts: frozenset[int] = frozenset()
        """Numbers of chips that are accepted besides the declared one's."""
        self.loader_is_said = False
        """Whether the person said how large the resident bootloader is: that decides."""
        self.restores = False
        """Whether what is written was read from a chip: the rest of its erase units stays as it is."""
        self.proves = True
        """Whether what is written is going to be verified."""
        self.brief = False
        """Whether a person may press reset at any moment: then no question waits for long."""
        self.asked = 0
        """How many times `probe_timeout` was asked."""
        self.fail_fast = False
        """Whether a lower rate can be taken: trouble is raised before anything is repeated that nothing guards."""

    def blocks_sent(self) -> str:
        """The blocks of the last `write` as sent over the line, in words; empty if they are the plan's."""
        return ""

    @property
    def part(self) -> Part:
        """The chip as `examine` found it. Raises LookupError before that."""
        if self.examined_part is None:
            raise LookupError(f"{self.name} has not examined the chip yet")
        return self.examined_part

    @property
    def disturbed(self) -> int:
        """How often something came late, damaged, or not at all."""
        return self.retries

    @property
    def guards_weakly(self) -> bool:
        """Whether what verify rests on, where nothing can be read back, is a sum of 8 bits: on a line that has shown
        to damage characters that proves nothing."""
        return False

    @property
    def guards_writes(self) -> bool:
        """Whether what this chip is sent carries a checksum that it checks."""
        return self.spec.guards_writes

    @property
    def proves_start(self) -> bool:
        """Whether what `start` has returned shows that the program was begun, and not only that a reset follows."""
        return self.spec.start_answers

    # The rule about late answers: nothing is sent while the answer to an earlier question can still come,
    # unless the new question's answer cannot be mistaken for it. 3.2 time-outs allow for what adapters, hubs
    # and networks add; a loader that would itself time out meanwhile is kept awake by a probe. While a rate is
    # on trial the wait is short and nothing is repeated: there a late answer is as good a reason as a damaged
    # one to take a lower rate.
    @property
    def patience_s(self) -> float:
        """How long to wait for an answer before its question is repeated. If this is shorter than an answer can be
        late, the dialect has another way to tell which question was answered."""
        return LATE_TIMES * self.answer_s if self.trial_s is None else self.trial_s

    def probe_timeout(self, wait_s: float, quick: int = 2) -> float | None:
        """How long one more question, whether a loader is there, waits for its answer: the first few `wait_s`; later
        ones as long as an answer can be late, which is None."""
        self.asked += 1
        return wait_s if self.asked <= quick or self.brief else None

    @contextmanager
    def waiting(self, seconds: float | None) -> Iterator[None]:
        """Wait so long for answers meanwhile, and repeat nothing; None waits as usual."""
        usual, self.trial_s = self.trial_s, seconds
        try:
            yield
        finally:
            self.trial_s = usual

    # Why there is one place for every retry
    # --------------------------------------
    # A request that got no answer has three possible histories: the chip never had it, the chip has it and
    # its answer was lost, or the answer is still on its way. Sending the request again is right in the first,
    # harmless in the second only if doing the thing twice is harmless, and wrong in the third: two answers
    # then come for one question, and from there on every answer is read as that to the question before it. An
    # acknowledgement taken for the next block's is how a block that never arrived becomes green. USB hubs,
    # virtual machines and network ports make answers late quite often, and by far more than a line makes
    # them.
    #
    # So three things are asked of whoever wants to repeat something:
    #
    # 1. It changes nothing, or doing it twice does the same (`once`). Programming a word twice is not of that
    #    kind on flash with error correction: such a dialect erases the unit first, in `recover`.
    # 2. The answer to the first attempt can no longer come. Either so much time has passed (`patience_s`), or
    #    `recover` has asked something whose answer is like no other and skipped everything before that answer
    #    (`probe.py`), or the protocol numbers its packets and the late one is known by its number.
    # 3. The chip waits for the start of a command. Half a frame that it is still waiting to complete would
    #    swallow the next request, so `recover` first fills it up, or waits until the chip gives up on it.
    #
    # A refusal is different: the chip has answered, so nothing is late, but what it refused may be a damaged
    # copy of what was sent. `refusals` says how often that is believed. A chip that says it is locked is
    # believed at once: asking again may count as a wrong password.
    def exchange(
        self,
        once: Callable[[], Answer],
        recover: Callable[[bytes], object],
        tries: int = 3,
        refusals: int = 0,
        resolve: Callable[[], Answer | None] | None = None,
        after_refusal: Callable[[], object] | None = None,
    ) -> Answer:
        """A question that may be retried after silence or noise: it changes nothing, or does the same each time.

        An answer that comes late must never be taken for the next question's. So no question is repeated before its
        answer can no longer come (`patience_s`), or before `recover`, which gets what was heard instead, has brought
        the line to a state where only the next answer can come: it finds the start of a command again, by a question
        whose answer is like no other, or by its number. `refusals`: how many times the chip may say no, as it does to
        a damaged question; `after_refusal` then does what `recover` otherwise does. `resolve` checks whether
        something that was not refused was done all the same, and returns its result; None if it was not.

        Raises DialectError.
        """
        attempt = 0
        while True:
            attempt += 1
            try:
                return once()
            except (Silence, Unexpected) as error:
                if attempt == tries or self.trial_s is not None:
                    raise
                self.retries += 1
                recover(error.heard)
                if resolve is not None and (done := resolve()) is not None:
                    return done
            except ChipRefusal as refusal:
                if attempt == tries or attempt > refusals or refusal.kind is RefusalKind.LOCKED:
                    raise
                self.retries += 1
                if after_refusal is not None:
                    after_refusal()
                else:
                    recover(b"")

    def setting(self, name: str) -> Any:
        """The value of one of the dialect's own settings."""
        if name in self.settings:
            return self.settings[name]
        return next(setting.default for setting in self.spec.settings if setting.name == name)

    @classmethod
    def first_baud(cls, part: Part, baud: int) -> int:
        """The rate to ask at if `baud` is wanted: different only for loaders that change it once they answer."""
        return cls.spec.asking.at_baud or baud

    @classmethod
    def fit(
        cls, part: Part, images: dict[str, Image], settings: Mapping[str, Any], even_if: frozenset[str]
    ) -> Fitted:
        """The images as they must be for this loader. Raises RefusedFault for what must not be written."""
        if "flash" not in images:
            return Fitted(images)
        image, notes = cls.fit_flash(part, images["flash"], settings, even_if)
        return Fitted({**images, "flash": image}, notes)

    @classmethod
    def fit_flash(cls, part: Part, image: Image, settings: Mapping[str, Any], even_if: frozenset[str]) -> OneFitted:
        """The same for the image of the flash, for loaders that need not see the others; and notes."""
        return image, ()

    def look_before(self, part: Part, images: Mapping[str, Image], even_if: frozenset[str]) -> tuple[str, ...]:
        """What only the chip can say for or against an upload, before anything on it is changed. Returns notes.
        Raises RefusedFault."""
        return ()

    @abstractmethod
    def ask(self, wait_s: float) -> str | None:
        """Ask once whether the bootloader is there. Returns its answer in words, or None for silence."""

    def is_heard_in(self, data: bytes) -> bool:
        """Whether this loader's answer is in what was heard, though perhaps not in time."""
        asking = self.spec.asking
        return any(answer in data for answer in asking.answers) or any(
            re.search(sound, data, re.DOTALL) for sound in asking.sounds
        )

    @abstractmethod
    def identify(self) -> Identity: ...

    def examine(self, part: Part) -> Examination:
        """What the chip tells of itself beside its number: for most, nothing that is not in its record."""
        return Examination(part, (("flash", show_size(part.flash.size)),))

    def erase(self, memory: Memory, units: Sequence[EraseUnit]) -> Iterator[int]:
        """Erase units; yields how many are done. Only for dialects that erase by unit."""
        raise NotImplementedError(f"{self.name} does not erase by unit")

    def erase_all(self, memory: Memory) -> None:
        """Erase all that an application may use: unit by unit if there is no command for it."""
        for _ in self.erase(memory, memory.units_of([memory.usable])):
            pass

    def why_not_writable(self, memory: Memory) -> str:
        """Why this loader cannot write a memory that the part has; empty if it can, or does not say."""
        return ""

    @abstractmethod
    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """Write blocks; yields each as soon as the chip has acknowledged it."""

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        """Read `size` bytes, at most `read_block(memory)`, from `address`. Only for dialects that read."""
        raise NotImplementedError(f"{self.name} reads nothing back")

    def confirm_reading(self, memory: Memory, address: int, data: bytes) -> bool:
        """Whether `data`, which was read from `address`, reads the same in a second way: by its checksum, with other
        addresses, or at least in blocks of another size."""
        sums, place = summing(self) if memory.is_flash else None, Span.of(address, len(data))
        if sums is not None and place == place.aligned(sums.checksum_unit(memory)):
            return sums.checksum_equals(memory, address, data)
        block = max(4, self.read_block(memory) * 3 // 4 // 4 * 4)
        return all(
            self.read(memory, address + at, min(block, len(data) - at)) == data[at : at + block]
            for at in range(0, len(data), block)
        )

    @classmethod
    def provable(cls, part: Part, memory: Memory, checks: tuple[Span, ...], settings: Mapping[str, Any]) -> Provable:
        """What of the spans the loader can show."""
        return Provable(checks)

    @abstractmethod
    def start(self, address: int) -> str:
        """Start the application (whose vectors are at `address`) by a command. Returns the chip's answer."""

    def asked_before(self, times: int, since_s: float) -> None:
        """An answer has come, after so many questions that seemed unanswered, so long after the first of them. It may
        be the answer to that one: then the answers to the others come as late, and must pass first."""
        if times:
            read_until(self.link, Deadline.after(self.link, since_s + _AFTER_SYNC_S))

    def was_reset(self) -> None:  # noqa: B027  (most know nothing that a reset changes)
        """The lines have just reset the chip, or a person may have: what was known of the conversation no longer
        holds."""

    def finish(self) -> None:  # noqa: B027  (most bootloaders have nothing to end)
        """End the conversation, so that the chip can be reset or left."""

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        """The largest write, in bytes; writes start on a multiple of it."""
        return cls.spec.costs.block

    @classmethod
    def read_block(cls, memory: Memory) -> int:
        """The largest read, in bytes."""
        return cls.spec.costs.read_block or cls.write_block(memory)

    @classmethod
    def writes_whole_blocks(cls, memory: Memory) -> bool:
        """Whether every write must fill its block (a page), rather than start and end on write units."""
        return False

    @classmethod
    def span_written(cls, memory: Memory, block: WriteBlock) -> Span:
        """What is programmed for a block of the plan, with what the dialect itself fills it up with."""
        return block.span

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        return cls.spec.costs.write.of(size, 0, memory.program_s * size / memory.write_unit)

    @classmethod
    def cost_of_read(cls, memory: Memory, size: int) -> Cost:
        row = cls.spec.costs.read
        return Cost() if row is None else row.of(0, size)

    @classmethod
    def cost_of_erase(cls, memory: Memory, units: Sequence[EraseUnit]) -> Cost:
        row = cls.spec.costs.erase
        if row is None:
            return Cost()
        asked = sum_costs([row.of()] * -(-len(units) // row.units))
        return asked + Cost(busy_s=sum(memory.erase_time(unit.size).typical_s for unit in units))

    @classmethod
    def cost_of_writes(cls, part: Part, memory: Memory, blocks: Sequence[WriteBlock]) -> Cost:
        """The cost of all blocks together, for dialects that do more than one block after the other."""
        return sum_costs(cls.cost_of_write(memory, len(block.data)) for block in blocks)

    @classmethod
    def cost_of_verify(cls, part: Part, memory: Memory, spans: Sequence[Span]) -> Cost:
        """The cost of proving the spans, by sums or by reading."""
        row = cls.spec.costs.prove
        if row is not None:
            return sum_costs(row.of(busy_s=span.size * row.byte_s) for span in spans)
        if not cls.spec.reads:
            return Cost()
        return sum_costs(cls.cost_of_read(memory, place.size) for place in pieces_of(spans, cls.read_block(memory)))
