"""The afternoon of noise: snapshots judged by what they changed, so that files which something destroys are
noticed while there is a moment before it.

The thresholds are tuned on histories with upgrades of programs, photo imports, renamed projects and years of
plain work (which must not ring), and on simulated attacks (which must): ``tests/scenario/test_alarm.py``.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.identifiers import SnapshotId, StoreId
from good_tide.core.words import count_words, time_words

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
        return bool(self.noise or self.emptied) or self._mass_gone

    @property
    def _mass_gone(self) -> bool:
        return self.gone >= max(_GONE_FILES, _GONE_PART * self.known)


class Alarm(msgspec.Struct, frozen=True):
    """Files were destroyed, as it seems: since the snapshot of ``since``, in ``store``. ``before`` is the
    last moment before it, which is pinned with ``label``; ``what`` says it in words, and ``paths`` names some
    files."""

    since: int
    store: StoreId
    before: SnapshotId
    before_time: int
    what: str
    label: str = ""
    paths: tuple[bytes, ...] = ()


def alarm_words(judged: Sequence[Judged], now: int) -> tuple[str, Judged] | None:
    """Whether the last of some judged snapshots rings, with those before it: what it is in words, and the
    first that belongs to it.

    :param judged: in order of time.
    """
    newest = judged[-1]
    if not newest.strange:
        return None
    lately = [one for one in judged if newest.time - one.time <= WINDOW and one.strange]
    first = lately[0]
    noise, emptied = sum(one.noise for one in lately), sum(one.emptied for one in lately)
    when = time_words(newest.time, now)
    at = f"at once on {when}" if len(lately) == 1 else f"since {time_words(first.time, now)}"
    ending = next((one.ending for one in reversed(lately) if one.ending), "")
    called = f", and now end with {ending}" if ending else ""
    if noise >= _MOST_NOISE:
        return f"{count_words(noise, 'file')} became noise {at}{called}", first
    if emptied >= _MOST_EMPTIED:
        return f"{count_words(emptied, 'file')} were emptied or overwritten alike {at}", first
    if newest.gone >= max(_GONE_FILES, _GONE_PART * newest.known):
        return f"{newest.gone:,} of {newest.known:,} files were deleted at once on {when}", newest
    return None
