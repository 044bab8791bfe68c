"""`sam-ba`: the boot program of Microchip's SAM, in ROM or resident (data sheets "SAM-BA boot program", AT07175).

Letters with addresses in hexadecimal read and write memory, move files to and from RAM, and call a program there. No
letter is guarded. So flash is never written by one: a routine of our own goes into RAM by XMODEM, looks whether what
it is to write has arrived whole, erases, writes, and computes the CRC-32 by which an image is proven.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar

from ..chips.catalogue import Catalogue
from ..chips.part import Memory, Part
from ..errors import RefusedFault
from ..image import Image
from ..link import Deadline, Link
from ..quantities import show_size
from ..spans import Span
from . import sam_ba_ram as transfer
from .abilities import Checksums, TakesOver
from .dialect import Dialect
from .errors import ChipRefusal, RefusalKind, Silence, Unexpected
from .line import drain, read_exactly, read_until, refuse_text
from .results import Examination, Identity, WriteBlock
from .sam_ba_flash import Controller, controller_of, is_another
from .sam_ba_ram import CONTROLLER, DONE, JOB_BYTES, WRONG_DATA, WRONG_JOB, RamJob, Workshop, crc32
from .spec import Asking, Attempt, Cost, CostRow, Costs, Erasing, Setting, Spec, Starting

_LINE_END = b"\n\r"
_CPUID, _AIRCR, _RESET_REQUEST = 0xE000ED00, 0xE000ED0C, 0x05FA0004
_CORES = {0xC20: "Cortex-M0", 0xC60: "Cortex-M0+", 0xC23: "Cortex-M3", 0xC24: "Cortex-M4", 0xC27: "Cortex-M7"}
"""CPUID, PARTNO (ARM's manuals, "System control block")."""
_RETURNED = b"\x06>"
"""What monitors say after a call: resident ones 06, some in ROM their prompt, others nothing."""
_CRC_BYTE_S, _LONGEST_READ, _BLOCK, _LARGEST_PAGE = 1e-6, 2048, 4096, 512
_LONGEST_TIMES, _WAITS = 5.0, 1.1
_QUIET_S, _TRIES = 0.03, 4
_APART_S, _HANGS_ABOVE = 0.005, 32


class SamBa(Dialect, Checksums, TakesOver):
    """The conversation with one chip."""

    name: ClassVar[str] = "sam-ba"
    title: ClassVar[str] = "SAM-BA boot program"
    document: ClassVar[str] = "Microchip data sheets, AT07175"
    decoder: ClassVar[str] = "sam_ba"
    answer_s: ClassVar[float] = 0.3
    spec: ClassVar[Spec] = Spec(
        asking=Asking(
            sent=b"#N#",
            attempts=(Attempt(0.1, 2), Attempt(0.3, 2), Attempt(0.6, 3)),
            wait_s=0.15,
            order=52,
        ),
        erasing=Erasing.INSIDE_WRITE,
        starting=Starting.COMMAND,
        guards_writes=True,
        gives_up=False,
        tells_chip=False,
        start_answers=False,
        settings=(
            Setting(
                "calls",
                "text",
                "auto",
                "what its G wants: the vectors of a program, or code; auto tries vectors, then code",
                ("auto", "vectors", "code"),
            ),
        ),
        costs=Costs(read_block=_LONGEST_READ, prove=CostRow(180, 8, 5, _CRC_BYTE_S)),
    )

    def __init__(self, link: Link, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(link, settings)
        self._version = ""
        self._number = 0
        self._raw: bool | None = None
        """Whether files go as they are (USB); None while that is not known."""
        self._tells_return = False
        self._workshop: Workshop | None = None
        self._controller: Controller | None = None

    # --- letters

    def _command(self, text: str) -> int:
        """Send one; how many characters it had."""
        self.link.discard()
        self.link.write(text.encode() + b"#")
        return len(text) + 1

    def _line(self, text: str) -> str:
        """Send a command whose reply is a text line. Raises Silence, Unexpected."""
        sent = self._command(text)
        deadline = Deadline.after(self.link, self.link.settings.seconds(sent + 80) + self.patience_s)
        heard = b""
        while not heard.endswith(_LINE_END):
            more = self.link.read(1, deadline.left_s)
            if not more and not heard:
                raise Silence(f"answer to '{text}'", self.patience_s)
            heard += more
            if not more or len(heard) > 100 or (heard[-1] > 126):
                raise Unexpected(f"answer to '{text}'", heard)
        return heard.decode("ascii").strip()

    def _word_once(self, address: int, after_call: bool = False) -> int:
        sent = self._command(f"w{address:X},4")
        wait_s = self.link.settings.seconds(sent + 4) + self.patience_s
        found = read_exactly(self.link, 4, wait_s, "word")
        if after_call and found[0] in _RETURNED:  # late; no job leaves a word with that
            self._tells_return = True
            found = found[1:] + read_exactly(self.link, 1, self.patience_s, "word")
        if more := drain(self.link, _QUIET_S if self.retries else 0.0):
            raise Unexpected("a word", found + more)
        return int.from_bytes(found, "little")

    def _word(self, address: int) -> int:
        """The same twice: nothing guards it. Raises DialectError."""
        for _ in range(_TRIES):
            once, twice = (self.exchange(lambda: self._word_once(address), self._recover, _TRIES) for _ in range(2))
            if once == twice:
                return once
            self.retries += 1
        raise Unexpected("the same word twice", once.to_bytes(4, "little"))

    def _recover(self, heard: bytes) -> None:
        """End what may be under way: a file to the chip, a file from it, half a command. Then it must answer by a
        line's end and nothing else. Raises Silence, Unexpected."""
        for attempt in range(_TRIES):
            more = read_until(self.link, Deadline.after(self.link, self.patience_s))
            refuse_text("answer", more)
            if attempt or self._raw:
                self.link.write(bytes(JOB_BYTES * 8 if self._raw else 1))
            self.link.write(bytes([transfer.CAN] * 3 + [transfer.EOT]))
            drain(self.link, 4 * _QUIET_S)
            try:
                self.link.write(b"#")
                if self._line("N") == "":
                    return
            except (Silence, Unexpected):
                if attempt == _TRIES - 1:
                    raise

    # --- identification

    def ask(self, wait_s: float) -> str | None:
        """Binary mode, answered by a line's end, and its version."""
        try:
            with self.waiting(self.probe_timeout(wait_s)):
                self.link.write(b"#")
                if self._line("N").strip("> "):
                    raise Unexpected("a line's end", b"")
                self._version = self._line("V")
        except (Silence, Unexpected):
            drain(self.link, _QUIET_S, wait_s)
            return None
        if not self._version.strip("> "):
            return None
        if self.asked > 1:  # what answers an earlier question is still to come
            read_until(self.link, Deadline.after(self.link, self.patience_s))
        return f'"{self._version[:40]}"'

    def identify(self) -> Identity:
        """The processor's own number. What else tells the chip stands elsewhere in each, and is not read before it is
        known which was declared."""
        core = self._word(_CPUID) >> 4 & 0xFFF
        called = _CORES.get(core, f"core {core:03X}")
        return Identity(None, called, (("loader", self._version[:40]), ("core", called)))

    def examine(self, part: Part) -> Examination:
        """Raises RefusedFault if the chip is another than the declared one."""
        controller = controller_of(part)
        core = self._word(_CPUID) >> 4 & 0xFFF
        if core not in controller.cores:
            raise _another(part, f"the chip has {_CORES.get(core, f'core {core:03X}')}")
        size, seen = controller.size_told(part, self._word)
        if size is not None and size != part.flash.size:
            raise _another(part, f"the chip reports {show_size(size)} of flash")
        self._refuse_another_series(part, controller)
        self.examined_part, self._controller = part, controller
        self._workshop = Workshop(part.extra["work_at"])
        details = (("flash", show_size(part.flash.size)), *seen)
        return Examination(part, details, controller.unique_id(part, self._word))

    def _refuse_another_series(self, part: Part, controller: Controller) -> None:
        """Raises RefusedFault."""
        told = controller.chip_id(self._word)
        if told is None or told in self.also_accepts or not is_another(part.name, told):
            return
        parts = Catalogue.load().of_dialect(self.name)
        fitting = [one.name for one in parts if one.flash.size == part.flash.size and not is_another(one.name, told)]
        same = [name for name in fitting if name[:4] == part.name[:4]]
        raise RefusedFault.of(
            "other-chip",
            f"this is no {part.title}",
            (f"chip id {told:08X}",),
            (f"--chip {' or '.join(same[:3])}" if same else "read the name on the package: --chip",
             f"if you know better: --also-accept 0x{told:X}"),
            "certain",
        )  # fmt: skip

    # --- files and jobs

    def _finds_out(self) -> bool:
        """Whether bytes come as they are: then four come at once; else the chip waits to be called."""
        if self._raw is None:
            assert self._workshop is not None

            def once() -> bool:
                self._command(f"R{_CPUID:X},4")
                heard = self.link.read(4, self.link.settings.seconds(20) + 2 * _QUIET_S + self.answer_s)
                if not heard:
                    heard = transfer.receive(self.link, 4, self.patience_s)
                    return False
                return len(heard) == 4

            raw = self.exchange(once, self._recover, _TRIES)
            # a block with its CRC leaves no doubt; four bytes do
            if raw and not self.exchange(once, self._recover, _TRIES):
                raise Unexpected("files in one way", b"")
            self._raw = raw
        return self._raw

    def _put(self, address: int, data: bytes) -> None:
        """Into RAM. Raises DialectError."""
        raw = self._finds_out()
        padded = data.ljust(-(-len(data) // transfer.BLOCK) * transfer.BLOCK, b"\x00")

        def once() -> None:
            self._command(f"S{address:X},{len(padded):X}")
            if raw:
                self.link.sleep(_APART_S)  # a command and its data must not share a packet of the USB
                self.link.write(padded)
                self.link.sleep(self.link.settings.seconds(len(padded) + 16))
            else:
                self.retries += transfer.send(self.link, padded, self.patience_s)

        self.exchange(once, self._recover, _TRIES)

    def _get(self, address: int, size: int) -> bytes:
        """By USB, a size that is a power of two above 32 makes the SAM3X's monitor hang: one byte less, and that
        byte."""
        raw = self._finds_out()
        if raw and size > _HANGS_ABOVE and not size & (size - 1):
            return self._get(address, size - 1) + self._get(address + size - 1, 1)

        def once() -> bytes:
            sent = self._command(f"R{address:X},{size:X}")
            if not raw:
                return transfer.receive(self.link, size, self.patience_s)
            wait_s = self.link.settings.seconds(sent + size) + self.patience_s
            return read_exactly(self.link, size, wait_s, f"{size} bytes")

        return self.exchange(once, self._recover, _TRIES)

    def _done(self, job: RamJob, more: RamJob | None, data: bytes, usual_s: float) -> int:
        """Bring a job, perhaps another behind it, and their data, and let them be done. Returns how it ended. Raises
        DialectError."""
        workshop = self._ready()
        for attempt in range(_TRIES):
            self._number = self._number % 0xFFFF + 1
            job = replace(job, number=self._number)
            second = b"" if more is None else more.words()
            self._put(workshop.jobs, job.words() + (second or bytes(JOB_BYTES) if data else b"") + data)
            try:
                code = self._called(workshop, job, usual_s)
            except (Silence, Unexpected) as error:
                if attempt == _TRIES - 1 or self.trial_s is not None:
                    raise
                self.retries += 1
                self._recover(error.heard)
                continue
            if code != WRONG_JOB and (code != WRONG_DATA or not data):
                return code
            self.retries += 1
        return code

    def _called(self, workshop: Workshop, job: RamJob, usual_s: float) -> int:
        """Call the routine; the word that the job leaves, which has its number. Raises Silence, Unexpected."""
        where = workshop.entry if self._calls_code else workshop.base
        sent_s = self.link.settings.seconds(self._command(f"G{where:X}"))
        # a monitor that does not say when it is back hears nothing before
        longest_s = usual_s * _LONGEST_TIMES
        heard = self.link.read(1, sent_s + (longest_s + self.patience_s if self._tells_return else usual_s))
        self._tells_return = self._tells_return or (heard != b"" and heard in _RETURNED)
        codes = {job.leaves(code): code for code in (DONE, WRONG_DATA, CONTROLLER, WRONG_JOB)}
        deadline = Deadline.after(self.link, longest_s + self.patience_s)
        while True:
            try:
                seen = self._word_once(workshop.result, after_call=True)
            except Silence:
                if deadline.over:
                    raise
                self.link.write(b"#")
                continue
            if seen in codes:
                return codes[seen]
            if seen or deadline.over:
                raise Unexpected("word of the job", seen.to_bytes(4, "little"))

    def _ready(self) -> Workshop:
        """The routine in RAM, and the flash controller as it must be. Raises DialectError."""
        workshop, controller = self._workshop, self._controller
        assert workshop is not None and controller is not None
        if not self._set_up:
            content = workshop.content()
            for attempt in range(_TRIES):
                self._put(workshop.base, content)
                if self._get(workshop.base, len(content)) == content:
                    break
                if attempt == _TRIES - 1:
                    raise Unexpected("the routine as it was sent", b"")
                self.retries += 1
            self._set_up = True
            for job in controller.preparing(self._word):
                clean = not self.retries
                try:
                    done = self._done(job, None, b"", 0.05) == DONE
                except (Silence, Unexpected):
                    if not clean:
                        raise
                    if self.setting("calls") == "auto" and not self._tries_code:
                        self.learned.append("its G wants code, not vectors")
                        self._tries_code = True  # the next conversation takes it over, after a reset
                        raise Silence("return from the routine: its G may want code, --set calls=code", 0.0) from None
                    other = "vectors" if self._calls_code else "code"
                    said = f"the routine did not run: its G may want something else, --set calls={other}"
                    raise ChipRefusal("go", RefusalKind.UNSUPPORTED, b"", workshop.base, said) from None
                if not done:
                    raise ChipRefusal("set up the flash", RefusalKind.UNSUPPORTED, b"", job.command_at)
        return workshop

    _set_up = False

    @property
    def _calls_code(self) -> bool:
        """AT07175: stack pointer and address are taken from there, and most monitors in ROM do the same. The data
        sheets of parts with the monitor in ROM have: 'jump to a specified address and execute the code'."""
        said = str(self.setting("calls"))
        return said == "code" or (said == "auto" and self._tries_code)

    _tries_code = False
    """Whether vectors were tried, and the monitor did not come back."""

    def take_over(self, before: Dialect) -> None:
        self._tries_code = isinstance(before, SamBa) and before._tries_code
        self.learned += before.learned

    def was_reset(self) -> None:
        self._set_up = False

    # --- memory

    @classmethod
    def write_block(cls, memory: Memory) -> int:
        """Whole erase units."""
        return max(memory.block or _BLOCK, memory.layout[0][1])

    @classmethod
    def span_written(cls, memory: Memory, block: WriteBlock) -> Span:
        """Whole pages, of at most 512 bytes; of smaller erase units all, as they are erased with it."""
        return block.span.aligned(min(memory.layout[0][1], _LARGEST_PAGE), memory.start)

    def read(self, memory: Memory, address: int, size: int) -> bytes:
        return self._get(address, size)

    @classmethod
    def checksum_unit(cls, memory: Memory) -> int:
        return 1

    def checksum_equals(self, memory: Memory, address: int, data: bytes) -> bool:
        """By the routine, of the flash as it is read there."""
        job = RamJob(crc_size=len(data), crc_at=address, crc=crc32(data))
        code = self._done(job, None, b"", len(data) * _CRC_BYTE_S)
        return code == DONE

    def write(self, memory: Memory, blocks: Sequence[WriteBlock]) -> Iterator[WriteBlock]:
        """Blocks that share an erase unit together."""
        block_bytes, waiting = self.write_block(memory), list(blocks)
        while waiting:
            room = waiting[0].address // block_bytes
            run = [waiting.pop(0)]
            while waiting and waiting[0].address // block_bytes == room:
                run.append(waiting.pop(0))
            self._write_run(memory, run)
            yield from run

    def _write_run(self, memory: Memory, run: Sequence[WriteBlock]) -> None:
        """Erase the units that they touch, and write whole pages of them."""
        workshop, controller = self._ready(), self._controller
        assert controller is not None
        unit = memory.layout[0][1]
        span = Span(run[0].address, run[-1].end).aligned(controller.page_bytes(unit), memory.start)
        data = Image("", tuple(run)).cut(span.start, span.size, memory.erased)
        erasing, writing = controller.jobs(span, unit, workshop.data)
        check = {"crc_size": len(data), "crc_at": workshop.data, "crc": crc32(data)}
        usual_s = memory.erase_time(unit).typical_s * span.aligned(unit, memory.start).size / unit
        usual_s += memory.program_s * span.size / memory.write_unit + len(data) * _CRC_BYTE_S
        if erasing is None:
            job, more = replace(writing, **check), None
        else:
            job, more = replace(erasing, **check, next=workshop.jobs + JOB_BYTES), writing
        code = self._done(job, more, data, usual_s * _WAITS)
        if code != DONE:
            said = (
                "the flash controller reports an error: locked?" if code == CONTROLLER else "the data never arrived"
            )
            raise ChipRefusal("write", RefusalKind.BAD_DATA, bytes([code]), span.start, said)

    def start(self, address: int) -> str:
        """Boot from flash from now on, where that is an option of the chip; then a reset, which is not answered. That
        is asked of the processor by a letter: whatever became of it on the way, it reaches no flash."""
        booting = None if self._controller is None else self._controller.booting()
        if booting is not None and self._done(booting, None, b"", 0.2) != DONE:
            raise ChipRefusal("boot from flash", RefusalKind.UNSUPPORTED, b"", booting.command_at)
        sent = self._command(f"W{_AIRCR:X},{_RESET_REQUEST:X}")
        self.link.sleep(self.link.settings.seconds(sent + 2))
        return "told to reset" if booting is None else "boots from flash from now on; told to reset"

    # --- costs

    @classmethod
    def cost_of_write(cls, memory: Memory, size: int) -> Cost:
        blocks = 3 + -(-size // transfer.BLOCK)
        unit = memory.layout[0][1]
        busy_s = memory.erase_time(unit).typical_s * -(-size // unit)
        busy_s += memory.program_s * size / memory.write_unit + size * _CRC_BYTE_S
        return Cost(45 + blocks * 133, 6 + blocks, blocks + 3, busy_s)

    @classmethod
    def cost_of_read(cls, memory: Memory, size: int) -> Cost:
        blocks = -(-size // transfer.BLOCK)
        return Cost(16 + blocks, blocks * 133 + 1, blocks + 1)


def _another(part: Part, seen: str) -> RefusedFault:
    return RefusedFault.of(
        "other-chip", f"this is no {part.title}", (seen,), ("name the chip that is on the board: --chip …",)
    )
