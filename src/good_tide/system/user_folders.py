"""The person's usual folders, by the XDG user-directory standard (``user-dirs.dirs``)."""

from __future__ import annotations

import os
import pwd
import re
from pathlib import Path

from good_tide.core.translation import tr

_NAMES = (
    tr("DESKTOP"),
    tr("DOCUMENTS"),
    tr("DOWNLOAD"),
    tr("MUSIC"),
    tr("PICTURES"),
    tr("PUBLICSHARE"),
    tr("TEMPLATES"),
    tr("VIDEOS"),
)
_USUAL = {
    "DESKTOP": "Desktop",
    "DOCUMENTS": "Documents",
    "DOWNLOAD": "Downloads",
    "MUSIC": "Music",
    "PICTURES": "Pictures",
    "VIDEOS": "Videos",
}
_PROPOSED = ("DESKTOP", "DOCUMENTS", "MUSIC", "PICTURES", "VIDEOS")
_LINE = re.compile(r'XDG_([A-Z]+)_DIR="(.*)"')


def user_folders(home: str) -> dict[str, str]:
    """The user directories by name, such as ``DOCUMENTS``; those that the standard's file does not name as
    usual."""
    found = {name: f"{home}/{folder}" for name, folder in _USUAL.items()}
    settings = Path(os.environ.get("XDG_CONFIG_HOME") or f"{home}/.config") / "user-dirs.dirs"
    try:
        lines = settings.read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError):
        lines = []
    for line in lines:
        match = _LINE.match(line.strip())
        if match and match[1] in _NAMES:
            path = match[2].replace("$HOME", home, 1)
            found[match[1]] = path.rstrip("/") or "/"
    return {name: path for name, path in found.items() if path != home}


def proposed_folders(home: str) -> list[str]:
    """What to cover unless the person says otherwise: their usual folders that are there, else the whole home
    folder."""
    folders = user_folders(home)
    there = [folders[name] for name in _PROPOSED if name in folders and os.path.isdir(folders[name])]
    return there or [home]


def user_name() -> str:
    """The name that this person logs in with; their number where the system knows none."""
    try:
        return pwd.getpwuid(os.getuid()).pw_name
    except KeyError:
        return str(os.getuid())
