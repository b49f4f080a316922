"""How well a store is, as far as this machine knows, and what of it somebody should look at."""

from __future__ import annotations

from typing import NamedTuple

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words, size_words, time_words

_DAY = 86400 * SECOND
_LONG_UNWRITTEN = 7 * _DAY
"""A store of several that was not written to for so long is told."""
_REPAIR = tr("Let it be repaired: “Repair” on the page Stores, or “good-tide repair”")


class Drill(msgspec.Struct, frozen=True, omit_defaults=True):
    """Files that were restored for a trial: when (nanoseconds since 1970 UTC, 0: never), how many, and those
    that did not come back as they were."""

    when: int = 0
    files: int = 0
    failed: tuple[str, ...] = ()


class ReadingBack(msgspec.Struct, frozen=True, omit_defaults=True):
    """How far reading a store back has come: bytes read since ``began``, of ``total``; ``whole`` is when all
    had been read once, and ``whole_bytes`` how much that was. Times in nanoseconds since 1970 UTC, 0:
    never."""

    began: int = 0
    read: int = 0
    total: int = 0
    last: int = 0
    whole: int = 0
    whole_bytes: int = 0


class StoreHealth(msgspec.Struct, frozen=True, omit_defaults=True):
    """What this machine knows of a store. Times in nanoseconds since 1970 UTC, 0: never.

    :param written: when a snapshot last came into it from here.
    :param failing_since: since when it takes none, with ``error`` and ``advice``.
    :param damage: its damaged files that cost something, or of which it is not known what they cost; what
        that is in words is in ``costs``.
    :param judged: damaged files of which it is known.
    :param lost: repair found no way to mend it.
    :param accepted: a person has taken notice of that.
    :param mended: how many files were put right, the last ``mended_at``.
    :param listed: when all listings of a snapshot were last read for a trial.
    """

    written: int = 0
    failing_since: int = 0
    error: str = ""
    advice: str = ""
    damage: tuple[str, ...] = ()
    judged: tuple[str, ...] = ()
    costs: str = ""
    lost: bool = False
    accepted: bool = False
    found: int = 0
    mended: int = 0
    mended_at: int = 0
    reading: ReadingBack = ReadingBack()
    drill: Drill = Drill()
    listed: int = 0

    @property
    def harmed(self) -> bool:
        """Whether something of it is lost, and nobody has taken notice of it."""
        return bool(self.damage) and not self.accepted


class StoreTrouble(NamedTuple):
    """What somebody should look at: since when, what, what to do, and whether content is lost."""

    since: int
    what: str
    todo: str
    harm: bool = False


def store_troubles(name: str, health: StoreHealth, newest: int, now: int) -> list[StoreTrouble]:
    """What somebody should look at about a store that is called ``name``.

    :param newest: when the newest snapshot came into any store of the job.
    """
    found = []
    if health.harmed:
        files = count_words(len(health.damage), "file")
        what = (
            tr("{name} has lost {costs}").format(name=name, costs=health.costs)
            if health.costs
            else tr("{name} is damaged: {files} of the store").format(name=name, files=files)
        )
        todo = (
            tr(
                "Its health on the page Stores, or “good-tide verify”, names them; repair again with a twin"
                " connected, or accept the loss (“good-tide repair --accept-loss”)"
            )
            if health.lost
            else _REPAIR
        )
        found.append(StoreTrouble(health.found or now, what, todo, True))
    if health.drill.failed:
        count = count_words(len(health.drill.failed), "file")
        how = tr("as it was") if len(health.drill.failed) == 1 else tr("as they were")
        what = tr("{count} on {name} did not come back {how} in a trial").format(
            count=count, name=name, how=how
        )
        found.append(StoreTrouble(health.drill.when, what, _REPAIR, True))
    if health.failing_since:
        what = tr("{name} takes no snapshots: {error}").format(name=name, error=health.error)
        found.append(StoreTrouble(health.failing_since, what, health.advice))
    elif health.written and newest - health.written > _LONG_UNWRITTEN:
        what = tr("{name} has had no snapshot since {written}").format(
            name=name, written=time_words(health.written, now)
        )
        found.append(StoreTrouble(health.written, what, tr("Connect it, or take it out of the job")))
    return found


def left_trouble(name: str, count: int, since: int) -> StoreTrouble:
    """Snapshots that waited for the disk that a store was on before could not be carried into it."""
    waited = tr("snapshot that waits") if count == 1 else tr("snapshots that wait")
    return StoreTrouble(
        since,
        tr("{count} {waited} for the disk before {name} cannot be carried into the new store").format(
            count=number_words(count), waited=waited, name=name
        ),
        tr(
            "They build on what only the old disk has: carry that disk's history here (“good-tide carry”) and"
            " run “good-tide job replace-store” again, or let them go (“--let-go”)"
        ),
    )


def proven_words(health: StoreHealth, now: int) -> str:
    """What has proven that a store can be read, in a line."""
    reading, drill = health.reading, health.drill
    if reading.whole:
        words = [
            tr("all {whole_bytes} read back by {whole}").format(
                whole_bytes=size_words(reading.whole_bytes), whole=time_words(reading.whole, now)
            )
        ]
    elif reading.began:
        words = [
            tr("{read} of {total} read back so far").format(
                read=size_words(reading.read), total=size_words(reading.total)
            )
        ]
    else:
        words = [tr("nothing read back yet")]
    if drill.when:
        files = count_words(drill.files, "file")
        failed = (
            tr("{failed} failed").format(failed=number_words(len(drill.failed)))
            if drill.failed
            else tr("none failed")
        )
        words.append(
            tr("{files} restored for a trial on {when}, {failed}").format(
                files=files, when=time_words(drill.when, now), failed=failed
            )
        )
    if health.mended:
        words.append(tr("{mended} put right").format(mended=count_words(health.mended, "damaged file")))
    return tr("Proven: {words}.").format(words=", ".join(words))
