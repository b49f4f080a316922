"""A store proves itself: a portion read back, a drill; and what they find is mended where that can be
done."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from good_tide.core.identifiers import StoreId
from good_tide.core.progress import Control
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words
from good_tide.operations.context import Context
from good_tide.operations.integrity.drill import DrillReport, drill, drill_due
from good_tide.operations.integrity.reading_back import Portion, portion_due, read_portion
from good_tide.operations.integrity.repair import RepairReport
from good_tide.operations.integrity.repairing import called_by, repair_store
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.opening import Store

_NAMED = 20


class Proof(msgspec.Struct):
    """What became of proving a store; None: it was not due."""

    portion: Portion | None = None
    drill: DrillReport | None = None
    repair: RepairReport | None = None

    @property
    def well(self) -> bool:
        """Whether nothing is wrong with it any more."""
        failed = self.drill is not None and bool(self.drill.failed)
        return not failed and (self.repair is None or self.repair.whole)


def is_due(context: Context, store_id: StoreId, days: int) -> bool:
    """Whether a store is to prove itself now."""
    health, now = context.health.of(store_id), context.clock.now()
    return bool(health.written) and days > 0 and (portion_due(health, days, now) or drill_due(health, now))


def prove(
    context: Context,
    store: Store,
    days: int,
    stores_of: Callable[[Job], JobStores],
    control: Control,
    by_hand: bool = False,
    everything: bool = False,
) -> Proof:
    """Read back the portion of a store that is due, restore files for a trial where a drill is due, and mend
    what is found damaged.

    :param days: within so many every byte is read back.
    :param stores_of: the ways into a job's stores, which may have what is lost.
    :param by_hand: both, whether they are due or not.
    :param everything: all of it is read.

    Raises:
        PlaceError: the disk cannot be read. StoppedError: it was stopped; what was done counts.
    """
    proof, now = Proof(), context.clock.now()
    health = context.health.of(store.header.store)
    if by_hand or portion_due(health, days, now):
        proof.portion = read_portion(context, store, days, control, everything)
        if proof.portion.mended:
            _tell_mended(context, store, proof.portion.mended)
    if by_hand or drill_due(health, now):
        proof.drill = drill(context, store, control)
        _tell_failed(context, store, proof.drill)
    if (proof.portion is not None and proof.portion.new_harm) or (
        proof.drill is not None and proof.drill.failed
    ):
        proof.repair = repair_store(context, store, [], stores_of, control, read_all=False)
    return proof


def _tell_mended(context: Context, store: Store, count: int) -> None:
    job, called = called_by(context, store)
    what = tr("{count} of {called} {words} put right").format(
        count=count_words(count, "damaged file"), called=called, words="was" if count == 1 else "were"
    )
    means = tr("Nothing is lost. A disk that does this again and again is failing.")
    context.journal.add("note", job, what, (), means, tr("Keep an eye on the disk."))


def _tell_failed(context: Context, store: Store, report: DrillReport) -> None:
    if not report.failed:
        return
    job, called = called_by(context, store)
    what = tr("{failed} on {called} did not come back as they were in a trial").format(
        failed=count_words(len(report.failed), "file"), called=called
    )
    detail = tuple(f"{path}: {why}" for path, why in report.failed[:_NAMED])
    context.journal.add("trouble", job, what, detail, tr("What is damaged is mended where that can be done."))


def proof_words(proof: Proof) -> list[str]:
    """What was proven, in sentences."""
    words = []
    if proof.portion is not None:
        packs = count_words(proof.portion.packs, "pack")
        words.append(
            tr("{packs} read back").format(packs=packs)
            + (", " + tr("and all of it by now") if proof.portion.whole else "")
        )
        if proof.portion.mended:
            words.append(
                tr("{mended} put right").format(mended=count_words(proof.portion.mended, "damaged file"))
            )
    if proof.drill is not None:
        failed = (
            tr("{failed} failed").format(failed=number_words(len(proof.drill.failed)))
            if proof.drill.failed
            else tr("none failed")
        )
        live = (
            ", "
            + tr("{live} of them compared with the live files").format(live=number_words(proof.drill.live))
            if proof.drill.live
            else ""
        )
        words.append(
            tr("{files} restored for a trial{live}, {failed}").format(
                files=count_words(proof.drill.files, "file"), live=live, failed=failed
            )
        )
    return words
