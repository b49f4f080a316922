"""How a path that somebody asks about stands to what is covered."""

from __future__ import annotations

import enum


class PathIs(enum.StrEnum):
    """Where a path lies."""

    IN = "in"
    """In a covered folder, and taken into snapshots."""
    RULED_OUT = "ruled-out"
    """In a covered folder, and left out by a rule."""
    ABOVE = "above"
    """Covered folders lie in it."""
    OUTSIDE = "outside"
    """In none of the covered folders."""
    NO_JOB = "no-job"
    """Nothing is covered on this machine yet."""
