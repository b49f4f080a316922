"""Pauses: nothing runs by itself for a while."""

from __future__ import annotations

from good_tide.operations.context import Context


def pause(context: Context, until: int) -> None:
    """Let nothing run by itself until a moment (nanoseconds since 1970 UTC); 0: go on."""
    context.records.pause(until)
    words = "Everything was paused by hand" if until else "The pause was ended by hand"
    context.journal.add("note" if until else "good", None, words)
