"""Change modules of ``core`` and ``storage`` in small ways, and say which changes no test noticed:
``tools/mutants.py [MODULE...]``, with modules such as ``core.ladder``; all of them without any, which takes
hours. A change that only touches words of a message is counted, not shown."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PACKAGES = ("core", "storage")
_LEFT_OUT = ("__init__", "recover")


def main() -> int:
    """Run them; the exit code is 1 when a change was not noticed."""
    names = sys.argv[1:] or [
        f"{package}.{path.stem}"
        for package in PACKAGES
        for path in sorted((ROOT / "src" / "good_tide" / package).glob("*.py"))
        if path.stem not in _LEFT_OUT
    ]
    unnoticed = [mutate(name) for name in names]
    return int(any(unnoticed))


def mutate(name: str) -> int:
    """Change one module, and print what came of it. How many changes of what it does nobody noticed."""
    package, _, module = name.partition(".")
    own = f"tests/unit/{package}/test_{module}.py"
    tests = own if (ROOT / own).exists() else f"tests/unit/{package}"
    began = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="good-tide-mutants-") as folder:
        copy = Path(folder)
        known = subprocess.run(
            ["git", "ls-files", "-z"], cwd=ROOT, capture_output=True, text=True, check=True
        )
        for file in filter(None, known.stdout.split("\0")):
            (copy / file).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(ROOT / file, copy / file)
        with (copy / "pyproject.toml").open("a") as settings:
            settings.write(
                f'\n[tool.mutmut]\nsource_paths = ["src/good_tide/{package}/{module}.py"]\n'
                f'pytest_add_cli_args_test_selection = ["{tests}"]\nalso_copy = ["src", "tests", "docs"]\n'
            )
        mutmut = [sys.executable, "-m", "mutmut"]
        done = subprocess.run([*mutmut, "run"], cwd=copy, capture_output=True, text=True, check=False)
        if "could not find any test case" in done.stdout:
            print(f"{name}: {tests} do not reach it")
            return 1
        if done.returncode:
            print(done.stdout[-2000:] + done.stderr[-2000:])
            return 1
        alive = subprocess.run([*mutmut, "results"], cwd=copy, capture_output=True, text=True, check=True)
        subprocess.run([*mutmut, "export-cicd-stats"], cwd=copy, capture_output=True, check=True)
        counts = json.loads((copy / "mutants" / "mutmut-cicd-stats.json").read_text())
        changes = [_change(mutmut, copy, mutant) for mutant in re.findall(r"(\S+): survived", alive.stdout)]
    shown = [change for change in changes if not _only_words(change)]
    seconds = time.monotonic() - began
    print(
        f"{name}: {counts['total']} changes, {counts['killed']} noticed, {len(shown)} not noticed,"
        f" {len(changes) - len(shown)} of words only, {counts['no_tests']} not reached by its unit tests;"
        f" {seconds:.0f} s"
    )
    for change in shown:
        print("    " + "\n    ".join(change), end="\n\n")
    return len(shown)


def _change(mutmut: list[str], copy: Path, mutant: str) -> list[str]:
    """The lines that a change takes away and puts in."""
    told = subprocess.run([*mutmut, "show", mutant], cwd=copy, capture_output=True, text=True, check=True)
    return [line for line in told.stdout.splitlines() if re.match(r"[-+](?![-+])", line)]


def _only_words(change: list[str]) -> bool:
    """Whether a change is the same but for what is in quotes, or takes a message away."""
    before, after = (
        [re.sub(r"f?([\"']).*?\1|None", "…", line[1:].strip()) for line in change if line.startswith(sign)]
        for sign in "-+"
    )
    return before == after or ([*before, ")"] if after == [")"] else before) == after


if __name__ == "__main__":
    sys.exit(main())
