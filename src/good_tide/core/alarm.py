"""The afternoon of noise: snapshots judged by what they changed, so that files which something destroys are
noticed while there is a moment before it.

The thresholds are tuned on histories with upgrades of programs, photo imports, renamed projects and years of
plain work (which must not ring), and on simulated attacks (which must): ``tests/scenario/test_alarm.py``.
"""

from __future__ import annotations

import enum
from collections.abc import Sequence

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.identifiers import SnapshotId, StoreId
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words, time_words

WINDOW = 14 * 86400 * SECOND
"""What snapshots of so long changed is added up, so that what goes on slowly is noticed too."""
_MOST_NOISE, _MOST_EMPTIED = 8, 20
"""Files that became noise, or were emptied, within the window: from so many on it rings."""
_GONE_FILES, _GONE_PART = 50, 0.4
"""Known files that are gone at once, and not moved: from so many on, and from this part of all on, it
rings."""


class Judged(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a snapshot changed, in files.

    :param time: of the snapshot.
    :param before: the machine's snapshot before it.
    :param known: files of the snapshot before.
    :param rewritten: of those with other content now.
    :param noise: of those that became noise, and were none.
    :param emptied: of those that became empty, zeros, or all the same.
    :param gone: of those that are gone, and not moved.
    :param ending: a new ending that most of the renamed got.
    :param ended: how many.
    :param paths: some of those that became noise or were emptied.
    """

    time: int
    snapshot: SnapshotId
    before: SnapshotId = SnapshotId("")
    known: int = 0
    rewritten: int = 0
    noise: int = 0
    emptied: int = 0
    gone: int = 0
    ending: str = ""
    ended: int = 0
    paths: tuple[bytes, ...] = ()

    @property
    def strange(self) -> bool:
        """Whether it adds to an alarm."""
        return bool(self.noise or self.emptied) or self.mass_gone

    @property
    def mass_gone(self) -> bool:
        """Whether most of the files were deleted at once."""
        return self.gone >= max(_GONE_FILES, _GONE_PART * self.known)


class Ringing(enum.StrEnum):
    """What rings."""

    NOISE = "noise"
    EMPTIED = "emptied"
    DELETED = "deleted"


class Alarm(msgspec.Struct, frozen=True):
    """Files were destroyed, as it seems. Times in nanoseconds since 1970 UTC.

    :param since: of the first snapshot that shows it, ``until`` of the last when it rang.
    :param files: how many files, of ``known``.
    :param ending: what many of them end with now.
    :param store: where it was noticed.
    :param before: the last moment before it, which is pinned with ``label``.
    :param paths: some of the files.
    """

    rings: Ringing
    since: int
    until: int
    files: int
    store: StoreId
    known: int = 0
    ending: str = ""
    before: SnapshotId = SnapshotId("")
    before_time: int = 0
    label: str = ""
    paths: tuple[bytes, ...] = ()

    def words(self, now: int) -> str:
        """What is so, in words without a full stop."""
        at_once = self.since == self.until
        when = (
            tr("at once, {until}").format(until=time_words(self.until, now))
            if at_once
            else tr("since {since}").format(since=time_words(self.since, now))
        )
        if self.rings is Ringing.DELETED:
            return tr("{files} of {known} files were deleted {when}").format(
                files=number_words(self.files), known=number_words(self.known), when=when
            )
        if self.rings is Ringing.EMPTIED:
            return tr("{files} were emptied or overwritten alike {when}").format(
                files=count_words(self.files, "file"), when=when
            )
        called = "; " + tr("they end with {ending} now").format(ending=self.ending) if self.ending else ""
        return tr("{files} became noise {when}{called}").format(
            files=count_words(self.files, "file"), when=when, called=called
        )


def rings(judged: Sequence[Judged], store: StoreId) -> tuple[Alarm, Judged] | None:
    """Whether the last of some judged snapshots rings, with those before it: the alarm, as far as it is known
    by them, and the first that belongs to it.

    :param judged: in order of time.
    :param store: where they are.
    """
    newest = judged[-1]
    if not newest.strange:
        return None
    lately = [one for one in judged if newest.time - one.time <= WINDOW and one.strange]
    first = lately[0]
    noise, emptied = sum(one.noise for one in lately), sum(one.emptied for one in lately)
    ending = next((one.ending for one in reversed(lately) if one.ending), "")
    if noise >= _MOST_NOISE:
        return Alarm(Ringing.NOISE, first.time, newest.time, noise, store, newest.known, ending), first
    if emptied >= _MOST_EMPTIED:
        return Alarm(Ringing.EMPTIED, first.time, newest.time, emptied, store, newest.known), first
    if newest.mass_gone:
        return Alarm(Ringing.DELETED, newest.time, newest.time, newest.gone, store, newest.known), newest
    return None
