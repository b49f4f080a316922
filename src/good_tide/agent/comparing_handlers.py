"""What clients ask of what differs between two moments."""

from __future__ import annotations

import msgspec

from good_tide.agent.sessions import Sessions
from good_tide.core.progress import Silent
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import job_selector
from good_tide.operations.history.differences import between
from good_tide.operations.history.disk_differences import since
from good_tide.protocol.contract import Handler
from good_tide.protocol.history_calls import DifferencesView, ReadDifferences

_SENT = 3000


class ComparingHandlers:
    """Compares moments with each other, and with what is on the disk."""

    def __init__(self, context: Context, sessions: Sessions) -> None:
        self._context, self._sessions = context, sessions

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (ReadDifferences.by(self.differences),)

    def differences(self, wanted: ReadDifferences) -> DifferencesView:
        """What differs from a snapshot to another, or to what is on the disk now.

        Raises:
            PersonError: a snapshot is no longer kept, or the path was in neither.
        """
        session = self._sessions.of(wanted.job)
        store, then = session.store(), session.snapshot(wanted.snapshot, wanted.time)
        path = wanted.path or None
        if wanted.against is not None:
            against = session.snapshot(wanted.against, wanted.against_time)
            found = between(store, then, against, path, Silent())
        else:
            selector = None if session.reading else job_selector(session.job, self._context.clock.now())
            found = since(store, then, path, selector, Silent(), self._context.here.own_places)
        sent = msgspec.structs.replace(found, items=found.items[:_SENT])
        return DifferencesView(sent, found.counts(), len(found.items) - len(sent.items))
