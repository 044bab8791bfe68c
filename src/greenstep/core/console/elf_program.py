"""A program's ELF file, read by pyelftools: which function, file and line an address belongs to."""

from __future__ import annotations

import gc
import io
import posixpath
import struct
from bisect import bisect_right
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

from ..errors import usage
from ..frozen import frozen
from ..safety.plain_files import read_plain
from .line_table import LineTable, decode

if TYPE_CHECKING:
    from elftools.dwarf.compileunit import CompileUnit
    from elftools.dwarf.die import DIE

_FUNCTION, _INLINED, _BLOCK = "DW_TAG_subprogram", "DW_TAG_inlined_subroutine", "DW_TAG_lexical_block"
_LOOKED_INTO = (_INLINED, _BLOCK, "DW_TAG_try_block", "DW_TAG_catch_block")
_STT_FUNC = 2
_EXECUTABLE = 0x4
_NAME_HOPS = 8
_LOW = 0x10000
LARGEST_ELF_BYTES = 1 << 30


@frozen
class CallFrame:
    """`file` and `line` are empty and 0 if they are not known. An `inlined` function has no code of its own there:
    the next frame is the one that called it."""

    function: str
    file: str = ""
    line: int = 0
    inlined: bool = False


@frozen
class _Function:
    """One with code: the spans of its addresses, and its entry."""

    spans: tuple[tuple[int, int], ...]
    die: Any


class _Unit:
    """What was read of one compilation unit; each part once."""

    def __init__(self, unit: CompileUnit, program: Program) -> None:
        self.unit, self._program = unit, program
        self._top: DIE = unit.get_top_DIE()
        self._lines: tuple[LineTable, Any] | None = None
        self._functions: list[_Function] | None = None
        self._inside: dict[int, list[tuple[int, tuple[tuple[int, int], ...], Any]]] = {}

    def place(self, address: int) -> tuple[str, int]:
        """(file, line) by the line table."""
        table, header = self._line_table()
        row = table.at(address) if table is not None else None
        return ("", 0) if row is None else (self._file(header, row[0]), row[1])

    def frames(self, address: int) -> list[CallFrame]:
        """Innermost first; empty if no function of the unit has this address."""
        function = self._function_at(address)
        file, line = self.place(address)
        if function is None:
            return [CallFrame(self._before(address), file, line)] if file else []
        inlined = [die for _, spans, die in self._calls_in(function) if _within(spans, address)]
        frames = []
        for die in reversed(inlined):
            frames.append(CallFrame(self.name_of(die), file, line, inlined=True))
            header = self._line_table()[1]
            called_from = die.attributes.get("DW_AT_call_file")
            file = self._file(header, called_from.value) if called_from is not None and header is not None else ""
            at_line = die.attributes.get("DW_AT_call_line")
            line = at_line.value if at_line is not None else 0
        return [*frames, CallFrame(self.name_of(function.die), file, line)]

    def _line_table(self) -> tuple[Any, Any]:
        if self._lines is None:
            program = self._program.dwarf.line_program_for_CU(self.unit)
            if program is None:
                return None, None
            program.stream.seek(program.program_start_offset)
            data = program.stream.read(program.program_end_offset - program.program_start_offset)
            big = not self._program.dwarf.config.little_endian
            self._lines = decode(program.header, data, self.unit["address_size"], big), program.header
        return self._lines

    def _file(self, header: Any, number: int) -> str:
        """A file of the line table, by the number it has there: from 0 since DWARF 5, from 1 before."""
        newer = header.version >= 5
        place = number if newer else number - 1
        if not 0 <= place < len(header.file_entry):
            return ""
        entry = header.file_entry[place]
        name = _text(entry.name)
        folders = [_text(folder) for folder in header.include_directory]
        within = entry.dir_index if newer else entry.dir_index - 1
        folder = folders[within] if 0 <= within < len(folders) else ""
        made_in = self._top.attributes.get("DW_AT_comp_dir")
        built = _text(made_in.value) if made_in is not None and not (newer and within == 0) else ""
        return posixpath.normpath(posixpath.join(built, folder, name))

    def _function_at(self, address: int) -> _Function | None:
        """The one with the smallest span that has the address."""
        if self._functions is None:
            self._functions = [
                _Function(spans, die)
                for die in self._every_function(self._top)
                if (spans := self._program.spans_of(die, self.base))
            ]
        found = [
            (end - start, number)
            for number, function in enumerate(self._functions)
            for start, end in function.spans
            if start <= address < end
        ]
        return self._functions[min(found)[1]] if found else None

    def _before(self, address: int) -> str:
        """The function that the padding at an address follows."""
        ends = [(end, n) for n, one in enumerate(self._functions or ()) for _, end in one.spans if end <= address]
        return self.name_of(self._functions[max(ends)[1]].die) if self._functions and ends else "?"

    def _every_function(self, die: DIE) -> Iterator[DIE]:
        for child in _children(die):
            if child.tag == _FUNCTION:
                yield child
            elif child.tag in ("DW_TAG_namespace", "DW_TAG_class_type", "DW_TAG_structure_type"):
                yield from self._every_function(child)

    def _calls_in(self, function: _Function) -> list[tuple[int, tuple[tuple[int, int], ...], Any]]:
        """(depth, spans, entry) of every inlined call in a function, outer ones first."""
        key = function.die.offset
        if key not in self._inside:
            self._inside[key] = list(self._inlined(function.die, 0))
        return self._inside[key]

    def _inlined(self, die: DIE, depth: int) -> Iterator[tuple[int, tuple[tuple[int, int], ...], DIE]]:
        for child in _children(die):
            if child.tag == _INLINED:
                yield depth, self._program.spans_of(child, self.base), child
            if child.tag in _LOOKED_INTO:
                yield from self._inlined(child, depth + 1)

    @property
    def base(self) -> int:
        low = self._top.attributes.get("DW_AT_low_pc")
        return low.value if low is not None else 0

    def name_of(self, die: DIE) -> str:
        """Its name, which may stand at the entry that it is an instance of."""
        for _ in range(_NAME_HOPS):
            for attribute in ("DW_AT_linkage_name", "DW_AT_MIPS_linkage_name", "DW_AT_name"):
                if attribute in die.attributes:
                    return readable_name(_text(die.attributes[attribute].value))
            other = next((n for n in ("DW_AT_abstract_origin", "DW_AT_specification") if n in die.attributes), None)
            if other is None:
                break
            die = die.get_DIE_from_attribute(other)
        return "?"


class Program:
    """An open ELF file. What is looked up once is known from then on."""

    def __init__(self, stream: BinaryIO, name: str) -> None:
        from elftools.elf.elffile import ELFFile

        self.name = name
        self.elf = ELFFile(stream)
        self.machine = str(self.elf["e_machine"])
        described = any(self.elf.get_section_by_name(name) for name in (".debug_info", ".zdebug_info"))
        self.dwarf: Any = self.elf.get_dwarf_info(relocate_dwarf_sections=False) if described else None
        self._code = [
            (section["sh_addr"], section["sh_addr"] + section["sh_size"])
            for section in self.elf.iter_sections()
            if section["sh_flags"] & _EXECUTABLE and section["sh_addr"]
        ]
        self._units: dict[int, _Unit] = {}
        self._starts, self._offsets = self._index()
        self._found: dict[int, tuple[CallFrame, ...]] = {}
        self._symbols: tuple[list[int], list[tuple[int, str]]] | None = None

    @classmethod
    def open(cls, path: Path) -> Program:
        """Raises UsageFault for a file that is missing, damaged, or no ELF file."""
        try:
            data = read_plain(path, LARGEST_ELF_BYTES)  # the next build may write the file anew at any time
        except OSError as error:
            raise usage("elf-file", f"{path}: {error.strerror or error}", "--elf build/app.elf") from None
        try:
            return cls(io.BytesIO(data), path.name)
        except _damaged() as error:
            why = next(iter(str(error).strip().splitlines()), "")[:80]
            raise usage(
                "elf-file",
                f"{path.name} cannot be read as an ELF file{': ' if why else ''}{why}",
                "the .elf of the build, as the linker wrote it",
            ) from None

    @property
    def build_id(self) -> str:
        """The linker's build id, in hexadecimal; empty if there is none."""
        section: Any = self.elf.get_section_by_name(".note.gnu.build-id")
        if section is None:
            return ""
        return next((str(note["n_desc"]) for note in section.iter_notes() if note["n_type"] == "NT_GNU_BUILD_ID"), "")

    @property
    def without_lines(self) -> str:
        """Why no address has a line, in words; empty if some may have."""
        if self.has_lines:
            return ""
        if self.elf.get_section_by_name(".stab") is not None:
            return "its line numbers are stabs, which are not read: compile with -gdwarf"
        return "it has no line numbers: compile with -g"

    @property
    def has_lines(self) -> bool:
        """Whether the file has DWARF, and so more than function names."""
        return self.dwarf is not None

    def is_code(self, address: int) -> bool:
        """Whether the address lies in a section that is executed."""
        return any(start <= address < end for start, end in self._code)

    @property
    def begins_low(self) -> bool:
        """Whether its code begins near 0, where any number may be an address of it."""
        return any(start < _LOW for start, _ in self._code)

    def code_address(self, value: int) -> int | None:
        """The address of code that a register or a dump shows as `value`; None if there is no code. Thumb has bit 0
        set (Armv7-M Architecture Reference Manual, "Interworking"); the windowed ABI of Xtensa keeps the call's size
        in the top two bits of a return address (Xtensa ISA, "Windowed Register Option")."""
        if self.machine == "EM_ARM":
            value &= ~1
        if self.is_code(value):
            return value
        windowed = value & 0x3FFFFFFF | 0x40000000
        return windowed if self.machine == "EM_XTENSA" and self.is_code(windowed) else None

    def frames(self, address: int) -> tuple[CallFrame, ...]:
        """The functions that are under way at an address, innermost first; empty if none is known."""
        if address not in self._found:
            try:
                with _uncollected():
                    found = self._by_dwarf(address)
            except _damaged():
                found = []
            self._found[address] = tuple(found or self._by_symbol(address))
        return self._found[address]

    def _by_dwarf(self, address: int) -> list[CallFrame]:
        place = bisect_right(self._starts, address) - 1
        if place < 0:
            return []
        end, offset = self._offsets[place]
        if address >= end:
            return []
        if offset not in self._units:
            self._units[offset] = _Unit(self.dwarf.get_CU_at(offset), self)
        return self._units[offset].frames(address)

    def _index(self) -> tuple[list[int], list[tuple[int, int]]]:
        """Where each run of code begins, and (its end, its unit): by .debug_aranges, and for the units that are not
        in it by their own entry."""
        if self.dwarf is None:
            return [], []
        runs: list[tuple[int, int, int]] = []
        ranges = self.dwarf.get_aranges()
        known = set()
        for entry in ranges.entries if ranges is not None else ():
            runs.append((entry.begin_addr, entry.begin_addr + entry.length, entry.info_offset))
            known.add(entry.info_offset)
        for unit in self.dwarf.iter_CUs():
            if unit.cu_offset not in known:
                top = unit.get_top_DIE()
                low = top.attributes.get("DW_AT_low_pc")
                spans = self.spans_of(top, low.value if low is not None else 0)
                runs += [(start, end, unit.cu_offset) for start, end in spans]
        runs = sorted(run for run in runs if run[0] and run[1] > run[0])
        return [start for start, _, _ in runs], [(end, offset) for _, end, offset in runs]

    def spans_of(self, die: DIE, base: int) -> tuple[tuple[int, int], ...]:
        """The spans of code of an entry: one, or a list of them (DWARF 5, section 2.17)."""
        from elftools.dwarf.descriptions import describe_form_class

        low, high = die.attributes.get("DW_AT_low_pc"), die.attributes.get("DW_AT_high_pc")
        if low is not None and high is not None:
            constant = describe_form_class(high.form) == "constant"
            return ((low.value, low.value + high.value if constant else high.value),)
        ranges = die.attributes.get("DW_AT_ranges")
        lists = self.dwarf.range_lists()
        if ranges is None or lists is None:
            return ()
        spans = []
        for entry in lists.get_range_list_at_offset(ranges.value, cu=die.cu):
            if hasattr(entry, "base_address"):
                base = entry.base_address
            elif getattr(entry, "is_absolute", False):
                spans.append((entry.begin_offset, entry.end_offset))
            else:
                spans.append((base + entry.begin_offset, base + entry.end_offset))
        return tuple(spans)

    def _by_symbol(self, address: int) -> list[CallFrame]:
        """By the symbol table, where DWARF has nothing: the ROM's functions, assembler, a file without DWARF."""
        if self._symbols is None:
            self._symbols = self._read_symbols()
        starts, ends = self._symbols
        place = bisect_right(starts, address) - 1
        if place < 0:
            return []
        end, name = ends[place]
        return [CallFrame(readable_name(name))] if address < end else []

    def _read_symbols(self) -> tuple[list[int], list[tuple[int, str]]]:
        table = self.elf.get_section_by_name(".symtab")
        if table is None:
            return [], []
        size, order = table["sh_entsize"], "<" if self.elf.little_endian else ">"
        # Elf32_Sym: name, value, size, info, other, section; Elf64_Sym: name, info, other, section, value, size
        wide = self.elf.elfclass == 64
        layout = struct.Struct(order + ("IBBHQQ" if wide else "IIIBBH"))
        names: Any = self.elf.get_section(table["sh_link"])
        thumb = self.machine == "EM_ARM"
        found = []
        if size != layout.size or not hasattr(names, "get_string"):  # a damaged table
            return [], []
        for row in layout.iter_unpack(table.data()[: table["sh_size"] // size * size]):
            name, info, value, length = (row[0], row[1], row[4], row[5]) if wide else (row[0], row[3], row[1], row[2])
            if info & 15 == _STT_FUNC and value:
                start = value & ~1 if thumb else value
                found.append((start, start + length, name))
        found.sort()
        return [start for start, _, _ in found], [(end, names.get_string(name)) for _, end, name in found]


def readable_name(name: str) -> str:
    """A function's name without what the compiler adds to the name of a clone."""
    return name.partition(".constprop")[0].partition(".isra")[0].partition(".part")[0]


@contextmanager
def _uncollected() -> Iterator[None]:
    """What is read of a unit is kept: the collector would go through all of it again and again meanwhile."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def _children(die: DIE) -> Iterator[DIE]:
    """Each further on in the file than the one before: in a damaged one they may go round in circles."""
    last = die.offset
    for child in die.iter_children():
        if child.offset <= last:
            return
        last = child.offset
        yield child


def _within(spans: tuple[tuple[int, int], ...], address: int) -> bool:
    return any(start <= address < end for start, end in spans)


def _text(value: Any) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)


def _damaged() -> tuple[type[Exception], ...]:
    """What is raised inside pyelftools when a table of a damaged file points anywhere."""
    from elftools.common.exceptions import DWARFError, ELFError
    from elftools.construct import ConstructError

    return (
        ELFError, DWARFError, ConstructError, struct.error, ValueError, KeyError, IndexError, AttributeError,
        TypeError, OverflowError, MemoryError, AssertionError, OSError, RecursionError, NotImplementedError,
        ZeroDivisionError,
    )  # fmt: skip
