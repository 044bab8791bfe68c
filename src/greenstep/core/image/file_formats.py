"""What an image file is, judged by its content alone; a file's ending is never believed."""

from __future__ import annotations

import re
from typing import Literal

Format = Literal["Intel HEX", "S-record", "ELF", "TI-TXT", "PSoC rows", "raw binary"]

HEAD_BYTES = 64 * 1024
"""How many bytes of a file's beginning `recognise` wants to see."""

# compiled when needed: one of them is enough to recognise a hex file
_PSOC_ROWS = rb"[0-9A-Fa-f]{12}[ \t]*[\r\n]+:[0-9A-Fa-f]{6}"
_HEX_RECORD = rb"(?m):[0-9A-Fa-f]{8}"
_HEX_LIKE = rb"(?m)^[ \t]*:[0-9A-Fa-f]{2}"
_S_RECORD = rb"(?m)^S[0-9][0-9A-Fa-f]{6}"
_TI_TXT = rb"\s*@[0-9A-Fa-f]{1,8}[ \t]*[\r\n]+[0-9A-Fa-f]{2}\b|\s*@[0-9A-Fa-f]{4,8}[ \t]*[\r\n]"


_PACKED = {
    b"PK\x03\x04": "zip",
    b"\x1f\x8b\x08": "gzip",
    b"\xfd7zXZ\x00": "xz",
    b"BZh": "bzip2",
    b"\x28\xb5\x2f\xfd": "zstd",
    b"7z\xbc\xaf\x27\x1c": "7z",
}


def packed(head: bytes) -> str:
    """The kind of archive or compression that a file begins like; empty if none."""
    return next((kind for mark, kind in _PACKED.items() if head.startswith(mark)), "")


def saved_text(head: bytes) -> str:
    """What a file really is, if it begins like a web page or is text throughout; empty if neither. Texts that are
    images are recognised by `recognise`."""
    start = head[:1024].lstrip(b"\xef\xbb\xbf \t\r\n").lower()
    if start.startswith((b"<!doctype html", b"<html")) or (start.startswith(b"<") and b"<html" in start):
        return "a web page"
    shown = head.translate(None, b"\t\r\n\f")
    try:
        text = shown.decode("utf-8")
    except UnicodeDecodeError as error:
        if error.start < len(shown) - 4:  # else a character may be cut in half
            return ""
        text = shown[: error.start].decode("utf-8")
    blank = bool(head) and not shown
    return "a text" if blank or (text and text.isprintable()) else ""


def recognise(head: bytes) -> Format:
    """The format of a file that begins with `head` (up to HEAD_BYTES).

    Text formats win only if the head is entirely text: a binary that contains ':10…' stays a binary.
    """
    if head.startswith(b"\x7fELF"):
        return "ELF"
    if _is_text(head):
        if re.match(_PSOC_ROWS, head):
            return "PSoC rows"
        if re.search(_HEX_RECORD, head) or re.search(_HEX_LIKE, head):
            return "Intel HEX"
        if re.search(_S_RECORD, head):
            return "S-record"
        if re.match(_TI_TXT, head):
            return "TI-TXT"
    return "raw binary"


def _is_text(head: bytes) -> bool:
    """Whether the head reads as text; a few damaged bytes in a hex file must not make it a binary."""
    if not head:
        return False
    odd = len(head.translate(None, bytes(range(32, 127)) + b"\t\r\n\x1a\xef\xbb\xbf"))
    return odd <= len(head) // 50
