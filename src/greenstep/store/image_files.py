"""Images from files: opened, recognised by content, read."""

from __future__ import annotations

from pathlib import Path

from greenstep.core.errors import usage
from greenstep.core.image import Image, ImageFault, read_intel_hex, read_raw, recognise
from greenstep.core.image.recognise import HEAD_BYTES
from greenstep.core.quantities import readable_share, show_address

LARGEST_RAW_BYTES = 64 << 20


def load_image(path: Path, raw_base: int, at: int | None = None) -> Image:
    """The image in a file. A raw file is placed at `at`, else at `raw_base` (the start of the memory).

    Raises UsageFault for a file that is not there, ImageFault for one that cannot be read.
    """
    name = path.name
    try:
        with path.open("rb") as stream:
            found = recognise(stream.read(HEAD_BYTES))
            stream.seek(0)
            if found == "Intel HEX":
                if at is not None:
                    raise usage(
                        "address-given",
                        f"{name} is Intel HEX and carries its own addresses; {show_address(at)} does not apply",
                        "leave the address out",
                    )
                return read_intel_hex(stream, name)
            if found != "raw binary":
                raise ImageFault(
                    name,
                    None,
                    f"this is {'an' if found in ('ELF', 'S-record') else 'a'} {found} file",
                    "Intel HEX or raw binary, which this version reads",
                    "have the compiler's tools make Intel HEX of it",
                    key="image-kind",
                )
            data = stream.read(LARGEST_RAW_BYTES)
            if at is None and data and readable_share(data) == 1.0:
                raise ImageFault(
                    name,
                    None,
                    "this is a text, and no image that is known here",
                    "Intel HEX or raw binary",
                    f"if the chip is to hold the text itself, say where: {name} at ADDRESS",
                    key="image-kind",
                )
            return read_raw(data, name, raw_base if at is None else at)
    except FileNotFoundError:
        raise usage("no-such-file", f"there is no file {path}", *_alike(path)) from None
    except IsADirectoryError:
        raise usage("no-such-file", f"{path} is a folder", "name the image in it") from None
    except OSError as error:
        raise usage("unreadable-file", f"{path} cannot be read: {error.strerror}") from None


def _alike(path: Path) -> tuple[str, ...]:
    """Images that stand where the missing one was looked for."""
    folder = path.parent
    try:
        there = sorted(entry.name for entry in folder.iterdir() if entry.suffix in (".hex", ".bin", ".ihex", ".img"))
    except OSError:
        return (f"the folder {folder} is not there: build first?",)
    return (f"in {folder}: {', '.join(there[:6])}",) if there else ("build it first?",)
