"""What a desktop and a shell know of a program that is installed for one person: menu entry, icon,
description, manual page, completions of commands. Files lie where the XDG base-directory and desktop-entry
standards, the AppStream specification and the shells look for them, below ``~/.local/share``."""

from __future__ import annotations

import os
from collections.abc import Mapping
from importlib import resources
from pathlib import Path

import platformdirs

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr

_NAME = "org.goodtide.GoodTide"
"""By which desktops know the program, on the session's bus as well."""
_STARTED = {
    f"{_NAME}.desktop": f"applications/{_NAME}.desktop",
    f"{_NAME}.service": f"dbus-1/services/{_NAME}.service",
}
"""Files that say how the program is started."""
_EARLIER = ("applications/good-tide.desktop",)
"""What earlier versions wrote, and this one takes away."""
_PACKAGED = {
    "good-tide.svg": "icons/hicolor/scalable/apps/good-tide.svg",
    "good-tide.metainfo.xml": "metainfo/org.goodtide.GoodTide.metainfo.xml",
}
MADE = {
    "man": "man/man1/good-tide.1",
    "bash": "bash-completion/completions/good-tide",
    "zsh": "zsh/site-functions/_good-tide",
    "fish": "fish/vendor_completions.d/good-tide.fish",
}
"""Where files go that are made from the commands: the manual page, and a completion for each shell."""


def share_folder() -> Path:
    """Where a person's programs keep what all of them may find; ``XDG_DATA_HOME`` says otherwise."""
    return Path(os.path.dirname(platformdirs.user_data_dir("good-tide")))


def install(program: str, made: Mapping[str, str]) -> list[Path]:
    """Write everything, in place of what an earlier version wrote.

    :param program: how the program is started. :param made: texts by the names in ``MADE``.

    Raises:
        PlaceError: a folder cannot be written.
    """
    share, packaged = share_folder(), resources.files("good_tide") / "entry"
    texts = {share / place: (packaged / name).read_text("utf-8") for name, place in _PACKAGED.items()}
    for name, place in _STARTED.items():
        text = (packaged / name).read_text("utf-8")
        texts[share / place] = text.replace("Exec=good-tide", f"Exec={for_entry(program)}")
    texts |= {share / MADE[name]: text for name, text in made.items()}
    for file, text in texts.items():
        write_text(file, text)
    for place in _EARLIER:
        (share / place).unlink(missing_ok=True)
    return sorted(texts)


def write_text(file: Path, text: str, mode: int = 0o644) -> None:
    """Write a text in place of the file that is there; see ``write_file``."""
    write_file(file, os.fsencode(text), mode)


def write_file(file: Path, data: bytes, mode: int = 0o644) -> None:
    """Write a file in place of the one that is there, whole or not at all; with the folders that it is in.

    Raises:
        PlaceError: it cannot be written.
    """
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        new = file.with_name(f".{file.name}.new")
        new.write_bytes(data)
        new.chmod(mode)
        new.replace(file)
    except OSError as error:
        raise PlaceError(
            tr("{file} cannot be written ({strerror})").format(file=file, strerror=error.strerror),
            tr("Check its folder"),
        ) from error


def for_entry(path: str) -> str:
    """A path as the Exec line of a desktop entry has it: in quotes where it has signs that mean something."""
    if not any(sign in path for sign in " \t\"'\\><~|&;$*?#()`%"):
        return path
    quoted = path
    for sign in '\\"`$':
        quoted = quoted.replace(sign, "\\" + sign)
    return '"' + quoted.replace("\\", "\\\\").replace("%", "%%") + '"'


def installed() -> list[Path]:
    """The files that are there now."""
    share = share_folder()
    places = [*_STARTED.values(), *_EARLIER, *_PACKAGED.values(), *MADE.values()]
    return sorted(share / place for place in places if (share / place).is_file())


def remove() -> list[Path]:
    """Take everything away that ``install`` wrote. What was there."""
    gone = installed()
    for file in gone:
        file.unlink(missing_ok=True)
    return gone
