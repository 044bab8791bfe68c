"""The borders of the house: what core may import, and what a command may load."""

from __future__ import annotations

import ast
import subprocess
import sys
import unittest
from collections import Counter
from functools import cache
from pathlib import Path

import greenstep

SOURCE = Path(greenstep.__file__).parent
FOREIGN = {"click", "rich", "serial", "matplotlib", "pandas", "elftools", "platformdirs", "tomlkit"}
OUTER = {"cli", "ports", "bench", "store", "draw", "work"}


@cache
def tree_of(path: Path) -> ast.Module:
    return ast.parse(path.read_text("utf-8"))


def imported_names(path: Path) -> set[str]:
    """Every module a file imports, wherever in it the import stands, relative ones made absolute."""
    package = ["greenstep", *path.relative_to(SOURCE).parts[:-1]]
    names: set[str] = set()
    for node in ast.walk(tree_of(path)):
        if isinstance(node, ast.Import):
            names.update(alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            base = ".".join(package[: len(package) - node.level + 1]) if node.level else ""
            names.add(".".join(part for part in (base, node.module or "") if part))
    return names


def loaded_by(statement: str) -> set[str]:
    """The modules that a fresh interpreter has after `statement`."""
    code = f"{statement}\nimport sys\nprint('\\n'.join(sys.modules))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    return set(done.stdout.split())


class CoreStandsAlone(unittest.TestCase):
    def test_no_file_of_core_names_an_interface(self) -> None:
        files = sorted((SOURCE / "core").rglob("*.py"))
        self.assertGreater(len(files), 25)
        for path in files:
            for name in imported_names(path):
                parts = name.split(".")
                # no interface; loaded when an ELF file is read
                if parts[0] == "elftools" and path.name in ("elf.py", "elf_program.py"):
                    continue
                with self.subTest(file=path.name, imported=name):
                    self.assertNotIn(parts[0], FOREIGN)
                    self.assertFalse(parts[0] == "greenstep" and len(parts) > 1 and parts[1] in OUTER)

    def test_importing_all_of_core_loads_no_interface(self) -> None:
        modules = [
            ".".join(["greenstep", *path.relative_to(SOURCE).with_suffix("").parts]).removesuffix(".__init__")
            for path in (SOURCE / "core").rglob("*.py")
        ]
        loaded = loaded_by("\n".join(f"import {module}" for module in modules))
        self.assertIn("greenstep.core.engine.runner", loaded)
        self.assertEqual({name for name in loaded if name.split(".")[0] in FOREIGN}, set())
        self.assertEqual({n for n in loaded if n.startswith(tuple(f"greenstep.{outer}" for outer in OUTER))}, set())

    def test_dialects_take_no_time_and_print_nothing(self) -> None:
        for path in (SOURCE / "core" / "dialects").glob("*.py"):
            with self.subTest(file=path.name):
                self.assertFalse(imported_names(path) & {"time", "random", "threading", "sys"})

    def test_imports_point_downwards(self) -> None:
        allowed = {
            "ports": {"core", "ports", "__version__"},
            "store": {"core", "store"},
            "bench": {"core", "bench"},
            "draw": {"core", "draw"},
            "work": {"core", "ports", "store", "bench", "work"},
        }
        for room, below in allowed.items():
            for path in (SOURCE / room).rglob("*.py"):
                for name in imported_names(path):
                    parts = name.split(".")
                    if parts[0] == "greenstep" and len(parts) > 1:
                        with self.subTest(file=f"{room}/{path.name}", imported=name):
                            self.assertIn(parts[1], below)

    def test_simulated_chips_are_not_built_on_the_dialects(self) -> None:
        of_chips = [path for path in (SOURCE / "bench").rglob("*.py") if path.name != "trial.py"]  # it runs uploads
        self.assertGreater(len([path for path in of_chips if "(Simulated" in path.read_text("utf-8")]), 20)
        for path in of_chips:
            for imported in imported_names(path):
                with self.subTest(file=path.name, imported=imported):
                    self.assertFalse(imported.startswith(("greenstep.core.dialects", "greenstep.core.trace")))

    def test_what_a_program_can_use_loads_neither_click_nor_rich(self) -> None:
        modules = [f"greenstep.work.{path.stem}" for path in (SOURCE / "work").glob("*.py")]
        self.assertGreater(len(modules), 8)
        loaded = loaded_by("\n".join(f"import {module}" for module in modules))
        self.assertFalse({name for name in loaded if name.split(".")[0] in ("click", "rich", "matplotlib")})
        self.assertFalse({name for name in loaded if name.startswith("greenstep.cli")})


def loaded_with(path: Path, modules: dict[str, Path]) -> set[str]:
    """Those of `modules` that are loaded along with a file: what it imports outside its functions and outside what only
    the type checker reads."""
    package = ["greenstep", *path.relative_to(SOURCE).parts[:-1]]
    there: set[str] = set()
    for node in ast.parse(path.read_text("utf-8")).body:
        for part in node.body if isinstance(node, ast.Try) else [node]:
            if isinstance(part, ast.ImportFrom):
                base = ".".join(package[: len(package) - part.level + 1]) if part.level else ""
                name = ".".join(word for word in (base, part.module or "") if word)
                there.update(full if (full := f"{name}.{alias.name}") in modules else name for alias in part.names)
    return there & set(modules)


class NothingDependsOnTheOrderOfImports(unittest.TestCase):
    def test_no_modules_load_each_other_in_a_circle(self) -> None:
        modules = {
            ".".join(["greenstep", *path.relative_to(SOURCE).with_suffix("").parts]).removesuffix(".__init__"): path
            for path in SOURCE.rglob("*.py")
        }
        left = {name: loaded_with(path, modules) - {name} for name, path in modules.items()}
        self.assertIn("greenstep.core.engine.connect", left["greenstep.core.engine.runner"])
        while ready := [name for name, needed in left.items() if not needed]:
            for name in ready:
                del left[name]
            for needed in left.values():
                needed.difference_update(ready)
        self.assertEqual(sorted(left), [])

    def test_no_package_has_a_name_that_is_also_a_module_of_it(self) -> None:
        for path in SOURCE.rglob("__init__.py"):
            files = {p.stem for p in path.parent.glob("*.py")} | {p.name for p in path.parent.iterdir() if p.is_dir()}
            tree = tree_of(path)
            bound = {
                alias.asname or alias.name
                for node in ast.walk(tree)
                if isinstance(node, ast.ImportFrom)
                for alias in node.names
            } | {node.name for node in tree.body if isinstance(node, ast.FunctionDef | ast.ClassDef)}
            with self.subTest(package=path.parent.name):
                self.assertEqual(bound & files, set())

    def test_only_the_package_itself_loads_its_names_late(self) -> None:
        late = [p for p in SOURCE.rglob("__init__.py") if "def __getattr__" in p.read_text("utf-8")]
        self.assertEqual(late, [SOURCE / "__init__.py"])


class OneNameOneThing(unittest.TestCase):
    def test_no_two_classes_share_a_name(self) -> None:
        """But the dialects' tables of commands, of which no more than one is in sight."""
        defined = Counter(
            node.name
            for path in SOURCE.rglob("*.py")
            for node in ast.walk(tree_of(path))
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_")
        )
        self.assertGreater(len(defined), 300)
        self.assertEqual({name for name, times in defined.items() if times > 1}, {"Command"})
        for path in SOURCE.rglob("*.py"):
            for scope in scopes(path):
                tables = [f"{node.module}" for node in scope for alias in node.names if alias.name == "Command"]
                self.assertLessEqual(len(tables), 1, path)
                self.assertTrue(not tables or path.parent.name == "dialects" or path.name == "own_decoders.py", path)

    def test_no_two_modules_of_a_name_are_in_sight(self) -> None:
        """A simulated chip is called like the dialect that it was not written from: by its name alone it could be
        either."""
        modules = Counter(path.stem for path in SOURCE.rglob("*.py"))
        for path in SOURCE.rglob("*.py"):
            for scope in scopes(path):
                names = [alias.name for node in scope for alias in node.names if modules[alias.name] > 1]
                self.assertEqual(len(names), len({*names}), path)


@cache
def scopes(path: Path) -> list[list[ast.ImportFrom]]:
    """The imports of names in a file: those of the module, and those of each function."""
    tree = tree_of(path)
    functions = [node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef)]
    own = [[node for node in ast.walk(function) if isinstance(node, ast.ImportFrom)] for function in functions]
    inner = {node for nodes in own for node in nodes}
    everywhere = [node for node in ast.walk(tree) if isinstance(node, ast.ImportFrom) and node not in inner]
    return [everywhere, *([*everywhere, *nodes] for nodes in own if nodes)]


class CommandsLoadLittle(unittest.TestCase):
    def test_version_loads_neither_rich_nor_serial(self) -> None:
        loaded = loaded_by("import greenstep.cli.main")
        self.assertEqual(loaded & {"rich", "serial", "numpy", "matplotlib"}, set())

    def test_parts_without_plugins_load_no_metadata(self) -> None:
        loaded = loaded_by("from greenstep.core.chips.catalogue import added_files\nassert added_files() == ()")
        self.assertIn("greenstep.core.chips.plugins", loaded)
        self.assertNotIn("importlib.metadata", loaded)

    def test_no_command_loads_matplotlib(self) -> None:
        commands = sorted(path.stem for path in (SOURCE / "cli").glob("[a-z]*.py") if path.stem != "handed_over")
        self.assertIn("upload", commands)
        loaded = loaded_by("\n".join(f"import greenstep.cli.{name}" for name in commands))
        self.assertIn("greenstep.work.board", loaded)
        self.assertFalse({name for name in loaded if name.split(".")[0] in ("matplotlib", "pandas", "elftools")})


if __name__ == "__main__":
    unittest.main()
