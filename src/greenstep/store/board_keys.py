"""The keys of a board, one row each. From the rows come the contents of a greenstep.toml table, the options of the
same names with their environment variables, and the manual's table."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from enum import Enum
from pathlib import Path
from typing import Any

from greenstep.core.errors import check_keys, usage
from greenstep.core.frozen import frozen
from greenstep.core.image.file_system import KINDS
from greenstep.core.plan.write_options import LINE_ENDS, OVERRIDES, Keep
from greenstep.core.safety.harmless_text import is_plain

from .board import FASTEST, BoardSettings, ImageFile, PortChoice, TalkEntry
from .reach import Reach, Reached, reached_by

NOTHING: tuple[Reach, ...] = ()


class Form(Enum):
    """The type of a value. OWN is a special shape, which `Key.read` reads."""

    TEXT = "text"
    TRUTH = "truth"
    RATE = "rate"
    NUMBER = "number"
    SECONDS = "seconds"
    OWN = "own"


_WANTED = {
    Form.TEXT: "it in quotes",
    Form.TRUTH: "true or false",
    Form.RATE: "a whole number",
    Form.NUMBER: "a whole number",
    Form.SECONDS: "a number of seconds",
}
"""How a value is written in greenstep.toml."""


class _WrongValue(Exception):
    """The message says what should be written."""


Read = Callable[[Any, Path], Any]
"""From a value of the project file, with the folder that file names are relative to. Raises _WrongValue."""


@frozen
class Key:
    """`reach`: what a value may reach beyond itself, which in a kit must be the kit's own (`greenstep.store.reach`).
    `help` is the option's; `value` and `default` are for the manual. `choices` are all words allowed, if not empty.
    `repeats`: it is a list, and its option may be given several times. `bounds` are the option's, in seconds. What it
    says joins the values of the key `joins`, if that is not empty."""

    name: str
    form: Form
    reach: tuple[Reach, ...]
    help: str
    value: str
    default: str = ""
    metavar: str = ""
    choices: tuple[str, ...] = ()
    repeats: bool = False
    bounds: tuple[float, float] = (0, 3600)
    read: Read | None = None
    joins: str = ""

    @property
    def option(self) -> str:
        """As written on the command line."""
        dashed = self.name.replace("_", "-")
        return f"--{dashed}/--no-{dashed}" if self.form is Form.TRUTH else f"--{dashed}"

    def of(self, value: Any, where: str, folder: Path) -> Any:
        """From a value of the project file. Raises UsageFault."""
        try:
            return self.read(value, folder) if self.read is not None else self._plain(value)
        except _WrongValue as wrong:
            raise usage("project-value", f"{where}.{self.name} is {value!r}", f"write {wrong}") from None

    def reached(self, value: Any) -> tuple[Reached, ...]:
        """What a value, as `of` returns it, reaches. A plain text reaches what the row says."""
        if isinstance(value, str) and self.form is Form.TEXT and self.reach:
            return (Reached(self.reach[0], value),)
        return tuple(reached_by(value))

    def _plain(self, value: Any) -> Any:
        values = value if self.repeats and isinstance(value, list) else [value]
        if self.repeats and not isinstance(value, list):
            raise _WrongValue("a list: [ … ]")
        if not all(_fits(self.form, one) for one in values):
            raise _WrongValue(_WANTED[self.form])
        if self.choices and any(one not in self.choices for one in values):
            words = " or ".join(self.choices if self.repeats else (f'"{word}"' for word in self.choices))
            raise _WrongValue(f"a list of {words}" if self.repeats else words)
        if self.repeats:
            return tuple(values)
        return float(value) if self.form is Form.SECONDS else value


def _fits(form: Form, value: Any) -> bool:
    if form is Form.TEXT:
        return isinstance(value, str)
    if form is Form.TRUTH or isinstance(value, bool):
        return form is Form.TRUTH and isinstance(value, bool)
    return isinstance(value, int | float if form is Form.SECONDS else int) and value >= 0


def board_from_table(table: Mapping[str, Any], where: str, folder: Path) -> BoardSettings:
    """A board of the project file; file names are relative to `folder`. Raises UsageFault."""
    check_keys(table, [key.name for key in KEYS], where, "project-key")
    said = {key.name: key.of(table[key.name], where, folder) for key in KEYS if key.name in table}
    return BoardSettings(**joined(said))


def joined(said: Mapping[str, Any]) -> dict[str, Any]:
    """Values by key, with those that join another's put there."""
    values = {key.name: said[key.name] for key in KEYS if key.name in said and not key.joins}
    for key in KEYS:
        if key.joins and said.get(key.name):
            values[key.joins] = (*(values.get(key.joins) or ()), *said[key.name])
    return values


# --- shapes of their own


def _port(value: Any, folder: Path) -> PortChoice:
    if isinstance(value, str):
        return PortChoice(name=value)
    if isinstance(value, dict) and value and not value.keys() - {"name", "serial", "remembered"}:
        texts = {key: text for key, text in value.items() if isinstance(text, str)}
        if len(texts) == len(value):
            return PortChoice(**texts)
    raise _WrongValue('"/dev/ttyUSB0", { serial = "…" } or { remembered = "…" }')


def _baud(value: Any, folder: Path) -> int | str:
    if value != FASTEST and not _fits(Form.RATE, value):
        raise _WrongValue('a whole number, or "fastest"')
    return value  # type: ignore[no-any-return]


def _file(value: Any, folder: Path) -> Path:
    if not isinstance(value, str):
        raise _WrongValue("a file name in quotes")
    return _in(folder, value)


def _in(folder: Path, name: str) -> Path:
    """A file or folder by its name in the project file."""
    if not is_plain(name):
        raise _WrongValue("a file name without control characters")
    return folder / name


def _hookup(value: Any, folder: Path) -> str | Mapping[str, Any]:
    if not isinstance(value, str | dict):
        raise _WrongValue("a name in quotes, or a table")
    return value if isinstance(value, str) else {key: _pin(of, folder) for key, of in value.items()}


def _pin(of: Any, folder: Path) -> Any:
    """A program that is named with a folder is looked for beside the project file."""
    if not isinstance(of, dict):
        return of
    return {key: _program(words, folder) if key in ("run_on", "run_off") else words for key, words in of.items()}


def _program(words: Any, folder: Path) -> Any:
    if not isinstance(words, list) or not words or not isinstance(words[0], str) or "/" not in words[0]:
        return words
    return [str((folder / words[0]).absolute()), *words[1:]]


def _list(value: Any) -> list[Any]:
    if not isinstance(value, list):
        raise _WrongValue("a list: [ … ]")
    return value


def _by_hand(value: Any, folder: Path) -> Mapping[str, tuple[str, ...]]:
    table = {"load": value} if isinstance(value, list) else value
    wrong = _WrongValue('{ load = ["short the two pads", "press RESET"], run = ["press RESET"] }')
    if not isinstance(table, dict) or not table or table.keys() - {"load", "run"}:
        raise wrong
    for moves in table.values():
        if not isinstance(moves, list) or not moves or not all(isinstance(one, str) and one for one in moves):
            raise wrong
    return {when: tuple(moves) for when, moves in table.items()}


def _images(value: Any, folder: Path) -> tuple[ImageFile, ...]:
    return tuple(_image(one, folder) for one in _list(value))


def _eeprom(value: Any, folder: Path) -> tuple[ImageFile, ...]:
    return tuple(replace(image, memory="eeprom") for image in _images(value, folder))


def _image(value: Any, folder: Path) -> ImageFile:
    if isinstance(value, str):
        return ImageFile(_in(folder, value))
    if isinstance(value, dict) and "folder" in value:
        return _folder(value, folder)
    wrong = _WrongValue('a file name, or { file = "…", at = 0x08000000, memory = "flash" }')
    if not isinstance(value, dict) or not isinstance(value.get("file"), str):
        raise wrong
    at, memory = value.get("at"), value.get("memory", "flash")
    if value.keys() - {"file", "at", "memory"} or not _is_place(at) or not isinstance(memory, str):
        raise wrong
    return ImageFile(_in(folder, value["file"]), at, memory)


def _folder(value: Mapping[str, Any], folder: Path) -> ImageFile:
    name, kind, at, size = (value.get(key) for key in ("folder", "as", "at", "size"))
    if (
        value.keys() - {"folder", "as", "at", "size"} or not isinstance(name, str) or kind not in KINDS
        or at is None or not _is_place(at) or not (size is None or _fits(Form.NUMBER, size))
    ):  # fmt: skip
        raise _WrongValue(
            '{ folder = "web", as = "littlefs", "fat" or "levelled-fat", at = "pages" }; size where no partition is'
        )
    return ImageFile(_in(folder, name), at, "flash", kind, size)


def _is_place(at: Any) -> bool:
    """Whether it is an address, a partition's name, or nothing."""
    return at is None or (isinstance(at, int | str) and not isinstance(at, bool) and at != "")


def _keeps(value: Any, folder: Path) -> tuple[Keep, ...]:
    for one in (rows := _list(value)):
        numbers = isinstance(one, dict) and all(isinstance(one.get(name), int) for name in ("from", "size"))
        if not numbers or one.keys() - {"from", "size", "why"}:
            raise _WrongValue('[ { from = 0x9000, size = 0x6000, why = "settings" } ]')
    return tuple(Keep(one["from"], one["size"], str(one.get("why", ""))) for one in rows)


def _talk(value: Any, folder: Path) -> tuple[TalkEntry, ...]:
    entries = talk_entries(_list(value))
    if entries is None:
        raise _WrongValue('[ { expect = "name?", send = "hive-7" }, { expect = "key?", secret = "HIVE_KEY" } ]')
    return entries


def talk_entries(value: Any) -> tuple[TalkEntry, ...] | None:
    """Turns from a list of tables; None if it is no such list."""
    entries = [talk_entry(item) for item in value] if isinstance(value, list) else [None]
    return tuple(entry for entry in entries if entry is not None) if None not in entries else None


def talk_entry(value: Any) -> TalkEntry | None:
    """A turn from its table; None if it is no such table."""
    if not isinstance(value, dict) or not value or value.keys() - {"expect", "within", "send", "secret"}:
        return None
    within = value.get("within", 5.0)
    texts = [value[key] for key in ("expect", "send", "secret") if key in value]
    if not texts or not all(isinstance(text, str) for text in texts):
        return None
    if isinstance(within, bool) or not isinstance(within, int | float) or within <= 0:
        return None
    if "send" in value and "secret" in value:
        return None
    return TalkEntry(value.get("expect", ""), float(within), value.get("send"), value.get("secret", ""))


def _idents(value: Any, folder: Path) -> tuple[int, ...]:
    if not all(isinstance(one, int) for one in _list(value)):
        raise _WrongValue("numbers, such as [ 0x1E950F ]")
    return tuple(value)


def _settings(value: Any, folder: Path) -> Mapping[str, Any]:
    """The dialect's own, files as Path; they are checked once the dialect is known."""
    if not isinstance(value, dict):
        raise _WrongValue("a table: { crystal-khz = 12000 }")
    return {name: _setting(one, folder) for name, one in value.items()}


def _setting(value: Any, folder: Path) -> Any:
    if isinstance(value, dict) and set(value) == {"file"} and isinstance(value["file"], str):
        return _in(folder, value["file"])
    entries = talk_entries(value)
    return value if entries is None else entries


# --- the rows, in the order of the manual

KEYS = (
    Key("chip", Form.TEXT, NOTHING, "The chip, such as atmega328p, stm32f103c8, or a family: stm32.",
        "a part (`stm32f103c8`, `atmega328p`), a series (`stm32f4`), a record (`stm32f10x-medium`), a family "
        "(`stm32`, `avr`) or a dialect; `greenstep chips` lists them", metavar="NAME"),
    Key("port", Form.OWN, (Reach.PORT,), "Device, URL, or a name given by find-port: /dev/ttyUSB0, COM3, rfc2217://host:port.",
        'a name or URL; `{ serial = "…" }` of a USB adapter; both: `{ name, serial }`; `{ remembered = "…" }` a name '
        "that [find-port](connect.md) remembered", "the only one", "PORT", read=_port),
    Key("baud", Form.RATE, NOTHING, "Baud rate of the bootloader; fastest: the highest that both ends carry.",
        'baud rate of the bootloader; `"fastest"`: [the highest that both ends carry](connect.md#the-fastest-rate)',
        "the chip's", "RATE", read=_baud),
    Key("frame", Form.TEXT, NOTHING, "Data bits, parity, stop bits (8N1, 8E1), if not the dialect's own.",
        "data bits, parity, stop bits: `\"8E1\"`", "the dialect's", "FRAME"),
    Key("hookup", Form.OWN, (Reach.PROGRAM, Reach.PIN),
        "How DTR and RTS reach reset and boot: by-hand, cap-dtr, cap-rts, cross-pair, dtr-reset-rts-boot, "
        "rts-reset-dtr-boot, dtr-reset-only, rts-reset-only, usb-hangup, or a table (greenstep hookup list).",
        "a name or a table, see [hookups](hookups.md)", "the chip's", "NAME|TABLE", read=_hookup),
    Key("enter", Form.TEXT, NOTHING, 'Moves that enter the bootloader: "boot on; reset on; wait 50 ms; …".',
        "moves into the bootloader, a [sequence](hookups.md)", "the hookup's", "SEQUENCE"),
    Key("leave", Form.TEXT, NOTHING, "Moves that start the application.",
        "moves that start the application", "the hookup's", "SEQUENCE"),
    Key("by_hand", Form.OWN, NOTHING,
        "This board's own way by hand, in your words: 'load: short the two pads', 'run: press RESET'.",
        'this board\'s own way by hand: `{ load = ["short the two pads", "press RESET"], run = ["press RESET"] }`; '
        "a list alone is how to load", "the chip's", "'load|run: MOVE'", repeats=True, read=_by_hand),
    Key("wait", Form.TRUTH, NOTHING,
        "Wait at the end until the boot pin was set back by hand and reset pressed (default on a terminal), or only "
        "say so.",
        "true or false: wait at the end until [the boot pin was set back](hookups.md#the-end-by-hand)",
        "true on a terminal"),
    Key("patience", Form.SECONDS, NOTHING, "How long to keep trying to sync.", "seconds to keep trying to sync",
        "20 by hand; a few resets with lines", "SECONDS"),
    Key("dialect", Form.TEXT, NOTHING, "The bootloader's protocol, if it is not the chip's default.",
        "the bootloader's protocol, see [dialects](dialects/README.md)", "the chip's", "NAME"),
    Key("set", Form.OWN, (Reach.FILE, Reach.SECRET), "A setting of the dialect (greenstep chips DIALECT).",
        "the [dialect's own settings](dialects/README.md): `{ crystal-khz = 12000 }`", metavar="NAME=VALUE",
        repeats=True, read=_settings),
    Key("also_accept", Form.OWN, NOTHING, "Accept a chip that answers with this number.",
        "chip numbers accepted besides the declared one's: `[ 0x1E950F ]`", repeats=True, read=_idents),
    Key("images", Form.OWN, (Reach.FILE, Reach.FOLDER), "An image; the same as naming it as an argument.",
        "files, or `{ file, at, memory }`; a raw file goes to `at`, an address or a partition's name, else to the "
        "memory's start; or `{ folder, as, at }`: [a folder as a file system](images.md#a-folder-as-a-file-system)",
        metavar="'FILE [at ADDRESS]'", repeats=True, read=_images),
    Key("eeprom", Form.OWN, (Reach.FILE, Reach.FOLDER), "An image for the EEPROM.",
        "files for the EEPROM, or `{ file, at }`", metavar="'FILE [at ADDRESS]'", repeats=True, read=_eeprom,
        joins="images"),
    Key("keep", Form.OWN, NOTHING, "Region that must survive: read before it is erased, and written back.",
        "`[ { from, size, why } ]`: [regions that must survive](again.md#what-is-on-the-chip-stays)",
        metavar="FROM:SIZE", repeats=True, read=_keeps),
    Key("bootloader_bytes", Form.NUMBER, NOTHING, "Size of the bootloader in the flash.",
        "size of a resident bootloader, in the flash where the chip's loaders are", "the chip's", "SIZE"),
    Key("erase", Form.TEXT, NOTHING, "Erase what the image touches (default), or the whole flash.",
        "`\"touched\"` or `\"all\"`", "touched", choices=("touched", "all")),
    Key("even_if", Form.TEXT, NOTHING,
        "Write an image even if: " + "; ".join(f"{why} ({word})" for word, why in OVERRIDES.items()) + ".",
        '`["vectors"]`: write an image that does not look like a program; `"protection"`, `"lock-out"`: one that '
        '[locks](dialects/lpc-isp.md); `"encryption"`: a plain one for a chip that [encrypts](dialects/esp-rom.md)',
        choices=tuple(OVERRIDES), repeats=True),
    Key("compare", Form.TEXT, NOTHING,
        "Write only what differs from what the chip holds, as read from it (chip) or known from the journal if a "
        "sample agrees (journal); or everything (off). [chip]",
        '`"chip"`, `"journal"` or `"off"`: [write only what differs](again.md#only-what-changed)', "chip",
        choices=("chip", "journal", "off")),
    Key("verify", Form.TRUTH, NOTHING, "Read back what was written (default), or leave it unproven.",
        "true or false", "true"),
    Key("start", Form.TRUTH, NOTHING, "Start the application at the end (default), or not.", "true or false", "true"),
    Key("expect", Form.TEXT, NOTHING, "Text the application prints: it proves that it runs.",
        "a text that proves the program runs", "none", "TEXT"),
    Key("expect_within", Form.SECONDS, NOTHING, "How long to wait for the text. [5]",
        "seconds to wait for it", "5", "SECONDS", bounds=(0.1, 3600)),
    Key("console_baud", Form.RATE, NOTHING, "Baud rate of the application.", "baud rate of the program (8N1)",
        "`baud`, or the rate of the bootloader", "RATE"),
    Key("elf", Form.OWN, (Reach.FILE,),
        "The program's ELF file: addresses that the board prints are followed by their place.",
        "the program's ELF file: [what a crash dump's addresses mean](listen.md#what-an-address-means)", "none",
        "FILE", read=_file),
    Key("talk", Form.OWN, (Reach.SECRET,),
        "After the start: '{ expect = \"name?\", send = \"hive-7\" }'; secret = \"VARIABLE\" instead of send.",
        "what is sent after the start, see [talk](listen.md#the-first-settings-of-a-new-board)", "none", "TURN",
        repeats=True, read=_talk),
    Key("line_end", Form.TEXT, NOTHING, "What ends a line sent. [crlf]", "what ends a line sent", "crlf",
        choices=tuple(LINE_ENDS)),
)  # fmt: skip
"""Each is a field of BoardSettings."""
