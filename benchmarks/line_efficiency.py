"""How near an upload comes to the best legal use of its protocol, on the bench's virtual clock.

The floor is reckoned here from the documents, not from the dialects: the largest blocks, no turnaround that
could be spared, the chip's busy times. It is held against erase, write and verify; the last column shows what
entering, synchronising and asking who is there add.
"""

from __future__ import annotations

import sys
import zlib

from greenstep.bench.boards import BOARDS
from greenstep.bench.families import avr, avr_068, avr_109, lpc, pic, stm32, xmodem
from greenstep.bench.trial import run
from greenstep.core.image import Image, Piece
from greenstep.core.link import LineSettings
from greenstep.core.plan.write_options import WriteOptions

from .floors import BAUD, SIZE, Case, Floor, brought, full_image

LIMIT = 1.08
TURNAROUNDS_S = (0.001, 0.016)


def stm32_floor(kind: stm32.Stm32Kind, size: int) -> Floor:
    """AN3155: write and read of 256 bytes, three answers each; one erase command; 11 bits a character."""
    blocks = -(-size // 256)
    pages = -(-size // kind.sectors[0])
    write = 2 + 1 + 5 + 1 + 1 + 256 + 1 + 1
    read = 2 + 1 + 5 + 1 + 2 + 1 + 256
    erase = 2 + 1 + (2 + 2 * pages if kind.extended_erase else 1 + pages) + 1 + 1
    program_s = size / kind.program_unit * kind.program_s
    busy_s = program_s + pages * kind.erase_s[kind.sectors[0]]
    return Floor(blocks * (write + read) + erase, blocks * 6 + 2, busy_s, 11)


def avr_floor(kind: avr.AvrKind, size: int) -> Floor:
    """AVR061: address and page in one go, one turnaround a page; 9 ms a page."""
    pages = -(-size // kind.page)
    write = 4 + 2 + 4 + kind.page + 1 + 2
    read = 4 + 2 + 5 + 2 + kind.page
    return Floor(pages * (write + read), pages * 2, pages * 0.009)


def avr_068_floor(kind: avr_068.Avr068Kind, size: int) -> Floor:
    """AVR068: a page a message, the address counting on; 9 ms a page."""
    pages = -(-size // kind.page)
    write, read = 6 + 10 + kind.page + 8, 6 + 4 + 6 + 3 + kind.page
    return Floor(pages * (write + read), pages * 2, pages * 0.009, baud=kind.baud)


def avr_109_floor(kind: avr_109.Avr109Kind, size: int) -> Floor:
    """AVR109: a page a block, the address counting on; one erase of all; 4.5 ms a page each."""
    pages = -(-size // kind.page)
    all_pages = (kind.flash_bytes - kind.loader_bytes) / kind.page
    return Floor(
        pages * (4 + kind.page + 1 + 4 + kind.page) + 2, pages * 2 + 1, (pages + all_pages) * 0.0045, baud=57600
    )


def esp32_floor(data: bytes, baud: int) -> Floor:
    """Begin, compressed blocks of 1024 with what SLIP escapes, MD5; sectors of 45 ms, pages of 0.7 ms, MD5 0.4 s a MiB."""
    packed = zlib.compress(data, 9)
    blocks = -(-len(packed) // 1024)
    escaped = packed.count(0xC0) + packed.count(0xDB)
    sectors = -(-len(data) // 4096)
    characters = 26 + 14 + blocks * (26 + 14) + len(packed) + escaped + 26 + 46
    busy_s = sectors * 0.045 + sectors * 16 * 0.0007 + sectors * 4096 * 0.4 / (1 << 20)
    return Floor(characters, blocks + 2, busy_s, baud=baud)


def esp8266_floor(data: bytes) -> Floor:
    """Plain blocks; then for each 64 bytes the address, the start, its end and sixteen registers."""
    blocks, sectors = -(-len(data) // 1024), -(-len(data) // 4096)
    escaped = data.count(0xC0) + data.count(0xDB)
    reads = -(-len(data) // 64)
    read = 2 * (26 + 12) + 17 * (14 + 12)
    characters = 26 + 12 + blocks * (26 + 12) + len(data) + escaped + reads * read
    return Floor(characters, blocks + 1 + reads * 19, sectors * 0.045 + blocks * 4 * 0.0007)


def lpc_floor(kind: lpc.LpcKind, size: int) -> Floor:
    """UM10360: RAM, prepare, copy, with the largest copy; one reading of all that is not hidden, or one CRC."""
    copy = max(kind.counts) if kind.ram_bytes > 16384 else 1024
    copies = -(-size // copy)
    written = 18 + 3 + 8 + 3 + 24 + 3
    erase = 9 + 3 + 9 + 3 + 9 + 3
    busy_s = 0.1 + size / 256 * 0.001
    if not kind.uu:
        verify = Floor(24 + 15, 1, size * 2e-7) if kind.crc else Floor(24 + 3 + size, 1, 0)
        ok = 4 if kind.ok_after_data else 0
        turns = copies * (3 + (1 if ok else 0)) + 3
        return Floor(copies * (written + copy + ok) + erase + verify.characters, turns + 1, busy_s + verify.busy_s)

    def encoded(count: int) -> tuple[int, int]:
        lines = -(-count // 45)
        sums = -(-lines // 20)
        return lines * 3 + -(-count // 3) * 4 + sums * 12, sums

    data, sums = encoded(copy)
    back, back_sums = encoded(size - kind.shadow)
    return Floor(copies * (written + data) + erase + 24 + back, copies * (3 + sums) + 3 + 1 + back_sums, busy_s)


def an851_floor(kind: pic.PicKind, data: bytes) -> Floor:
    """Writes of 64 bytes, readings of 240; each of three values in 256 is stuffed; 2 ms a unit."""
    stuffed = sum(data.count(value) for value in (0x0F, 0x04, 0x05))
    writes, reads, rows = -(-len(data) // 64), -(-len(data) // 240), -(-len(data) // 64)
    characters = writes * (9 + 5) + reads * (9 + 9) + 2 * (len(data) + stuffed) + -(-rows // 128) * 14
    return Floor(characters, writes + reads + -(-rows // 128), len(data) / kind.write_unit * 0.002 + rows * 0.002)


def an1310_floor(kind: pic.PicKind, data: bytes) -> Floor:
    """Writes of 256 bytes, readings of 1024; each of three values in 256 is stuffed; 2 ms a unit."""
    stuffed = sum(data.count(value) for value in (0x0F, 0x04, 0x05))
    writes, reads, rows = -(-len(data) // 256), -(-len(data) // 1024), -(-len(data) // kind.erase_unit)
    characters = writes * (10 + 5) + reads * (11 + 4) + 2 * (len(data) + stuffed) + -(-rows // 64) * 15
    return Floor(characters, writes + reads + -(-rows // 64), len(data) / kind.write_unit * 0.002 + rows * 0.002)


def xmodem_floor(kind: xmodem.XmodemKind, size: int) -> Floor:
    """Blocks of 1024, each acknowledged by one character, and the end."""
    block = 1024 if kind.long else 128
    blocks = -(-size // block)
    return Floor(blocks * (block + (5 if kind.crc else 4) + 1) + 2, blocks + 1, size / 128 * kind.block_s)


def cases() -> list[Case]:
    """One or more for each dialect."""

    def image(board: str, size: int = SIZE) -> Image:
        return full_image(BOARDS[board].program("", size + 64, 3), size)

    def esp_image(board: str) -> Image:
        """The application alone, whole."""
        piece = BOARDS[board].program("", SIZE, 3).pieces[-1]
        return Image("gateway.bin", (Piece(piece.address, piece.data),))

    whole = {"options": WriteOptions(settings={"verify": "whole"})}
    fast = {"settings": LineSettings(921600)}
    found = []
    for name in ("stm32f072", "stm32f103", "stm32g071"):
        found.append(Case(name, name, image(name), stm32_floor(stm32.KINDS[name], SIZE), {}))
    found.append(
        Case("atmega328p", "atmega328p", image("atmega328p", 32256), avr_floor(avr.KINDS["atmega328p"], 32256), {})
    )
    found.append(
        Case("atmega1284p", "atmega1284p", image("atmega1284p"), avr_floor(avr.KINDS["atmega1284p"], SIZE), {})
    )
    for name in avr_068.KINDS:
        found.append(Case(name, name, image(name), avr_068_floor(avr_068.KINDS[name], SIZE), {}))
    found.append(
        Case(
            "at90usb1286", "at90usb1286", image("at90usb1286"), avr_109_floor(avr_109.KINDS["at90usb1286"], SIZE), {}
        )
    )
    gateway, gauge = esp_image("esp32"), esp_image("esp8266")
    data = gateway.pieces[0].data.ljust(-(-len(gateway.pieces[0].data) // 4096) * 4096, b"\xff")
    found.append(Case("esp32", "esp32", gateway, esp32_floor(data, BAUD), {}))
    found.append(Case("esp32", "esp32, 921600", gateway, esp32_floor(data, 921600), fast))
    found.append(Case("esp8266", "esp8266, whole", gauge, esp8266_floor(gauge.pieces[0].data), whole))
    for name in ("lpc1769", "lpc1114", "lpc845", "lpc4357"):
        found.append(Case(name, name, image(name), lpc_floor(lpc.KINDS[name], SIZE), {}))
    found.append(Case("lpc812", "lpc812, 16 KiB", image("lpc812", 16384), lpc_floor(lpc.KINDS["lpc812"], 16384), {}))
    pump = image("pic18f4620")
    found.append(
        Case("pic18f4620", "pic18f4620", pump, an851_floor(pic.AN851_KINDS["pic18f4620"], pump.pieces[0].data), {})
    )
    pump = image("pic18f46k22")
    found.append(
        Case(
            "pic18f46k22", "pic18f46k22", pump, an1310_floor(pic.AN1310_KINDS["pic18f46k22"], pump.pieces[0].data), {}
        )
    )
    for name in ("smoke-fan", "xmodem-sum"):
        stand = BOARDS[name]
        found.append(Case(name, name, image(name), xmodem_floor(xmodem.KINDS[name], SIZE), {}))
        assert stand.chip == "any"
    return [*found, *brought()]


def main() -> int:
    print("upload with verify, 32 KiB; the floor is the best legal use of the protocol\n")
    print(
        f"{'chip':<15} {'baud':>6} {'turn':>6}   {'bits':>8} {'turns':>8} {'busy':>8} {'floor':>8} {'took':>8} {'ratio':>7} {'in all':>8}"
    )
    failed = False
    for case in cases():
        for turnaround_s in TURNAROUNDS_S:
            trial = run(case.board, {"flash": case.image}, turnaround_s=turnaround_s, start=False, **case.options)
            assert trial.end.exit_code == 0 and trial.holds(case.image), trial.events[-4:]
            took = sum(step.elapsed_s for step in map(trial.step_or_none, ("erase", "write", "verify")) if step)
            wanted = case.floor.seconds(turnaround_s)
            ratio = took / wanted
            over = ratio > LIMIT
            failed = failed or over
            print(
                f"{case.name:<15} {case.floor.baud:>6} {turnaround_s * 1000:>3.0f} ms   {case.floor.bits_s:>6.2f} s "
                f"{case.floor.turnarounds * turnaround_s:>6.2f} s {case.floor.busy_s:>6.2f} s {wanted:>6.2f} s {took:>6.2f} s "
                f"{ratio:>7.3f} {trial.end.elapsed_s:>6.2f} s{f'  over {LIMIT}' if over else ''}"
            )
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
