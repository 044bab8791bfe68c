"""Make the apiary's sample images: `python make_images.py`. Made-up programs, the same at every run."""

from __future__ import annotations

import random
from pathlib import Path

from greenstep.bench.boards import APIARY, BOARDS
from greenstep.core.image.intel_hex import write_intel_hex

SIZE_BYTES = 9412
ESP32_FILES = ("gateway-loader.bin", "gateway-partitions.bin", "gateway.bin")


def main() -> None:
    folder = Path(__file__).parent / "images"
    folder.mkdir(exist_ok=True)
    for name in APIARY:
        board = BOARDS[name]
        image = board.program(board.texts[1], SIZE_BYTES, 1)
        if name == "apiary-gateway":
            for file, piece in zip(ESP32_FILES, image.pieces, strict=True):
                (folder / file).write_bytes(piece.data)
        elif image.format == "Intel HEX":
            (folder / f"{name}.hex").write_text("".join(write_intel_hex(image)))
        else:
            (folder / f"{name}.bin").write_bytes(image.pieces[0].data)
        print(f"{name}: {image.size_bytes:,} bytes")
    (folder / "pages.bin").write_bytes(_pages())


def _pages() -> bytes:
    """Web pages of the gateway: text, which packs well."""
    source = random.Random(5)
    rows = (f"<tr><td>hive {n % 24 + 1}</td><td>{source.uniform(28, 46):.1f} kg</td></tr>\n" for n in range(400))
    return ("<html><title>apiary gateway</title><table>\n" + "".join(rows) + "</table></html>\n").encode()


if __name__ == "__main__":
    main()
