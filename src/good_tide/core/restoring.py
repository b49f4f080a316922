"""Words of restoring that everybody shares."""

from __future__ import annotations

import enum


class Existing(enum.StrEnum):
    """What happens to a thing that stands where another is restored."""

    SET_ASIDE = "set-aside"
    SKIP = "skip"
    KEEP_BOTH = "keep-both"


class Action(enum.StrEnum):
    """What a restore does with one item."""

    CREATE = "create"
    IDENTICAL = "identical"
    REPLACE = "replace"
    SKIP = "skip"
    BLOCKED = "blocked"
