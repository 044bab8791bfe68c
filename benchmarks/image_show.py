"""`image show` of a 16 MiB Intel HEX file against reading it alone: inside one process, and as whole commands."""

from __future__ import annotations

import random
import subprocess
import sys
import tempfile
from pathlib import Path

from greenstep.core.image import Image, Piece
from greenstep.core.image.content import look_into
from greenstep.core.image.intel_hex import read_intel_hex, write_intel_hex

from .hex_parsing import fastest

LIMIT = 2.5
_HALF = 8 << 20
_ALONE = "import sys; from greenstep.core.image import read_intel_hex; read_intel_hex(open(sys.argv[1], 'rb'), 'big')"


def main() -> int:
    data = random.Random(1).randbytes(_HALF) + b"\xff" * (_HALF // 2) + b"hive scale 2.4 ready\x00" * (_HALF // 42)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "big.hex"
        with path.open("w") as file:
            file.writelines(write_intel_hex(Image("big.hex", (Piece(0x08000000, data),))))

        def parse() -> Image:
            with path.open("rb") as stream:
                return read_intel_hex(stream, "big.hex")

        alone, looked = fastest(parse), fastest(lambda: look_into(parse()))
        tool = Path(sys.executable).parent / "greenstep"
        read = [sys.executable, "-c", _ALONE, str(path)]
        shown = [str(tool), "image", "show", str(path)]
        reading = fastest(lambda: subprocess.run(read, check=True), 5)
        showing = fastest(lambda: subprocess.run(shown, check=True, stdout=subprocess.DEVNULL), 5)
    print(f"parsed in {alone * 1000:.0f} ms; parsed and looked into in {looked * 1000:.0f} ms")
    print(f"{looked / alone:.2f} times (at most {LIMIT:g})")
    print(f"as whole commands: reading {reading:.2f} s, image show {showing:.2f} s, {showing / reading:.2f} times")
    return 0 if looked / alone <= LIMIT else 1


if __name__ == "__main__":
    sys.exit(main())
