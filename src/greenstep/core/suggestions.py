"""What a person may have meant by an unknown name, and words that people try, with the one of ours that does it."""

from __future__ import annotations

from collections.abc import Iterable


def nearest(name: str, names: Iterable[str], most: int = 1, alike: float = 0.6) -> list[str]:
    """The names that are similar to `name`: the one that replaced it first, then the most similar. `alike` is from 0
    (anything) to 1 (identical)."""
    from difflib import get_close_matches  # loaded when something is misspelt

    known = list(names)
    now = [NAMES[name]] if NAMES.get(name) in known else []
    return [*now, *(near for near in get_close_matches(name, known, most, alike) if near not in now)][:most]


COMMANDS = {
    "flash": "upload",
    "write": "upload",
    "burn": "upload",
    "program": "upload",
    "send": "upload",
    "read": "backup",
    "save": "backup",
    "check": "verify",
    "compare": "image compare for files, verify for a chip",
    "wipe": "erase",
    "info": "greet",
    "probe": "greet",
    "identify": "greet",
    "detect": "greet, or hookup find if nothing is known of the board",
    "monitor": "listen",
    "console": "listen",
    "terminal": "listen",
    "run": "start",
    "boot": "reset --into-loader",
    "list": "boards, chips or ports",
    "dialects": "chips",
    "devices": "ports",
    "convert": "image convert",
    "merge": "image join",
    "join": "image join",
    "help": "explain KEY for a finding, or --help after any command",
    "protect": "lock",
    "unprotect": "unlock",
    "bootloader": "loader room",
    "pins": "wiring",
    "lines": "hookup",
    "clock": "rates",
    "reserve": "loader room",
    "spot": "find-port",
    "share": "share-port",
}
"""Words that are no command -> what does it."""

OPTIONS = {
    "--dry-run": "greenstep plan shows what an upload would do",
    "--force": "each refusal says what overrides it: --even-if, or --yes",
    "--quiet": "--ladder short shows less",
    "--verbose": "--ladder full shows all steps, --trace FILE records the line",
    "--device": "the serial port is --port, the microcontroller --chip",
    "--speed": "the rate is --baud",
    "--offset": "write the address after the file: 'FILE at ADDRESS'",
    "--address": "write the address after the file: 'FILE at ADDRESS'",
    "--file": "name the file without an option",
    "--output": "name the file, or use --save",
    "--no-erase": "only what the image touches is erased; nothing is written without",
    "--part": "the microcontroller is --chip",
    "--mcu": "the microcontroller is --chip",
    "--target": "the microcontroller is --chip",
    "-p": "the port is --port",
    "-b": "the rate is --baud",
    "-v": "--ladder full shows all steps; --version is at the front",
    "-q": "--ladder short shows less",
    "-f": "each refusal says what overrides it: --even-if, or --yes",
    "--despite": "now it is --even-if",
    "--also-ident": "now it is --also-accept",
    "--no-compare": "now it is --compare off",
    "--trust-journal": "now it is --compare journal",
    "--held": "now it is --on-chips",
    "--plugged": "now it is --each-new-port",
    "--misset": "now it is --if-clock-wrong",
    "--sums": "now it is --fix-sums",
    "--before": "now it is --say-first",
    "--after": "now it is --say-last",
}
"""Options that no command has, or not this one -> what to use."""

NAMES = {
    "avr-v1": "avr-061",
    "avr-v2": "avr-068",
    "direct-dtr-reset": "dtr-reset-rts-boot",
    "direct-rts-reset": "rts-reset-dtr-boot",
    "dtr-reset": "dtr-reset-only",
    "rts-reset": "rts-reset-only",
    "usb-touch": "usb-hangup",
    "touch": "hang-up",
    "resident": "any",
    "despite": "even_if",
    "also_ident": "also_accept",
    "trust_journal": "compare",
    "spot": "remembered",
    "before": "opening",
    "after": "closing",
    "protocol": "dialect",
    "device": "port",
    "speed": "baud",
    "file": "images",
    "image": "images",
    "files": "images",
    "reset": "hookup",
}
"""Names of dialects, hookups, chips, moves and keys that people try -> as they are here."""
