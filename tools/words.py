"""Collect everything that people read, for who translates: ``tools/words.py FILE.pot`` writes a catalog
without translations. A translation is ``src/good_tide/catalogs/LANGUAGE/LC_MESSAGES/good-tide.mo``."""

from __future__ import annotations

import ast
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.pofile import write_po

_SOURCE = Path(__file__).resolve().parent.parent / "src" / "good_tide"


def _texts(tree: ast.AST) -> Iterator[tuple[int, str, str]]:
    """Line, text and plural of everything that is given to translation."""
    for node in ast.walk(tree):
        if not isinstance(node, ast.Call) or not isinstance(node.func, ast.Name):
            continue
        words = [one.value if isinstance(one, ast.Constant) else None for one in node.args]
        if node.func.id in ("tr", "noted") and isinstance(words[0], str):
            yield node.lineno, words[0], ""
        elif node.func.id == "several" and isinstance(words[0], str) and isinstance(words[1], str):
            yield node.lineno, words[0], words[1]
        elif node.func.id == "count_words" and len(words) > 1 and isinstance(words[1], str):
            many = words[2] if len(words) > 2 and isinstance(words[2], str) else f"{words[1]}s"
            yield node.lineno, f"{{count}} {words[1]}", f"{{count}} {many}"


def _all() -> Iterator[tuple[str, int, str, str]]:
    for file in sorted((_SOURCE / "starting_points").glob("*.toml")):
        yield str(file.relative_to(_SOURCE)), 1, tomllib.loads(file.read_text(encoding="utf-8"))["name"], ""
    for file in sorted(_SOURCE.rglob("*.py")):
        for number, one, many in _texts(ast.parse(file.read_text(encoding="utf-8"))):
            yield str(file.relative_to(_SOURCE)), number, one, many


def found_texts() -> list[str]:
    """All texts, plurals among them, each once."""
    return list(dict.fromkeys(text for _, _, one, many in _all() for text in (one, many) if text))


def main() -> int:
    """Write the catalog."""
    catalog = Catalog(project="Good Tide", charset="utf-8")
    for file, number, one, many in _all():
        catalog.add((one, many) if many else one, locations=[(file, number)], flags=["python-brace-format"])
    with open(sys.argv[1], "wb") as target:
        write_po(target, catalog)
    print(f"{len(catalog)} texts in {sys.argv[1]}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
