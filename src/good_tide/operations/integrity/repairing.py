"""Mending a store for a person or by the agent: with everything of this machine that may have what it
lost."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from pathlib import Path

import msgspec

from good_tide.core.damage import Damage, costs_words
from good_tide.core.errors import GoodTideError
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.core.progress import Control
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.core.words import count_words
from good_tide.operations.context import Context
from good_tide.operations.integrity.repair import RepairReport, Source, repair
from good_tide.operations.integrity.verify import VerifyReport, verify
from good_tide.operations.stores import holding_area as areas
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.opening import Store, open_catalog
from good_tide.operations.stores.users import users_of

_NAMED = 20
"""Lines of detail in the journal."""


def verify_store(context: Context, store: Store, control: Control, read_all: bool) -> VerifyReport:
    """Check a store (``verify.verify``), keep what was found with its health, and tell of damage in the
    journal.

    Raises:
        PlaceError: the disk cannot be read. StoppedError: the person stopped it.
    """
    report = verify(store, read_all, control)
    _remember(context, store, report.damage, report.lost_versions, False)
    if report.damage and context.journal.is_news(f"damage/{store.header.store}/{costs_words(report.damage)}"):
        job, called = called_by(context, store)
        costs = costs_words(report.damage)
        what = (
            tr("{called} has lost {costs}").format(called=called, costs=costs)
            if costs
            else tr("{called} is damaged").format(called=called)
        )
        detail = tuple(lost_words(one) for one in report.damage[:_NAMED])
        todo = tr("Let it be repaired, with “good-tide repair” or on the page Stores.")
        context.journal.add("trouble", job, what, detail, tr("Everything else in it can be used."), todo)
    return report


def _remember(
    context: Context,
    store: Store,
    damage: Sequence[Damage],
    versions: Collection[tuple[ContentDigest, ChunkId]],
    mended: bool,
) -> None:
    """Keep what a look at a store found with its health, and which versions are lost in the catalog.

    :param mended: everything that could be mended is.
    """
    context.health.note_looked(store, damage, mended, context.clock.now())
    catalog = open_catalog(store, context.here.cache)
    try:
        catalog.note_lost(versions)
    finally:
        catalog.close()


def accept_loss(context: Context, store: Store) -> bool:
    """A person has taken notice of what is lost of a store; whether anything was."""
    before = context.health.of(store.header.store)
    if not before.harmed:
        return False
    context.health.change(store.header.store, lambda known: msgspec.structs.replace(known, accepted=True))
    job, called = called_by(context, store)
    context.journal.add(
        "note",
        job,
        tr("The loss of {costs} of {called} was accepted").format(
            costs=before.costs or "a part", called=called
        ),
    )
    return True


def repair_store(
    context: Context,
    store: Store,
    given: Sequence[Source],
    stores_of: Callable[[Job], JobStores],
    control: Control,
    read_all: bool = True,
) -> RepairReport:
    """Mend a store, from what is left of it, from the other stores and holding areas of the jobs that use it,
    and from the files as they are now; and note in the journal what came of it.

    :param given: further stores that may have what it lost.
    :param stores_of: the ways into a job's stores.

    Raises:
        PlaceError: the disk cannot be read or written. StoppedError: the person stopped it; what was brought
            back stays.
    """
    sources, missing = _sources(context, store, stores_of)
    report = repair(store, [*given, *sources], context.here.state, control, read_all)
    if report.lost and missing:
        report.notes += [
            tr(
                "{called} could not be asked ({why}); connect it and repair again, should it have what is"
                " lost"
            ).format(called=called, why=why)
            for called, why in missing
        ]
    _remember(context, store, report.lost, report.lost_versions, True)
    _tell(context, store, report)
    return report


def _sources(
    context: Context, store: Store, stores_of: Callable[[Job], JobStores]
) -> tuple[list[Source], list[tuple[str, str]]]:
    """The stores and holding areas of the jobs that use a store; and those that could not be opened."""
    found: list[Source] = []
    missing: list[tuple[str, str]] = []
    for job, own in users_of(context, store):
        stores = stores_of(job)
        for ref in job.stores:
            if ref.place != own.place:
                try:
                    found.append(Source(ref.called, stores.store(ref)))
                except GoodTideError as error:
                    missing.append((ref.called, error.what))
            elif areas.has_area(context.here.holdings, ref):
                area = _area(context, job, ref, store)
                found += [Source(tr("the holding area"), area)] if area is not None else []
    return found, missing


def _area(context: Context, job: Job, ref: StoreRef, store: Store) -> Store | None:
    try:
        return areas.area_for(context.here.holdings, ref, store, job.holding)
    except GoodTideError:
        return None


def repaired_words(report: RepairReport, called: str) -> str:
    """What a repair came to, in a sentence without a full stop."""
    if report.lost:
        return tr("{called} was mended as far as that could be done; {costs_words} is lost").format(
            called=called, costs_words=costs_words(report.lost) or "a part"
        )
    return (
        tr("{called} was mended; nothing is lost").format(called=called)
        if report.mended
        else tr("Nothing of {called} was damaged").format(called=called)
    )


def mended_words(report: RepairReport) -> list[str]:
    """What was mended, in words, a line each."""
    words = [
        tr("{count} from {called}").format(count=count_words(count, "piece"), called=called)
        for called, count in report.chunks.items()
    ]
    return words + [f"{file}: {how}" for file, how in report.files.items()]


def lost_words(lost: Damage) -> str:
    """What could not be mended, in a line."""
    words = [lost.file, f"{lost.what}"]
    if lost.affects:
        files = count_words(len(lost.affects) + lost.more, "file")
        words.append(
            tr("{files} in {snapshots} affected").format(
                files=files, snapshots=count_words(len(lost.snapshots), "snapshot")
            )
        )
    return ": ".join(words[:2]) + (f"; {words[2]}" if len(words) > 2 else "")


def _tell(context: Context, store: Store, report: RepairReport) -> None:
    job, called = called_by(context, store)
    if report.lost:
        detail = [lost_words(one) for one in report.lost] + mended_words(report)
        context.journal.add(
            "trouble",
            job,
            tr("{called} has lost something that could not be mended").format(called=called),
            tuple(detail[:_NAMED]),
            tr("Everything else in it can be used; new snapshots do not build on what is lost."),
            tr("See “good-tide verify” for the files; connect a twin that may have them, and repair again."),
        )
    elif report.mended:
        context.journal.add(
            "good",
            job,
            tr("{called} was mended").format(called=called),
            tuple(mended_words(report)[:_NAMED]),
            tr("Nothing is lost."),
        )


def called_by(context: Context, store: Store) -> tuple[Job | None, str]:
    """The first job that uses a store, and what people call the store."""
    users = users_of(context, store)
    return (users[0][0], users[0][1].called) if users else (None, store.place.title)


def twin_source(where: Path | str, store: Store) -> Source:
    """A store that a person names as one that may have what another lost."""
    return Source(str(where), store)
