"""A row of the journal."""

from __future__ import annotations

from .frozen import frozen

OUTCOMES = ("green", "unproven", "failed", "interrupted")


@frozen
class JournalEntry:
    """One row. Times in seconds; `at` is ISO 8601 with its offset from UTC. `image` is the names of the files;
    `crc32` and `sha256` are those of the flash image with gaps as erased, `version` the first text in it that looks
    like one. `own_values` are those that this board alone has, and `common_sha256` is the image's without them:
    empty if it has none. `proof` is the evidence of the verify, `evidence` that of the last step that was done or
    failed."""

    at: str
    purpose: str
    board: str
    chip: str
    unique_id: str
    port: str
    line: str
    image: str
    image_bytes: int
    crc32: str
    sha256: str
    version: str
    outcome: str
    exit_code: int
    finding: str
    evidence: str
    seconds: float
    write_seconds: float
    proof: str
    own_values: str = ""
    common_sha256: str = ""
