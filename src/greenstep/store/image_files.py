"""Images from files (opened, recognised by content, read) and to files: in the requested format, never replacing an
existing file unless told to."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO, Literal

from greenstep.core.errors import usage
from greenstep.core.image import Image, ImageFault
from greenstep.core.image.edit import filled
from greenstep.core.image.file_formats import HEAD_BYTES, Format, packed, recognise, saved_text
from greenstep.core.quantities import count, show_address, show_size, show_span
from greenstep.core.safety.plain_files import NO_FILE, is_replaceable, open_plain

LARGEST_RAW_BYTES = 64 << 20
IMAGE_ENDINGS = (".hex", ".bin", ".ihex", ".img", ".s19", ".s28", ".s37", ".srec", ".mot", ".elf", ".txt")


def load_image(path: Path, raw_base: int, at: int | None = None) -> Image:
    """The image in a file. A raw file is placed at `at`, else at `raw_base` (the start of the memory). Raises
    UsageFault for a missing file, ImageFault for one that cannot be read."""
    from .release import in_release, open_member

    member = in_release(path)
    name = path.name if member is None else member[1].rpartition("/")[2]
    try:
        with open_plain(path) if member is None else open_member(*member) as stream:
            head = stream.read(HEAD_BYTES)
            found = recognise(head)
            stream.seek(0)
            if at is None and saved_text(head) == "a web page":  # its lines may look like records
                raise _no_image(head, name)
            if found == "raw binary":
                return _raw(stream, name, raw_base, at)
            if at is not None:
                raise usage(
                    "address-given",
                    f"{name} is {found} and carries its own addresses; {show_address(at)} does not apply",
                    "leave the address out, or move it: greenstep image convert --move-to ADDRESS",
                )
            return _read(found, stream, name)
    except FileNotFoundError:
        raise usage("no-such-file", f"there is no file {path}", *_alike(path)) from None
    except IsADirectoryError:
        raise usage("no-such-file", f"{path} is a folder", "name the image in it") from None
    except OSError as error:
        raise usage("unreadable-file", f"{path} cannot be read: {error.strerror}") from None


def _read(found: Format, stream: BinaryIO, name: str) -> Image:
    """By its format's reader, the only one that is loaded."""
    match found:
        case "Intel HEX":
            from greenstep.core.image.intel_hex import read_intel_hex as read
        case "S-record":
            from greenstep.core.image.s_record import read_s_record as read
        case "TI-TXT":
            from greenstep.core.image.ti_txt import read_ti_txt as read
        case "PSoC rows":
            from greenstep.core.image.psoc_rows import read_psoc_rows as read
        case _:
            from greenstep.core.image.elf import read_elf as read
    return read(stream, name)


def _raw(stream: BinaryIO, name: str, base: int, at: int | None) -> Image:
    data = stream.read(LARGEST_RAW_BYTES + 1)
    if len(data) > LARGEST_RAW_BYTES:
        raise ImageFault(name, None, f"more than {show_size(LARGEST_RAW_BYTES)} without an address", "an image")
    kind = packed(data[:8]) if at is None else ""
    if kind == "zip" and (package := _package(data, name)) is not None:
        return package
    if kind:
        raise ImageFault(
            name,
            None,
            f"this is packed ({kind}), and no image",
            "Intel HEX, S-record, TI-TXT, ELF or raw binary",
            f"one of its files: {name}:MEMBER" if kind == "zip" else "unpack it first",
            "a kit is uploaded directly: greenstep upload FILE.kit",
            f"to write it unchanged, give the address: {name} at ADDRESS",
            key="image-kind",
        )
    if at is None and saved_text(data):
        raise _no_image(data, name)
    from greenstep.core.image.raw import read_raw

    return read_raw(data, name, base if at is None else at)


def _package(data: bytes, name: str) -> Image | None:
    from greenstep.core.image.dfu_package import read_dfu_package

    return read_dfu_package(data, name)


def _no_image(head: bytes, name: str) -> ImageFault:
    kind = saved_text(head)
    page = kind == "a web page"
    tries = ("download the file itself, not the page that shows it",)
    first = next((line for line in head.decode("utf-8", "replace").splitlines() if line.strip()), "").strip()
    return ImageFault(
        name,
        None,
        f"this is {kind}, and no image: the download went wrong" if page else f"this is {kind}, and no image",
        "Intel HEX, S-record, TI-TXT, ELF or raw binary",
        *(tries if page else (f"did a download go wrong? it begins {first[:40]!r}",)),
        f"to write the text itself, give the address: {name} at ADDRESS",
        key="image-kind",
    )


def _alike(path: Path) -> tuple[str, ...]:
    """Images in the folder of the missing one."""
    folder = path.parent
    try:
        there = sorted(entry.name for entry in folder.iterdir() if entry.suffix in IMAGE_ENDINGS)
    except OSError:
        return (f"the folder {folder} is not there: build first?",)
    return (f"in {folder}: {', '.join(there[:6])}",) if there else ("build it first?",)


Kind = Literal["hex", "s-record", "ti-txt", "raw"]
KINDS: dict[Kind, tuple[str, ...]] = {
    "hex": (".hex", ".ihex"),
    "s-record": (".s19", ".s28", ".s37", ".srec", ".mot"),
    "ti-txt": (".txt",),
    "raw": (".bin", ".img", ".raw"),
}
"""Formats that can be written, and the endings that select them."""
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
    from greenstep.core.image.intel_hex import write_intel_hex
    from greenstep.core.image.s_record import write_s_record
    from greenstep.core.image.ti_txt import write_ti_txt

    from .whole_files import write_whole

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
