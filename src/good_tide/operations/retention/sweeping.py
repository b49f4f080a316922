"""Giving back the room of what nothing needs."""

from __future__ import annotations

from good_tide.core.progress import Control
from good_tide.core.translation import tr
from good_tide.core.words import size_words
from good_tide.operations.context import Context
from good_tide.operations.retention.thinning import SweepReport, sweep
from good_tide.operations.snapshot.holding import heed
from good_tide.operations.stores.opening import Store
from good_tide.operations.stores.users import users_of


def sweep_store(
    context: Context, store: Store, control: Control, only_plan: bool = False, thorough: bool = False
) -> SweepReport:
    """Sweep a store (``thinning.sweep``), keep when that was, and note what came back.

    Raises:
        PlaceError: another sweep is at work. StoppedError: the person stopped it; what was done is done.
    """
    here, users = context.here, users_of(context, store)

    def let_go() -> None:
        for ref in {ref for _, ref in users}:
            heed(here.holdings, ref, store, here.state)

    report = sweep(store, here.state, context.clock, control, only_plan, let_go, thorough)
    if not only_plan:
        context.records.note_swept(store.header.store, context.clock.now(), report.waits > 0)
        if report.freed:
            job = users[0][0] if users else None
            called = users[0][1].called if users else store.place.title
            context.journal.add(
                "good",
                job,
                tr("{freed} given back on {called}").format(freed=size_words(report.freed), called=called),
            )
    return report


def swept_words(report: SweepReport) -> str:
    """What came back, in words."""
    if report.unclear:
        return tr(
            "Nothing was given back, because it is not known what is needed: {unclear}. Run “good-tide"
            " repair” on this store"
        ).format(unclear=report.unclear)
    more = ", " + tr("more as soon as whoever writes to the store now is done") if report.waits else ""
    return tr("{freed} given back{more}").format(freed=size_words(report.freed), more=more)
