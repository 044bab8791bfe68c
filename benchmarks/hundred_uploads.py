"""A hundred uploads at once to the bench: is the journal whole? `python -m benchmarks.hundred_uploads [NUMBER [BYTES]]`"""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from greenstep.bench.trial import sample_for
from greenstep.core.image.intel_hex import write_intel_hex

COMMAND = str(Path(sys.executable).parent / "greenstep")
BOARD = "brood-probe"


def main() -> int:
    number = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    size = int(sys.argv[2]) if len(sys.argv) > 2 else 2000
    with tempfile.TemporaryDirectory(prefix="greenstep-") as name:
        folder = Path(name)
        journal = folder / "journal.sqlite"
        (folder / "probe.hex").write_text("".join(write_intel_hex(sample_for(BOARD, size))))
        bench = subprocess.Popen(
            [COMMAND, "bench", *[BOARD] * number, "--json"], stdout=subprocess.PIPE, text=True, cwd=folder
        )
        assert bench.stdout is not None
        ports = [json.loads(bench.stdout.readline())["port"] for _ in range(number)]
        reach = ("--chip", "stm32f072", "--hookup", "dtr-reset-rts-boot", "--json")
        environment = {**os.environ, "GREENSTEP_JOURNAL": str(journal)}
        began = time.monotonic()
        uploads = [
            subprocess.Popen(
                [COMMAND, "upload", "probe.hex", *reach, "--port", port],
                cwd=folder, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            )
            for port in ports
        ]  # fmt: skip
        statuses = Counter(upload.wait() for upload in uploads)
        took = time.monotonic() - began
        bench.terminate()
        bench.communicate()
        with sqlite3.connect(journal) as file:
            whole = file.execute("PRAGMA integrity_check").fetchone()[0]
            rows, chips, seen = file.execute(
                "SELECT count(*), count(DISTINCT unique_id), count(DISTINCT port) FROM climb"
            ).fetchone()
            codes = Counter(code for (code,) in file.execute("SELECT exit_code FROM climb"))
            findings = Counter(key for (key,) in file.execute("SELECT finding FROM climb WHERE finding != ''"))
            told = file.execute("SELECT finding, evidence, seconds FROM climb WHERE exit_code").fetchall()
            contents = file.execute("SELECT count(*) FROM content").fetchone()[0]
    print(f"{number} uploads at once in {took:.0f} s: exit statuses {dict(statuses)}")
    for row in told if "-v" in sys.argv else ():
        print(row)
    if findings:
        print("findings:", ", ".join(f"{key} {number}" for key, number in findings.most_common()))
    print(f"journal: {rows} rows, {seen} ports, {chips} chips, contents of {contents}, integrity {whole}")
    return 0 if rows == number and seen == number and codes == statuses and whole == "ok" else 1


if __name__ == "__main__":
    sys.exit(main())
