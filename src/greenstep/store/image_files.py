"""Images from files: opened, recognised by content, read."""

from __future__ import annotations

from pathlib import Path
from typing import BinaryIO

from greenstep.core.errors import usage
from greenstep.core.image import Image, ImageFault
from greenstep.core.image.file_formats import HEAD_BYTES, Format, packed, recognise, saved_text
from greenstep.core.quantities import show_address, show_size
from greenstep.core.safety.plain_files import open_plain

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
