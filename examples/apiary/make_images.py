"""Make the apiary's sample images: `python make_images.py`. Made-up programs, the same at every run."""

from __future__ import annotations

from pathlib import Path

from greenstep.bench.samples import avr_image, stm32_image
from greenstep.core.image import write_intel_hex

IMAGES = {
    "brood-probe.hex": stm32_image("brood probe 1.7 ready", 9412),
    "hive-scale.hex": avr_image("hive scale 2.4 ready", 9412),
}


def main() -> None:
    folder = Path(__file__).parent / "images"
    folder.mkdir(exist_ok=True)
    for name, image in IMAGES.items():
        (folder / name).write_text("".join(write_intel_hex(image)))
        print(f"{name}: {image.size_bytes:,} bytes")


if __name__ == "__main__":
    main()
