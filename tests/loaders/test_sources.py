"""The images in the package are what their sources make."""

from __future__ import annotations

import hashlib
import importlib.util
import sys
import tempfile
import unittest
from pathlib import Path
from types import ModuleType

from greenstep.core.loaders.images import loader_for

ROOT = Path(__file__).parents[2]


def builder() -> ModuleType:
    spec = importlib.util.spec_from_file_location("build_loaders", ROOT / "loaders" / "build.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = module
    spec.loader.exec_module(module)
    return module


class Rebuilt(unittest.TestCase):
    def test_each_is_made_of_the_sources_as_they_are(self) -> None:
        build = builder()
        for name, row in build.rows().items():
            with self.subTest(name), tempfile.TemporaryDirectory() as folder:
                kept = loader_for(row["chips"][0])
                assert kept is not None
                self.assertEqual(kept.source, build.source_hash(row), "run loaders/build.py")
                self.assertEqual(kept.sha256, hashlib.sha256(kept.data).hexdigest())
                made = build.image(name, Path(folder))
                self.assertIsNotNone(made, "no compiler: make loaders installs what pip has")
                self.assertEqual(made, kept.data)

    def test_none_is_larger_than_its_room(self) -> None:
        limits = {"atmega328p": 1024, "nrf51822": 2048, "samd21g18": 2048}
        for chip, limit in limits.items():
            image = loader_for(chip)
            assert image is not None
            self.assertLessEqual(len(image.data), limit, chip)
