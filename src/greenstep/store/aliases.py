"""Names that a person gave to ports, stored for this user: by serial number, else by place on the USB."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

from greenstep.core.errors import usage
from greenstep.core.safety.harmless_text import is_plain
from greenstep.core.safety.plain_files import read_text

from .project import LARGEST_BYTES, TomlTrouble, toml_table

if TYPE_CHECKING:
    import tomlkit

FILE_NAME = "ports.toml"
_KEYS = ("serial", "location", "usb")


def alias_file() -> Path:
    """Where they are stored."""
    import platformdirs

    return platformdirs.user_config_path("greenstep") / FILE_NAME


def read_aliases(path: Path | None = None) -> dict[str, dict[str, str]]:
    """Each name with its keys `serial`, `location` and `usb`. Raises UsageFault for a file that cannot be read."""
    path = path or alias_file()
    try:
        table = toml_table(read_text(path, LARGEST_BYTES))
    except FileNotFoundError:
        return {}
    except (TomlTrouble, UnicodeDecodeError, OSError) as error:
        raise usage(
            "alias-file", f"{path} cannot be read: {error}", "correct it, or remove it and find the port again"
        ) from None
    aliases = {}
    for name, entry in table.items():
        if (
            not is_plain(name)
            or not isinstance(entry, dict)
            or any(not isinstance(entry.get(key, ""), str) for key in _KEYS)
        ):
            raise usage("alias-file", f"{path}: '{name}' is not a port", "remove it there and find the port again")
        aliases[name] = {key: entry[key] for key in _KEYS if entry.get(key)}
    return aliases


def write_alias(name: str, known: dict[str, str], path: Path | None = None) -> Path:
    """Remember a port. Everything else in the file, comments included, stays. Raises UsageFault."""
    if not re.fullmatch(r"[A-Za-z0-9][\w.-]*", name):
        raise usage("alias-name", f"'{name}' is not a valid name for a port", "letters, digits, '-', '_' and '.'")
    import tomlkit

    path = path or alias_file()
    document = _document(path)
    entry = tomlkit.table()
    for key in _KEYS:
        if known.get(key):
            entry[key] = known[key]
    document[name] = entry
    _save(path, document)
    return path


def forget_alias(name: str, path: Path | None = None) -> None:
    """Raises UsageFault if there is no such name."""
    path = path or alias_file()
    document = _document(path)
    if name not in document:
        raise usage(
            "no-such-alias", f"no port is remembered as '{name}'", f"there are {', '.join(document) or 'none'}"
        )
    del document[name]
    _save(path, document)


def _document(path: Path) -> tomlkit.TOMLDocument:
    import tomlkit

    read_aliases(path)  # report faults in its words
    return tomlkit.parse(path.read_text("utf-8")) if path.exists() else tomlkit.document()


def _save(path: Path, document: tomlkit.TOMLDocument) -> None:
    import tomlkit

    from .whole_files import write_whole

    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, [tomlkit.dumps(document).encode()])
    except OSError as error:
        raise usage("alias-file", f"{path} cannot be written: {error.strerror}") from None
