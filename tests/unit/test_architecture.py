"""Rules about the source itself."""

from __future__ import annotations

import ast
import inspect
import subprocess
import sys
import unittest
from pathlib import Path

import click

from tests.support.base import REPOSITORY

SOURCE = REPOSITORY / "src" / "good_tide"
LONG_MODULES = {"storage/recover.py": "one file that lies on every store, and needs nothing of this program"}


class ArchitectureTest(unittest.TestCase):
    def test_nothing_but_the_window_loads_qt(self) -> None:
        names = [
            ".".join(("good_tide", *path.relative_to(SOURCE).with_suffix("").parts))
            for path in SOURCE.rglob("*.py")
            if not {"desktop", "entry"}.intersection(path.parts)
            and path.name not in ("__main__.py", "recover.py", "launch.py")
            and "cli/demo" not in str(path)
        ]
        code = (
            f"import sys, importlib\nfor name in {names!r}: importlib.import_module(name)\nassert not [one"
            " for one in sys.modules if 'PySide6' in one or 'shiboken' in one]"
        )
        subprocess.run([sys.executable, "-c", code], check=True)

    def test_modules_stay_small_or_say_why_not(self) -> None:
        for path in SOURCE.rglob("*.py"):
            name = str(path.relative_to(SOURCE))
            if name not in LONG_MODULES:
                with self.subTest(name):
                    self.assertLessEqual(len(path.read_text().splitlines()), 450)

    def test_what_is_made_takes_few_things(self) -> None:
        for path in SOURCE.rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.FunctionDef) and node.name == "__init__":
                    with self.subTest(f"{path.name}:{node.lineno}"):
                        self.assertLess(len(node.args.args) - 1 + len(node.args.kwonlyargs), 8)

    def test_public_things_have_docstrings(self) -> None:
        for path in SOURCE.rglob("*.py"):
            if path.name == "recover.py":
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                    with self.subTest(f"{path.name}:{node.name}"):
                        self.assertIsNotNone(ast.get_docstring(node))

    def test_an_open_store_is_a_token_to_agent_and_command_line(self) -> None:
        inner = {"place", "header", "keys", "index", "snapshot_ids", "read_snapshot", "read_chunk", "roots"}
        for package in ("agent", "cli", "demo"):
            for path in (SOURCE / package).rglob("*.py"):
                for node in ast.walk(ast.parse(path.read_text())):
                    if isinstance(node, ast.Attribute) and node.attr in inner:
                        owner = ast.unparse(node.value)
                        self.assertNotRegex(owner, r"(^|\.|_)store(\(\))?$", f"{path}:{node.lineno}")

    def test_what_commands_get_is_what_they_declare(self) -> None:
        """Options and arguments are turned into values at run time, where no type checker looks."""
        from good_tide.cli.main import cli

        waiting: list[click.Command] = [cli]
        for command in waiting:
            if isinstance(command, click.Group):
                context = click.Context(command)
                names = command.list_commands(context)
                waiting += [one for name in names if (one := command.get_command(context, name)) is not None]
                continue
            assert command.callback is not None
            declared = inspect.signature(inspect.unwrap(command.callback)).parameters
            for given in command.params:
                if given.name in declared and isinstance(given.type, click.Path | click.types.FuncParamType):
                    made = "Path" if isinstance(given.type, click.Path) else "StorePlace"
                    with self.subTest(f"{command.name} {given.name}"):
                        self.assertRegex(declared[given.name].annotation, rf"(^|\W){made}\b")

    def test_what_a_place_is_only_storage_knows(self) -> None:
        for path in SOURCE.rglob("*.py"):
            if "storage" not in path.parts and path.name != "mounted.py":  # asks for a folder, apart
                self.assertNotIn("LocalPlace", path.read_text(), path)
                self.assertNotRegex(path.read_text(), r"Path\([\w.]*place\.title", path)

    def test_no_pickle_and_no_sleep(self) -> None:
        for path in SOURCE.rglob("*.py"):
            words = path.read_text()
            self.assertNotIn("import pickle", words, path)
            self.assertNotIn("time.sleep", words, path)

    def test_what_is_asked_often_loads_little(self) -> None:
        """Panels and scripts ask how things stand, and each look at a disk is a process of its own."""
        heavy = ("numpy", "blake3", "zstandard", "PySide6", "dbus_fast")
        for module, more in (
            ("good_tide.cli.status_commands", ("cryptography",)),
            ("good_tide.cli.job_list_commands", ("cryptography",)),
            ("good_tide.operations.places.probing", ()),
        ):
            asks = f"import sys, {module}; print([one for one in {heavy + more!r} if one in sys.modules])"
            ran = subprocess.run(
                [sys.executable, "-c", asks], capture_output=True, text=True, check=True, cwd=REPOSITORY
            )
            with self.subTest(module):
                allowed = "[]" if more else "['blake3']"  # a store's header is recognised beside its keys
                self.assertEqual(ran.stdout.strip(), allowed)

    def test_the_layers_hold(self) -> None:
        ran = subprocess.run(
            [str(Path(sys.executable).parent / "lint-imports"), "--no-cache"],
            cwd=REPOSITORY,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(ran.returncode, 0, ran.stdout)
