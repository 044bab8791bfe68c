"""docs/python.md: every example in it, run as it stands, prints what the page says."""

from __future__ import annotations

import ast
import os
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import get_type_hints

import greenstep
from greenstep.store.board_keys import KEYS
from greenstep.work.api import BoardAndImages

ROOT = Path(__file__).parents[2]
PAGE = (ROOT / "docs" / "python.md").read_text("utf-8")
MARK = "--- next example ---"


def examples() -> list[tuple[str, str]]:
    """(code, what it prints) of each example."""
    return re.findall(r"```python\n(.*?)```\n```text\n(.*?)```", PAGE, re.DOTALL)


class Examples(unittest.TestCase):
    def test_each_prints_what_the_page_says(self) -> None:
        found = examples()
        self.assertEqual(len(found), PAGE.count("```python"))
        last = "import sys\nprint(sorted({name.split('.')[0] for name in sys.modules} & {'click', 'rich'}))"
        program = f"\nprint({MARK!r})\n".join([*(code for code, _ in found), last])
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "apiary"
            shutil.copytree(ROOT / "examples" / "apiary", place)
            environment = {**os.environ, "GREENSTEP_JOURNAL": f"{folder}/journal.sqlite"}
            done = subprocess.run(
                [sys.executable, "-W", "error", "-c", program],
                cwd=place, env=environment, capture_output=True, text=True, timeout=120,
            )  # fmt: skip
            self.assertTrue((place / "before.hex").exists())
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        *printed, loaded = done.stdout.split(MARK + "\n")
        for (code, said), got in zip(found, printed, strict=True):
            with self.subTest(example=code.splitlines()[0]):
                self.assertEqual(got, said)
        self.assertEqual(loaded, "[]\n")


class PublicNames(unittest.TestCase):
    def test_every_key_of_a_board_is_a_keyword(self) -> None:
        self.assertEqual(set(get_type_hints(BoardAndImages)), {key.name for key in KEYS})

    def test_every_public_name_is_there_and_documented(self) -> None:
        for name in greenstep.__all__:
            with self.subTest(name=name):
                self.assertTrue((getattr(greenstep, name).__doc__ or "").strip())
        with self.assertRaises(AttributeError):
            greenstep.anything  # noqa: B018

    def test_every_public_function_has_types(self) -> None:
        tree = ast.parse((ROOT / "src/greenstep/work/api.py").read_text("utf-8"))
        functions = [node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef)]
        self.assertGreater(len(functions), 15)
        for function in functions:
            arguments = [*function.args.args, *function.args.kwonlyargs]
            untyped = [one.arg for one in arguments if one.annotation is None and one.arg != "self"]
            with self.subTest(function=function.name):
                self.assertEqual(untyped, [])
                self.assertTrue(function.returns is not None)
                if not function.name.startswith("_"):
                    self.assertTrue(ast.get_docstring(function))


if __name__ == "__main__":
    unittest.main()
