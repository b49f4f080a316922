"""What was found by name in all of history."""

from __future__ import annotations

import msgspec

from good_tide.core.history import Lifeline


class FoundFolder(msgspec.Struct, frozen=True):
    """A folder with what was found in it, best first; ``line``: its own life, None above the covered
    folders."""

    path: bytes
    line: Lifeline | None
    lines: tuple[Lifeline, ...]


class Findings(msgspec.Struct, frozen=True):
    """What was found, the best first. ``more``: there is more than this; ``near``: nothing was found, and
    these have names that are near."""

    folders: tuple[FoundFolder, ...] = ()
    more: bool = False
    near: bool = False

    @property
    def paths(self) -> list[bytes]:
        """The paths of everything that was found."""
        return [
            folder.path.rstrip(b"/") + b"/" + line.name if folder.path else line.name
            for folder in self.folders
            for line in folder.lines
        ]

    @property
    def count(self) -> int:
        """How many names."""
        return sum(len(folder.lines) for folder in self.folders)
