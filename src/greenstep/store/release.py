"""A release as it is downloaded: a zip archive with builds for several boards. One of them is written
`FILE.zip:MEMBER`."""

from __future__ import annotations

import io
import zipfile
import zlib
from pathlib import Path
from typing import BinaryIO

from greenstep.core.errors import usage
from greenstep.core.image import ImageFault
from greenstep.core.image.file_formats import HEAD_BYTES, recognise, saved_text
from greenstep.core.quantities import show_size
from greenstep.core.safety.harmless_text import is_plain
from greenstep.core.suggestions import nearest

from .image_files import IMAGE_ENDINGS, LARGEST_RAW_BYTES

_SIGN = ".zip:"
_MOST_MEMBERS = 500
_DAMAGE = (zipfile.BadZipFile, zlib.error, ValueError, EOFError, RuntimeError, NotImplementedError)
_ENDINGS = (*IMAGE_ENDINGS, ".axf", ".out", ".eep", ".cyacd", ".gbl")


def in_release(path: Path) -> tuple[Path, str] | None:
    """The archive and the member that a file's name means; None if it means a file."""
    text = str(path)
    at = text.lower().find(_SIGN)
    if at < 0 or path.exists():
        return None
    archive = text[: at + len(_SIGN) - 1]
    return Path(archive), text[at + len(_SIGN) :]


def members_of(path: Path) -> tuple[str, ...]:
    """The files of an archive that may be images, in its order. Raises ImageFault, OSError."""
    try:
        with zipfile.ZipFile(path) as archive:
            infos = [info for info in archive.infolist() if not info.is_dir()]
            if len(infos) > _MOST_MEMBERS:
                raise ImageFault(path.name, None, f"{len(infos):,} files in it", f"at most {_MOST_MEMBERS}")
            return tuple(info.filename for info in infos if _may_be_an_image(archive, info))
    except _DAMAGE as error:
        raise ImageFault(path.name, None, f"an archive that cannot be read: {error}", "a whole zip file") from None


def _may_be_an_image(archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> bool:
    """By its content: texts are none, unless they are of a format; nor is what is packed in turn."""
    if not 0 < info.file_size <= LARGEST_RAW_BYTES or not is_plain(info.filename):
        return False
    with archive.open(info) as stream:
        head = stream.read(HEAD_BYTES)
    if recognise(head) != "raw binary":
        return True
    return not saved_text(head) and Path(info.filename).suffix.lower() in _ENDINGS


def open_member(path: Path, member: str) -> BinaryIO:
    """A file of the archive, in memory. Raises UsageFault, ImageFault, OSError."""
    try:
        with zipfile.ZipFile(path) as archive:
            names = archive.namelist()
            if member not in names:
                near = nearest(member, names, 3, 0.4) or names[:6]
                raise usage(
                    "release-member",
                    f"there is no {member} in {path.name}",
                    f"there is {', '.join(near)}" if near else "it is empty",
                )
            info = archive.getinfo(member)
            if info.file_size > LARGEST_RAW_BYTES:
                raise ImageFault(
                    path.name,
                    None,
                    f"{member} has {info.file_size:,} bytes",
                    f"at most {show_size(LARGEST_RAW_BYTES)}",
                )
            return io.BytesIO(archive.read(info))
    except _DAMAGE as error:
        raise ImageFault(path.name, None, f"an archive that cannot be read: {error}", "a whole zip file") from None
