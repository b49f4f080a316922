"""Earlier versions in the menus of a file manager. Written by “good-tide desktop install”, which names the
manager and the program in it, and taken away by “good-tide desktop remove”. It runs in the manager's process,
by the system's Python, and needs nothing of the program's own."""

from __future__ import annotations

import importlib
import subprocess
from pathlib import Path
from typing import Any
from urllib.parse import unquote_to_bytes, urlsplit

from gi.repository import GObject

MANAGER = "THE-MANAGER"
PROGRAM = "THE-PROGRAM"
COVERED = "THE-COVERED-LIST"
EARLIER = "EARLIER-VERSIONS"
MISSING = "WHAT-IS-MISSING"

Manager = importlib.import_module("gi.repository." + MANAGER)


def covered_folders() -> list[bytes]:
    """The folders that are covered now, as the list says that the program keeps."""
    try:
        return [one for one in Path(COVERED).read_bytes().split(b"\0") if one]
    except OSError:
        return []


def is_of_interest(path: bytes) -> bool:
    """Whether something is covered at a path, in it, or above it."""
    inside = path.rstrip(b"/") + b"/"
    folders = [one.rstrip(b"/") + b"/" for one in covered_folders()]
    return any(inside.startswith(one) or one.startswith(inside) for one in folders)


def path_of(file: Any) -> bytes:
    """The path of a file that the manager names; empty where it is none of this machine."""
    parts = urlsplit(file.get_uri())
    return unquote_to_bytes(parts.path) if parts.scheme == "file" else b""


class GoodTideMenu(GObject.GObject, Manager.MenuProvider):  # type: ignore[misc, name-defined]  # of the manager
    """Adds to the menus of files, of folders, and of the folder that one is in."""

    def get_file_items(self, *given: Any) -> list[Any]:
        """For what is chosen. Managers give the window first, or not; the files last."""
        files = given[-1]
        return self._items(files[0], "of-file") if len(files) == 1 else []

    def get_background_items(self, *given: Any) -> list[Any]:
        """For the folder that one is in."""
        return self._items(given[-1], "of-folder")

    def _items(self, file: Any, where: str) -> list[Any]:
        path = path_of(file)
        if not path or not is_of_interest(path):
            return []
        items = [self._item("Earlier-" + where, EARLIER, path)]
        if file.is_directory():
            items.append(self._item("Missing-" + where, MISSING, path, "--missing"))
        return items

    def _item(self, name: str, label: str, path: bytes, *options: str) -> Any:
        item = Manager.MenuItem(name="GoodTide::" + name, label=label, tip="", icon="good-tide")
        item.connect("activate", self._open, path, options)
        return item

    def _open(self, item: Any, path: bytes, options: tuple[str, ...]) -> None:
        subprocess.Popen([PROGRAM, "window", *options, "--", path], start_new_session=True)
