"""A kit as a program of one file, for the system that it is made on: no Python is needed where it is used."""

from __future__ import annotations

import importlib.util
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from greenstep.core.errors import usage
from greenstep.store.kit import HANDED_OVER, Kit

_ENTRY = "import sys\nfrom greenstep.cli.handed_over import main\nsys.exit(main(sys.argv[1:]))\n"
_NEEDED = ("greenstep.cli", "greenstep.core", "greenstep.store", "greenstep.work", "greenstep.ports", "serial")
_NOT_NEEDED = (
    *("greenstep.bench", "greenstep.draw", "greenstep.core.loaders", "matplotlib", "PIL", "watchfiles", "elftools"),
    *("tkinter", "unittest", "pydoc", "doctest", "lib2to3", "pip", "setuptools", "ziglang", "hypothesis", "unicorn"),
)
_LARGE_BYTES = 1 << 19
"""An image of so many bytes is looked into with numpy."""
_LONGEST_S = 900


def make_program(kit: Kit, kit_file: Path, save: Path) -> None:
    """Write the program; `kit_file` holds the kit. Raises UsageFault if the tool that packs it is not installed, or
    fails."""
    if importlib.util.find_spec("PyInstaller") is None:
        raise usage(
            "kit-program-tool",
            "what packs a program is not installed",
            "pip install 'greenstep[program]', in the environment that this command runs in",
        )
    with tempfile.TemporaryDirectory(prefix="greenstep-program-") as holder:
        folder = Path(holder)
        (folder / "entry.py").write_text(_ENTRY, "utf-8")
        shutil.copyfile(kit_file, folder / HANDED_OVER)
        words = _command(folder, HANDED_OVER, _without(kit))
        try:
            done = subprocess.run(words, cwd=folder, capture_output=True, text=True, timeout=_LONGEST_S, check=False)
        except subprocess.TimeoutExpired:
            raise usage(
                "kit-program-packing",
                f"the program was not packed within {_LONGEST_S // 60} minutes",
                "try again on an idle machine; update what packs it",
            ) from None
        made = next((path for path in (folder / "dist").glob("*") if path.is_file()), None)
        if done.returncode or made is None:
            last = tuple(line for line in done.stderr.splitlines() if line.strip())[-3:]
            raise usage(
                "kit-program-packing", "the program could not be packed", "update what packs it", evidence=last
            )
        shutil.copyfile(made, save)
        save.chmod(0o755)


def _without(kit: Kit) -> tuple[str, ...]:
    """What this kit does not need."""
    large = any(len(data) >= _LARGE_BYTES for data in kit.members.values())
    return _NOT_NEEDED if large else (*_NOT_NEEDED, "numpy")


def _command(folder: Path, kit: str, without: tuple[str, ...]) -> list[str]:
    words = [
        sys.executable,
        "-m",
        "PyInstaller",
        "--onefile",
        "--noconfirm",
        "--log-level",
        "ERROR",
        "--name",
        "handed-over",
    ]
    words += ["--distpath", str(folder / "dist"), "--workpath", str(folder / "build"), "--specpath", str(folder)]
    words += ["--add-data", f"{folder / kit}{os.pathsep}.", "--collect-data", "greenstep"]
    for package in _NEEDED:
        words += ["--collect-submodules", package]
    for module in without:
        words += ["--exclude-module", module]
    return [*words, str(folder / "entry.py")]
