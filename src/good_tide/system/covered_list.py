"""The list of covered folders for file managers, which show something in the menus of these only. It is there
while something in a file manager reads it. The form: absolute paths, each with a zero byte behind."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from good_tide.system.desktop_entry import share_folder, write_text


def list_file() -> Path:
    """Where it lies."""
    return share_folder() / "good-tide" / "covered-folders"


def write_list(folders: Iterable[str]) -> None:
    """Write it anew.

    Raises:
        PlaceError: it cannot be written.
    """
    write_text(list_file(), "".join(f"{folder}\0" for folder in dict.fromkeys(folders)))


def read_list() -> list[str]:
    """What it says; nothing where it is not there."""
    try:
        return [os.fsdecode(one) for one in list_file().read_bytes().split(b"\0") if one]
    except OSError:
        return []
