"""Images to files: in the requested format, never replacing an existing file unless told to."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Literal

from greenstep.core.errors import usage
from greenstep.core.image import Image
from greenstep.core.image.edit import filled
from greenstep.core.image.intel_hex import write_intel_hex
from greenstep.core.image.s_record import write_s_record
from greenstep.core.image.ti_txt import write_ti_txt
from greenstep.core.quantities import count, show_address, show_size, show_span
from greenstep.core.safety.plain_files import NO_FILE, is_replaceable

from .whole_files import write_whole

Kind = Literal["hex", "s-record", "ti-txt", "raw"]
KINDS: dict[Kind, tuple[str, ...]] = {
    "hex": (".hex", ".ihex"),
    "s-record": (".s19", ".s28", ".s37", ".srec", ".mot"),
    "ti-txt": (".txt",),
    "raw": (".bin", ".img", ".raw"),
}
"""Formats that can be written, and the endings that select them."""
LARGEST_RAW_BYTES = 64 << 20
_TITLES: dict[Kind, str] = {"hex": "Intel HEX", "s-record": "S-record", "ti-txt": "TI-TXT", "raw": "raw binary"}
_LONGEST_LINE: dict[Kind, int] = {"hex": 255, "s-record": 250, "ti-txt": 255, "raw": 255}


def kind_for(path: Path, said: Kind | None) -> Kind:
    """The requested format, else the ending's. Raises UsageFault."""
    if said is not None:
        return said
    for kind, endings in KINDS.items():
        if path.suffix.lower() in endings:
            return kind
    raise usage("format", f"{path.name}: its ending does not name a format", f"name one: --as {' or '.join(KINDS)}")


def check_place(path: Path, replace: bool) -> None:
    """Before any work: may the file be written, or replaced? Raises UsageFault."""
    check_new(path, replace)
    if not is_replaceable(path):
        raise usage("no-file", f"{path} cannot be replaced: {NO_FILE}", "another name")


def check_new(path: Path, replace: bool) -> None:
    """The same for one that is written where it is. Raises UsageFault."""
    if path.exists() and not replace:
        raise usage("file-there", f"{path} is there already", "another name, or --replace")
    if not path.resolve().parent.is_dir():
        raise usage("no-folder", f"there is no folder {path.resolve().parent}", "make it first")


def save_image(path: Path, image: Image, kind: Kind, fill: int, record_bytes: int) -> tuple[str, tuple[str, ...]]:
    """Write the file, completely or not at all. Returns what it is in words, and what of the image the format cannot
    hold. Raises UsageFault."""
    if not 1 <= record_bytes <= _LONGEST_LINE[kind]:
        raise usage(
            "record-bytes",
            f"{record_bytes} bytes a line of {_TITLES[kind]}",
            f"1 to {_LONGEST_LINE[kind]} are possible",
        )
    notes = []
    if kind == "raw":
        gaps = image.end - image.lowest - image.size_bytes
        if image.end - image.lowest > LARGEST_RAW_BYTES and gaps:
            raise usage(
                "raw-too-large",
                f"as raw binary {image.name} would be {show_size(image.end - image.lowest)}, "
                f"{show_size(gaps)} of it gaps",
                "cut out what is wanted: greenstep image cut",
                "or keep the addresses: --as hex",
            )
        if gaps:
            notes.append(f"{count(gaps, 'byte')} of gaps are {fill:02X}")
        notes.append(f"raw binary has no addresses: it belongs at 0x{image.lowest:X}")
        content: Iterator[bytes] = iter((filled(image, fill).pieces[0].data,))
    else:
        writer = {"hex": write_intel_hex, "s-record": write_s_record, "ti-txt": write_ti_txt}[kind]
        content = (line.encode("ascii") for line in writer(image, record_bytes))
    if image.start is not None and kind in ("raw", "ti-txt"):
        notes.append(f"{_TITLES[kind]} has no place for the start address {show_address(image.start)}")
    try:
        write_whole(path, content)
    except ValueError as error:
        raise usage("out-of-reach", f"{_TITLES[kind]}: {error}", "another format, or move it") from None
    except OSError as error:
        raise usage("file", f"{path} cannot be written: {error.strerror}", "--save FILE") from None
    pieces = f" in {len(image.pieces)} pieces" if len(image.pieces) > 1 and kind != "raw" else ""
    size = image.end - image.lowest if kind == "raw" else image.size_bytes
    span = show_span(image.lowest, image.end - image.lowest)
    return f"{_TITLES[kind]}, {count(size, 'byte')}{pieces}, {span}", tuple(notes)
