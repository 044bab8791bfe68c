"""Conversations that no layout of single frames explains: several exchanges make a command, frames share an exchange,
or words are sent. Each function takes all exchanges and yields rows; a dialect names its own."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ..quantities import count, show_bytes, show_heard
from .decoding import DecodedExchange, Exchanges, placed, row, unknown

if TYPE_CHECKING:
    from ..dialects.smp_exchange import Packet

Rows = Iterator[DecodedExchange]


def avr_061(exchanges: Exchanges) -> Rows:
    """One row per command; a page goes with the address before it."""
    from ..dialects.avr_061 import IN_SYNC, OK, Command

    address = 0
    for index, (sent, heard) in enumerate(exchanges):
        command, detail, place = "", show_bytes(sent, 12), None
        good = heard.endswith(bytes([OK]))
        if sent[:1] == bytes([Command.LOAD_ADDRESS]) and len(sent) >= 4:
            address = 2 * int.from_bytes(sent[1:3], "little")
            command, detail = "load address", f"{address:04X}"
            sent = sent[4:] or sent
        if sent[:1] in (bytes([Command.PROGRAM_PAGE]), bytes([Command.READ_PAGE])) and len(sent) >= 5:
            verb = "write page" if sent[0] == Command.PROGRAM_PAGE else "read page"
            command = f"{verb} ({'EEPROM' if sent[3:4] == b'E' else 'flash'})"
            place = address, int.from_bytes(sent[1:3], "big")
            detail = placed(*place, 4)
        elif sent[:1] and Command.known(sent[0]) and command != "load address":
            command = Command.of(sent[0]).words
            plain = heard[:2] == bytes([IN_SYNC, OK])
            detail = f"then {show_heard(heard[2:])}" if plain and len(heard) > 2 else ""
            detail = show_bytes(heard[1:-1]) if len(heard) > 2 and not plain and good else detail
            good = good or plain
        answered = f"answered {show_bytes(heard, 6)}" if heard else "no answer"
        yield row(index, command, detail, answered if command and not good else "", place if good else None)


def doorstep(exchanges: Exchanges) -> Rows:
    """One row for what was sent in a row: a question, or several writes; and what the answers said, which may have
    come when more was on its way already."""
    from ..dialects.doorstep_frames import HEAD_BYTES, Kind, Status

    answers = [_messages(heard) for _, heard in exchanges]
    for index, (sent, _) in enumerate(exchanges):
        asked = [message for message in _messages(sent) if message[0] in list(Kind) and len(message) >= HEAD_BYTES]
        if not asked:
            yield row(index, "", count(len(sent), "byte") if sent else "text")
            continue
        statuses = [_status(message, answers[index : index + 1 + len(asked) + 3]) for message in asked]
        refused = [status for status in statuses if status]
        places = [place for message in asked if (place := _doorstep_place(message)) is not None]
        detail = ", ".join(placed(*place) for place in places[:2])
        if len(asked) > 1:
            detail += f"{'; ' if detail else ''}{len(asked)} on their way"
        words = Status(refused[0] & 3).words if refused else ""
        answered = "no answer" if None in statuses else words
        place = places[0] if len(places) == len(asked) == 1 else None
        yield row(index, Kind(asked[0][0]).words, detail, answered, place)


def _messages(data: bytes) -> list[bytes]:
    """The whole messages in what was sent or heard."""
    from ..dialects.doorstep_frames import CRC_BYTES, opened

    return [message for frame in data.split(b"\x00") if len(frame) > CRC_BYTES and (message := opened(frame))]


def _status(message: bytes, answers: Sequence[Sequence[bytes]]) -> int | None:
    """The status that a question was answered with; None if it was not."""
    from ..dialects.doorstep_frames import ANSWER

    wanted = (message[0] | ANSWER, message[1])
    told = (answer for several in answers for answer in several if len(answer) >= 3)
    return next((answer[2] for answer in told if (answer[0], answer[1]) == wanted), None)


def _doorstep_place(message: bytes) -> tuple[int, int] | None:
    """Address and size, of questions that have one."""
    from ..dialects.doorstep_frames import HEAD_BYTES, Kind

    kind = Kind(message[0])
    if kind not in (Kind.DIGEST, Kind.ERASE, Kind.WRITE, Kind.READ):
        return None
    address = int.from_bytes(message[2:HEAD_BYTES], "little")
    if kind is Kind.WRITE:
        return address, len(message) - HEAD_BYTES
    second = int.from_bytes(message[HEAD_BYTES : HEAD_BYTES + 4], "little")
    return address, (second & 0xFFFF) * (second >> 16) if kind is Kind.DIGEST else second


def lpc_isp(exchanges: Exchanges) -> Rows:
    """One row per command; data is counted."""
    from ..dialects.lpc_isp import Command

    for index, (sent, heard) in enumerate(exchanges):
        words = sent.split()
        if len(sent) < 48 and words and (words[0] == b"?" or (len(words[0]) == 1 and Command.known(words[0][0]))):
            name = "synchronise" if words[0] == b"?" else Command.of(words[0][0]).words
            code = heard.strip().split(b"\r\n")[0]
            answered = "" if code == b"0" else f"answered {show_heard(code)}" if code else "no answer"
            yield row(index, name, " ".join(word.decode("latin-1") for word in words[1:]), answered)
        elif len(sent) >= 48:
            yield row(index, "data", count(len(sent), "character"))
        else:
            yield unknown(index, sent)


def msp430_slau319(exchanges: Exchanges) -> Rows:
    """One row per frame, and what synchronised before it."""
    from ..dialects.msp430_slau319 import Command

    before = 0
    for index, (sent, heard) in enumerate(exchanges):
        if sent == b"\x80" and heard[:1] == b"\x90" and index < len(exchanges) - 1:
            before += 1
            continue
        times, before = before + 1, 0
        if sent == b"\x80":
            yield row(index, "synchronise", show_bytes(heard, 8) if heard else "no answer", exchanges=times)
            continue
        if len(sent) < 10 or sent[0] != 0x80 or not Command.known(sent[1]):
            yield row(index, "", show_bytes(sent, 12), exchanges=times)
            continue
        command = Command.of(sent[1])
        place = int.from_bytes(sent[4:6], "little"), int.from_bytes(sent[6:8], "little")
        detail = placed(*place, 4) if command in (Command.WRITE, Command.READ) else ""
        detail = f"{place[0]:04X}" if command is Command.GO else detail
        answered = {b"\x90": "", b"\x80": "", b"\xa0": "refused", b"": "no answer"}.get(
            heard[:1], show_bytes(heard, 8)
        )
        yield row(index, command.words, detail, answered, place if command is Command.WRITE else None, times)


def nrf5_dfu(exchanges: Exchanges) -> Rows:
    """One row per exchange; writes, which are not answered, go with the command that follows them."""
    from ..dialects.nrf5_dfu import RESULTS, Command
    from ..dialects.slip import unescaped

    kinds = {1: "packet", 2: "program"}
    for index, (sent, heard) in enumerate(exchanges):
        frames = [unescaped(frame) for frame in sent.split(b"\xc0") if frame]
        written = sum(len(frame) - 1 for frame in frames if frame[0] == Command.WRITE)
        last = next((frame for frame in reversed(frames) if frame[0] != Command.WRITE), b"")
        if not last or not Command.known(last[0]):
            yield row(index, Command.WRITE.words, count(written, "byte")) if written else unknown(index, sent)
            continue
        command, detail = Command.of(last[0]), f"{count(written, 'byte')} before" if written else ""
        if command is Command.CREATE and len(last) == 6:
            detail = f"{kinds.get(last[1], 'unknown')}, {count(int.from_bytes(last[2:], 'little'), 'byte')}"
        elif command is Command.SELECT and len(last) == 2:
            detail = kinds.get(last[1], "unknown")
        told = unescaped(heard.strip(b"\xc0").split(b"\xc0")[-1])
        refused = RESULTS.get(told[2], show_bytes(told, 8)) if len(told) > 2 and told[2] != 1 else ""
        yield row(index, command.words, detail, refused if heard else "no answer")


def nuvoton_isp(exchanges: Exchanges) -> Rows:
    """One row per packet; the one that begins an update says how much follows."""
    from ..dialects.nuvoton_isp import PACKET_BYTES, Command

    address, left = 0, 0
    for index, (sent, heard) in enumerate(exchanges):
        number = int.from_bytes(sent[:4], "little")
        if len(sent) != PACKET_BYTES or not Command.known(number):
            yield unknown(index, sent)
            continue
        command, place, detail = Command.of(number), None, ""
        if command is Command.UPDATE:
            address, left = (int.from_bytes(sent[at : at + 4], "little") for at in (8, 12))
        if command in (Command.UPDATE, Command.DATA):
            place = address, min(left, 48 if command is Command.UPDATE else 56)
            detail = placed(*place)
            address, left = sum(place), left - place[1]
        elif command is Command.DEVICE_ID and len(heard) >= 12:
            detail = heard[8:12][::-1].hex().upper()
        sums_differ = int.from_bytes(heard[:2], "little") != sum(sent) & 0xFFFF
        yield row(
            index, command.words, detail, ("another sum" if sums_differ else "") if heard else "no answer", place
        )


def nxp_mcu(exchanges: Exchanges) -> Rows:
    """One row per frame; data go on from the address of the command before them."""
    from ..dialects.nxp_packets import COMMAND, DATA, PING, START, Answer, Command

    address = 0
    for index, (sent, heard) in enumerate(exchanges):
        data = sent.removeprefix(b"\x5a\xa1")
        said = Answer.of(data[6:]) if data[:2] == bytes([START, COMMAND]) else None
        place, detail = None, ""
        if said is not None and Command.known(said.tag):
            words, numbers = Command.of(said.tag).words, said.parameters
            if said.tag == Command.GET_PROPERTY and numbers:
                detail = f"{numbers[0]:02X}"
            elif len(numbers) > 1:
                detail, address = placed(numbers[0], numbers[1]), numbers[0]
        elif data[:2] == bytes([START, DATA]) and len(data) > 6:
            words, place = "data", (address, len(data) - 6)
            detail, address = placed(*place), sum(place)
        elif data == bytes([START, PING]):
            words = "ping"
        else:
            words = "" if data or not sent else "acknowledge"
            detail = show_bytes(data or heard, 12)
        yield row(index, words, detail, "no answer" if words and not heard else "", place)


def propeller_1(exchanges: Exchanges) -> Rows:
    """One row per exchange: the line carries bits in characters of its own."""
    from ..dialects.propeller_1 import HANDSHAKE, TEMPLATE

    for index, (sent, heard) in enumerate(exchanges):
        data = sent.rstrip(bytes([TEMPLATE]))
        if sent.startswith(HANDSHAKE[:251]):
            yield row(index, "handshake", f"{count(len(heard), 'bit')} back" if heard else "no answer")
        elif len(data) >= 11:  # characters a long
            yield row(index, "load", count(len(data) // 11, "long"), f"told {show_bytes(heard, 4)}" if heard else "")
        elif not data:
            yield row(index, "room for an answer", show_bytes(heard, 4) if heard else "none yet")
        else:
            yield unknown(index, sent)


def propeller_2(exchanges: Exchanges) -> Rows:
    """One row per exchange."""
    from ..dialects.propeller_2 import CHECK, TEXT

    for index, (sent, heard) in enumerate(exchanges):
        told = show_heard(heard[:40]) if heard else "no answer"
        if sent.startswith(CHECK):
            yield row(index, "check", told)
        elif sent.startswith((TEXT, b">")):
            yield row(index, "load", count(len(sent), "character"), told)
        else:
            yield unknown(index, sent)


def rp2350_uart(exchanges: Exchanges) -> Rows:
    """One row per exchange; writes and reads in a row are one."""
    from ..dialects.rp2350_uart import KNOCK, Command

    for index, (sent, heard) in enumerate(exchanges):
        data = sent.removeprefix(KNOCK)
        if not data or not Command.known(data[0]):
            yield row(index, "knock") if sent == KNOCK else unknown(index, sent)
            continue
        command = Command.of(data[0])
        each = {Command.WRITE: 33, Command.READ: 1}.get(command)  # characters a block
        detail = f"{count(len(data) // each, 'block')} of 32 bytes" if each else ""
        yield row(index, command.words, detail, "" if heard or command is Command.READ else "no answer")


_SAM_BA = re.compile(rb"#?([OoHhWwSRGNTV])([0-9A-Fa-f]*),?([0-9A-Fa-f]*)#C?$")
_SAM_BA_WORDS = {
    "O": "write byte", "o": "read byte", "H": "write half-word", "h": "read half-word",
    "W": "write word", "w": "read word", "S": "send file", "R": "receive file",
    "G": "go", "N": "binary mode", "T": "terminal mode", "V": "version",
}  # fmt: skip


def sam_ba(exchanges: Exchanges) -> Rows:
    """One row per command; the blocks of a file are counted in one."""
    blocks = 0
    for index, (sent, heard) in enumerate(exchanges):
        if len(sent) > 100 or sent in (b"C", b"\x06", b"\x04"):
            blocks += 1
            continue
        if blocks:
            yield row(index - 1, "file", count(blocks, "exchange"), exchanges=blocks)
            blocks = 0
        found = _SAM_BA.search(sent)
        if found is None:
            yield unknown(index, sent)
            continue
        letter, first, second = (part.decode() for part in found.groups())
        detail = f"{first}, {count(int(second, 16), 'byte')}" if letter in "SR" and second else first
        if letter == "w" and len(heard) == 4:
            detail = f"{first}: {int.from_bytes(heard, 'little'):08X}"
        answered = "no answer" if not heard and letter in "whoNTV" else ""
        yield row(index, _SAM_BA_WORDS[letter], detail, answered)
    if blocks:
        yield row(len(exchanges) - 1, "file", count(blocks, "exchange"), exchanges=blocks)


def smp(exchanges: Exchanges) -> Rows:
    """One row per packet: what was asked, and what the answer says."""
    from ..dialects.smp_exchange import Command, decoded

    for index, (sent, heard) in enumerate(exchanges):
        asked, told = _smp_packet(sent), _smp_packet(heard)
        if asked is None or not Command.known(asked.command):
            yield row(index, "", count(len(sent), "byte") if sent else "text")
            continue
        values = decoded(asked.body) or {}
        data, off = values.get("data"), values.get("off")
        place = (off, len(data)) if isinstance(data, bytes) and isinstance(off, int) else None
        answer = None if told is None else decoded(told.body)
        answered = "no answer" if answer is None else f"rc {answer['rc']}" if answer.get("rc") else ""
        yield row(index, Command.of(asked.command).words, placed(*place) if place else "", answered, place)


def _smp_packet(data: bytes) -> Packet | None:
    """The first whole packet in what was sent or heard."""
    from ..dialects.smp_exchange import Collector

    lines = Collector()
    return next((packet for line in data.split(b"\n") if (packet := lines.take(line)) is not None), None)


def stm32_rom(exchanges: Exchanges) -> Rows:
    """One row per command: its code, address and data are exchanges of the same row."""
    from ..dialects.stm32_rom import SYNC, Command

    index = 0
    while index < len(exchanges):
        sent, heard = exchanges[index]
        if sent and not sent.strip(bytes([SYNC])):
            found = row(index, "sync", show_bytes(heard, 4) if heard else "no answer")
        elif len(sent) < 2 or sent[0] ^ sent[1] != 0xFF or not Command.known(sent[0]):
            found = row(index, "", f"{show_bytes(sent, 8)} {show_bytes(heard, 8)}".strip())
        else:
            found = _stm32_command(exchanges, index)
        yield found
        index += found.count


def _stm32_command(exchanges: Exchanges, first: int) -> DecodedExchange:
    """The row of the command whose code is sent in exchange `first`."""
    from ..dialects.stm32_rom import ACK, Command

    sent, heard = exchanges[first]
    command, ack = Command.of(sent[0]), bytes([ACK])
    if heard[:1] != ack:
        return row(first, command.words, f"refused, {show_bytes(heard, 4)}" if heard else "no answer")
    frames = {Command.READ: 2, Command.WRITE: 2, Command.GO: 1, Command.CHECKSUM: 4,
              Command.ERASE: 1, Command.EXTENDED_ERASE: 1, Command.WRITE_PROTECT: 1}.get(command, 0)  # fmt: skip
    parts = exchanges[first + 1 : first + 1 + frames]
    refused = [f"answered {show_bytes(answer, 4) or 'nothing'}" for _, answer in parts if answer[:1] != ack]
    answered, covered = "".join(refused[:1]), 1 + len(parts)
    if command in (Command.READ, Command.WRITE, Command.GO) and parts and len(parts[0][0]) == 5:
        address = int.from_bytes(parts[0][0][:4], "big")
        size = parts[1][0][0] + 1 if len(parts) > 1 and parts[1][0] else 0
        place = (address, size) if size else None
        return row(first, command.words, placed(*place) if place else f"{address:08X}", answered, place, covered)
    if command in (Command.ERASE, Command.EXTENDED_ERASE) and parts:
        width, all_of_it = (1, 0xFF) if command is Command.ERASE else (2, 0xFFF0)
        number = int.from_bytes(parts[0][0][:width], "big")
        units = "everything" if number >= all_of_it else count(number + 1, "unit")
        return row(first, command.words, units, answered, None, covered)
    return row(first, command.words, show_bytes(heard[1:-1], 16), exchanges=covered)


def xmodem(exchanges: Exchanges) -> Rows:
    """One row per block."""
    from ..dialects.xmodem import ACK, CAN, EOT, LONG, NAK, SHORT, SOH, STX

    for index, (sent, heard) in enumerate(exchanges):
        answered = {ACK: "", NAK: "refused", CAN: "cancelled"}.get(heard[0] if heard else 0, "no answer")
        if sent[:1] in (bytes([SOH]), bytes([STX])) and len(sent) > SHORT:
            size = SHORT if sent[0] == SOH else LONG
            yield row(index, "block", f"number {sent[1]}, {count(size, 'byte')}", answered)
        elif sent == bytes([EOT]):
            yield row(index, "end of transfer", "", answered)
        else:
            yield unknown(index, sent)
