"""What every loader must do, whatever it runs in: tests over a machine, to be mixed into a TestCase."""

from __future__ import annotations

import binascii
import random
import struct
import unittest
from typing import ClassVar

from greenstep.bench.families.doorstep import DoorstepKind, SimulatedDoorstep

from .emulated import Layout, Machine
from .talk import Talk, framed, unframed

HELLO, DIGEST, ERASE, WRITE, READ, RATE, START, SEAL = range(1, 9)


def question(kind: int, number: int, first: int = 0, second: int = 0) -> bytes:
    return struct.pack("<BBII", kind, number, first, second)


def write(number: int, address: int, data: bytes) -> bytes:
    return struct.pack("<BBI", WRITE, number, address) + data


class Simulated:
    """The bench's simulated loader, which was written from the document alone, as a conversation."""

    def __init__(self, kind: DoorstepKind, flash: bytes) -> None:
        self.chip = SimulatedDoorstep(kind)
        self.chip.flash[:] = flash[: kind.top]
        self.chip.release_reset(0.0, False)
        self.now = 0.5

    def ask(self, message: bytes) -> list[bytes]:
        chip = self.chip
        chip.sent.clear()
        chip.advance(self.now)
        for value in framed(message):
            self.now += 87e-6
            chip.advance(self.now)
            chip.receive(self.now, value)
        self.now += 2.0
        chip.advance(self.now - 1e-6)
        frames = b"".join(data for _, data, _ in chip.sent).split(b"\x00")[:-1]
        return [found for frame in frames if (found := unframed(frame)) is not None]


def _comparable(answers: list[bytes]) -> list[bytes]:
    """Without the chip's own number, which a hello ends with."""
    return [answer[:42] if answer[0] == HELLO | 0x80 else answer for answer in answers]


class Conduct(unittest.TestCase):
    """`erases`: whether writes erase; `kind`: the simulated loader of the same chip, if there is one."""

    machine: Machine
    layout: ClassVar[Layout]
    loader: ClassVar[tuple[int, bytes]] = (0, b"")
    unit: ClassVar[int]
    erase_unit: ClassVar[int]
    data: ClassVar[int]
    kind: ClassVar[DoorstepKind | None] = None
    erases_when_asked: ClassVar[bool] = True
    erases_itself: ClassVar[bool] = True
    longest_s: ClassVar[float] = 1.5
    """How long it waits."""
    questions: ClassVar[int] = 200
    head: ClassVar[bytes] = b""
    """What a program begins with, if the core minds."""
    cuts: ClassVar[tuple[int, ...]] = ()
    """At which changes of the flash the supply fails; empty: at each."""

    @property
    def blank(self) -> bytes:
        flash = bytearray(b"\xff") * self.layout.top
        at, data = self.loader
        flash[at : at + len(data)] = data
        return bytes(flash)

    def sealed(self, program: bytes) -> bytes:
        flash = bytearray(self.blank)
        flash[self.layout.begin : self.layout.begin + len(program)] = program
        words = struct.pack("<II", len(program), binascii.crc32(program))
        flash[self.layout.seal : self.layout.seal + 8] = words
        return bytes(flash)

    def program(self, size: int, seed: int = 1) -> bytes:
        return self.head + random.Random(seed).randbytes(size - len(self.head))

    def test_questions_are_answered_as_the_simulated_loader_answers_them(self) -> None:
        if self.kind is None:
            self.skipTest("no chip of the bench has this loader")
        source = random.Random(self.layout.top)
        flash = self.sealed(self.program(3000))
        talk, simulated = Talk(self.machine, flash, 400_000), Simulated(self.kind, flash)
        for number in range(1, self.questions):
            message = self._any(source, number)
            with self.subTest(number, message=message[:10].hex(" ")):
                self.assertEqual(_comparable(talk.ask(message, 500_000)), _comparable(simulated.ask(message)))
        self.assertEqual([event for event in talk.seen if event[0] == "V"], [])
        seal = self.layout.seal
        self.assertEqual(self.machine.flash[:seal], bytes(simulated.chip.flash[:seal]))

    def _any(self, source: random.Random, number: int) -> bytes:
        begin, seal, unit = self.layout.begin, self.layout.seal, self.unit
        likely = (begin, seal, seal - unit, begin + source.randrange(40) * self.erase_unit, source.randrange(seal))
        address = source.choice(likely)
        kind = source.choice((HELLO, DIGEST, DIGEST, ERASE, WRITE, WRITE, WRITE, READ, START, SEAL, SEAL, 9, 200))
        if kind == WRITE:
            if not self.erases_itself:  # onto blank flash only: else what is kept differs from chip to chip
                address = begin + 0x4000 + number * self.data
            size = source.choice((unit, unit, 2 * unit, self.data, unit - 1, 0, self.data + unit))
            if not size:
                size = unit
            return write(number, address, source.randbytes(size))
        if kind == DIGEST:
            each, count = (
                source.choice((0, source.randrange(1, 200))),
                source.randrange(70),
            )  # all of it within the flash
            return question(kind, number, begin + source.randrange(1900), each | count << 16)
        if kind == READ:
            return question(kind, number, source.randrange(seal - 600), source.randrange(300))
        if kind == ERASE:
            if not self.erases_when_asked:
                return question(9, number)
            return question(kind, number, address, source.choice((self.erase_unit, 2 * self.erase_unit, 3, 1 << 31)))
        if kind == SEAL:
            size = source.choice((1, 500, 3000, 3000))
            return question(
                kind, number, size, source.choice((0, binascii.crc32(self.machine.flash[begin : begin + size])))
            )
        if kind == START:  # one that is whole would end the conversation
            return question(HELLO, number)
        return question(kind, number, address, source.randrange(1 << 32))

    def test_damaged_frames_are_not_answered(self) -> None:
        talk = Talk(self.machine, self.blank)
        source, good = random.Random(5), framed(question(HELLO, 7))
        for number in range(40):
            damaged = bytearray(good)
            place = source.randrange(1, len(good) - 1)
            if number % 3 == 0:
                damaged[place] ^= 1 << source.randrange(8)
            elif number % 3 == 1:
                del damaged[place]
            else:
                damaged.insert(place, damaged[place])
            if bytes(damaged) == good:
                continue
            talk.say(bytes(damaged) + b"\x00")
            self.assertEqual(talk.answers(1, 20_000), [], damaged.hex(" "))
        self.assertEqual(len(talk.ask(question(HELLO, 9))), 1)

    def test_several_writes_are_on_their_way(self) -> None:
        talk = Talk(self.machine, self.blank)
        if self.facts(talk)[3] == 1:
            self.skipTest("it has one place")
        blocks = [self.program(self.data, seed) for seed in range(3)]
        talk.say(
            b"".join(
                framed(write(9 + at, self.layout.begin + at * self.data, data)) for at, data in enumerate(blocks)
            )
        )
        self.assertEqual(talk.answers(3), [bytes([0x84, 9 + at, 0]) for at in range(3)])
        found = self.machine.flash[self.layout.begin :][: 3 * self.data]
        self.assertEqual(found, b"".join(blocks))
        self.assertEqual([event for event in talk.seen if event[0] == "V"], [])

    def facts(self, talk: Talk) -> bytes:
        return talk.ask(question(HELLO, 1))[0][4:]

    def test_a_whole_application_is_started_when_its_time_has_come(self) -> None:
        talk = Talk(self.machine, self.sealed(self.program(3000)))
        talk.wait(int(self.longest_s * 1e6) - 300_000)
        self.assertFalse(self.started(talk))
        talk.wait(900_000)
        self.assertTrue(self.started(talk))

    def test_one_that_is_not_is_never_started(self) -> None:
        whole = self.sealed(self.program(3000))
        damaged = bytearray(whole)
        damaged[self.layout.begin + 1234] ^= 4
        length = bytearray(whole)
        length[self.layout.seal : self.layout.seal + 4] = (self.layout.seal - self.layout.begin + 1).to_bytes(
            4, "little"
        )
        for flash in (bytes(damaged), bytes(length), self.blank):
            talk = Talk(self.machine, flash)
            talk.wait(int(3 * self.longest_s * 1e6))
            self.assertFalse(self.started(talk))
            self.assertEqual(talk.ask(question(START, 3)), [b"\x87\x03\x01"])
            self.assertEqual(talk.ask(question(HELLO, 4))[0][3], 2)

    @staticmethod
    def started(talk: Talk) -> bool:
        return any(letter == "G" for letter, _ in talk.seen)

    def test_a_question_keeps_it_listening(self) -> None:
        talk = Talk(self.machine, self.sealed(self.program(3000)))
        self.assertEqual(talk.ask(question(HELLO, 4))[0][3], 1)
        talk.wait(int(self.longest_s * 1e6) + 500_000)
        self.assertFalse(self.started(talk))
        self.assertEqual(talk.ask(question(START, 5)), [b"\x87\x05\x00"])
        talk.wait(200_000)
        self.assertTrue(self.started(talk))

    def test_a_rate_that_is_not_used_is_left_again(self) -> None:
        talk = Talk(self.machine, self.sealed(self.program(3000)))
        base, most = struct.unpack_from("<IH", self.facts(talk), 30)
        setting = max(1, round(base / 57600)) if most else round(57600 * (1 << 32) / base)
        self.assertEqual(talk.ask(question(RATE, 5, setting)), [b"\x86\x05\x00"])
        talk.wait(300_000)
        rates = [value for letter, value in talk.seen if letter == "B"]
        self.assertAlmostEqual(rates[-1] / 57600, 1, delta=0.03)
        talk.wait(700_000)
        rates = [value for letter, value in talk.seen if letter == "B"]
        self.assertAlmostEqual(rates[-1] / 115200, 1, delta=0.03)
        self.assertFalse(self.started(talk))
        self.assertEqual(len(talk.ask(question(HELLO, 6))), 1)

    def test_the_supply_may_fail_at_any_change_of_the_flash(self) -> None:
        """After each, the next reset reaches a loader that writes it all again, and nothing is started that is not
        whole."""
        pages = 3 if self.erase_unit < 1024 else 1
        size = pages * min(1024, self.erase_unit)
        old, new = self.program(size - 100, 1), self.program(size - 60, 2)
        before = self.sealed(old)
        done = 0
        for cuts in self.cuts or range(1, 1_000_000):
            done += 1
            talk = Talk(self.machine, before)
            self.machine.cut_in(cuts)
            self._upload(talk, new)
            if not any(letter == "X" for letter, _ in talk.seen):
                break
            self.machine.cut_in(0)
            left = self.machine.flash
            at, data = self.loader
            self.assertEqual(left[at : at + len(data)], data)
            after = Talk(self.machine, left)
            after.wait(int(self.longest_s * 1e6) + 700_000)
            if self.started(after):
                begin, seal = self.layout.begin, self.layout.seal
                length, sum_ = struct.unpack("<II", left[seal : seal + 8])
                self.assertEqual(binascii.crc32(left[begin : begin + length]), sum_)
                self.assertIn(left[begin : begin + length], (old, new))
                after = Talk(self.machine, left)
            self._upload(after, new)
            self.assertEqual(self.machine.flash[self.layout.begin :][: len(new)], new, cuts)
        self.machine.cut_in(0)
        self.assertGreater(done, 4)

    def _upload(self, talk: Talk, program: bytes) -> None:
        begin = self.layout.begin
        if not self.erases_itself:
            size = -(-len(program) // self.erase_unit) * self.erase_unit
            talk.ask(question(ERASE, 2, begin, size), 500_000)
        step = max(self.unit, min(256, self.data))
        for at in range(0, len(program), step):
            if self._cut(talk):
                return
            piece = program[at : at + step]
            talk.ask(write(at // step % 200 + 3, begin + at, piece + b"\xff" * (-len(piece) % self.unit)), 200_000)
        talk.ask(question(SEAL, 250, len(program), binascii.crc32(program)), 500_000)

    @staticmethod
    def _cut(talk: Talk) -> bool:
        return any(letter == "X" for letter, _ in talk.seen)
