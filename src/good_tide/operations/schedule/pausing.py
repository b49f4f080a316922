"""Pauses: nothing runs by itself for a while."""

from __future__ import annotations

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr
from good_tide.operations.context import Context


def pause(context: Context, until: int) -> None:
    """Let nothing run by itself until a moment (nanoseconds since 1970 UTC); 0: go on.

    Raises:
        PlaceError: it cannot be kept.
    """
    if not context.records.pause(until):
        what = tr("The pause") if until else tr("The end of the pause")
        raise PlaceError(
            tr("{what} cannot be kept in {records}").format(what=what, records=context.here.records),
            tr("Free some room there, or make it writable"),
        )
    words = tr("Everything was paused by hand") if until else tr("The pause was ended by hand")
    context.journal.add("note" if until else "good", None, words)
