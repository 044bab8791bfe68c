"""Packages for nRF5 boards, read (Nordic, "DFU protocol", packages): a zip with a manifest, a program without
addresses, and the packet that goes before it and says what it is, usually signed."""

from __future__ import annotations

import io
import json
import zipfile
from typing import Any

from ..quantities import count
from .model import Image, ImageFault, Piece

FORMAT = "DFU package"
_MANIFEST = "manifest.json"
_MOST_BYTES, _MOST_PACKET = 16 << 20, 4096
_KIND = "application"


def read_dfu_package(data: bytes, name: str) -> Image | None:
    """The application in a package; its `header` is the packet before it, in hexadecimal. None for a zip that has no
    such manifest. Raises ImageFault for one that holds something else, lacks a file, or is damaged."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as package:
            if _MANIFEST not in package.namelist():
                return None
            manifest = json.loads(_member(package, _MANIFEST, name))
            held = manifest.get("manifest") if isinstance(manifest, dict) else None
            if not isinstance(held, dict):
                return None
            entry = _entry(held, name)
            program = _member(package, str(entry.get("bin_file")), name)
            packet = _member(package, str(entry.get("dat_file")), name)
    except (zipfile.BadZipFile, ValueError, EOFError, RuntimeError, NotImplementedError) as error:
        raise ImageFault(name, None, f"a package that cannot be read: {error}", "a whole zip file") from None
    if not program or not 0 < len(packet) <= _MOST_PACKET:
        raise ImageFault(name, None, "a package with an empty file in it", "a program, and the packet before it")
    return Image(
        name, (Piece(0, program),), None, FORMAT, (f"{count(len(packet), 'byte')} go before it",), packet.hex()
    )


def _entry(held: dict[str, Any], name: str) -> dict[str, Any]:
    """What the manifest says of the application. Raises ImageFault if it has something else."""
    kinds = [kind for kind, entry in held.items() if isinstance(entry, dict)]
    if kinds != [_KIND]:
        has = ", ".join(kind.replace("_", " and ") for kind in kinds) or "nothing"
        raise ImageFault(name, None, f"a package with {has}", "one with an application alone")
    entry: dict[str, Any] = held[_KIND]
    return entry


def _member(package: zipfile.ZipFile, member: str, name: str) -> bytes:
    """A file of the package. Raises ImageFault."""
    try:
        info = package.getinfo(member)
    except KeyError:
        raise ImageFault(name, None, f"a package without {member}", "the files that its manifest names") from None
    if info.file_size > _MOST_BYTES:
        raise ImageFault(name, None, f"{member} has {info.file_size:,} bytes", f"at most {_MOST_BYTES:,}")
    return package.read(info)
