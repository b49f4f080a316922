"""Words of restoring that everybody shares."""

from __future__ import annotations

import enum


class Existing(enum.StrEnum):
    """What happens to a thing that stands where another is restored."""

    SET_ASIDE = "set-aside"
    SKIP = "skip"
    KEEP_BOTH = "keep-both"


class Extent(enum.StrEnum):
    """How much of what was chosen is brought back."""

    ALL = "all"
    MISSING = "missing"
    """Only what is not there now."""
    CHANGED = "changed"
    """Only what is there and is another."""
    EXACTLY = "exactly"
    """All of it, and what is strange to that moment is set aside."""


class Action(enum.StrEnum):
    """What a restore does with one item."""

    CREATE = "create"
    IDENTICAL = "identical"
    REPLACE = "replace"
    SKIP = "skip"
    BLOCKED = "blocked"
    ASIDE = "aside"
    """What is there now was not there then, and is set aside."""


SET_ASIDE = "Set aside "
"""So begin the folders in which restores keep what they replaced."""


def is_set_aside(name: bytes) -> bool:
    """Whether a folder is called as those are."""
    return name.startswith(SET_ASIDE.encode())
