"""With which programs folders are opened: our own is added behind the others, and never becomes the usual one
(“Association between MIME types and applications”, freedesktop.org)."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

import platformdirs

_FOLDERS = "inode/directory"
_ADDED = "[Added Associations]"
_LINE = re.compile(rf"^{re.escape(_FOLDERS)}\s*=(.*)$")


def associations_file() -> Path:
    """The person's choices of programs."""
    return Path(os.path.dirname(platformdirs.user_config_dir("good-tide"))) / "mimeapps.list"


def with_program(text: str, entry: str, usual: str) -> str:
    """The choices with a program for folders, behind those that are there, and behind the usual one.

    :param entry: the name of its desktop entry. :param usual: that of the program that opens folders now;
        empty where none does.
    """
    lines, at = text.splitlines(), None
    for number, line in _lines_of(lines, _ADDED):
        found = _LINE.match(line)
        if found is not None:
            known = [one for one in found[1].strip().split(";") if one]
            lines[number] = _joined([*(one for one in known if one != entry), entry])
            return "\n".join(lines) + "\n"
        at = number
    new = _joined([usual, entry] if usual else [entry])
    if at is None:
        lines += ["", _ADDED, new] if lines else [_ADDED, new]
    else:
        lines.insert(at + 1, new)
    return "\n".join(lines) + "\n"


def without_program(text: str, entry: str) -> str:
    """The choices without a program."""
    kept = []
    for line in text.splitlines():
        found = _LINE.match(line)
        if found is not None and entry in found[1]:
            known = [one for one in found[1].strip().split(";") if one and one != entry]
            if known:
                kept.append(_joined(known))
        else:
            kept.append(line)
    return "\n".join(kept) + "\n"


def usual_program() -> str:
    """The desktop entry of the program that opens folders now; empty where none does."""
    for section in ("[Default Applications]", _ADDED):
        for file in _choices():
            for entry in _named(file, section):
                return entry
    for folder in _data_folders():
        for entry in _named(folder / "applications" / "mimeinfo.cache", "[MIME Cache]"):
            return entry
    return ""


def _named(file: Path, section: str) -> Iterator[str]:
    try:
        lines = file.read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return
    for _, line in _lines_of(lines, section):
        found = _LINE.match(line)
        if found is not None:
            entries = (one.strip() for one in found[1].split(";"))
            yield from (one for one in entries if one and _is_there(one))


def _is_there(entry: str) -> bool:
    return any((folder / "applications" / entry).is_file() for folder in _data_folders())


def _lines_of(lines: list[str], section: str) -> Iterator[tuple[int, str]]:
    """The lines of a section, with its heading, and their numbers."""
    inside = False
    for number, line in enumerate(lines):
        if line.strip().startswith("["):
            inside = line.strip() == section
        if inside and line.strip():
            yield number, line


def _choices() -> list[Path]:
    """Files with choices, those that count most first."""
    own = associations_file()
    configs = [own.parent, *_folders("XDG_CONFIG_DIRS", "/etc/xdg")]
    places = [*configs, *(folder / "applications" for folder in _data_folders())]
    desktops = [one.lower() for one in os.environ.get("XDG_CURRENT_DESKTOP", "").split(":") if one]
    return [
        folder / name
        for folder in places
        for name in (*(f"{one}-mimeapps.list" for one in desktops), "mimeapps.list")
    ]


def _data_folders() -> list[Path]:
    own = Path(os.path.dirname(platformdirs.user_data_dir("good-tide")))
    return [own, *_folders("XDG_DATA_DIRS", "/usr/local/share:/usr/share")]


def _folders(variable: str, usual: str) -> list[Path]:
    return [Path(one) for one in (os.environ.get(variable) or usual).split(":") if one]


def _joined(entries: list[str]) -> str:
    return f"{_FOLDERS}={';'.join(entries)};"
