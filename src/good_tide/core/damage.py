"""Damage of a store, and what it costs."""

from __future__ import annotations

import os
from collections.abc import Sequence

import msgspec

from good_tide.core.errors import Harm
from good_tide.core.identifiers import SnapshotId
from good_tide.core.translation import tr
from good_tide.core.words import count_words, listed


class Damage(msgspec.Struct):
    """One damaged store file: in what way, and what it costs.

    :param affects: paths of files that have lost content with it; of a listing, the folder. :param more: how
        many further ones. :param versions: how many versions of those files. :param snapshots: those that
        have one of these versions, oldest first.
    """

    file: str
    what: str
    harm: Harm
    affects: list[bytes] = []
    more: int = 0
    versions: int = 0
    snapshots: list[SnapshotId] = []

    @property
    def paths(self) -> list[str]:
        """The affected paths as text, with the number of those not named."""
        words = [os.fsdecode(path) for path in self.affects]
        return [*words, tr("and {more} more").format(more=self.more)] if self.more else words


def costs_words(damage: Sequence[Damage]) -> str:
    """What damage costs, in words; empty when it costs nothing."""
    paths = {path for one in damage for path in one.affects}
    files = len(paths) + sum(one.more for one in damage)
    snapshots = {name for one in damage for name in one.snapshots}
    unreadable = sum(one.file.startswith("snapshots/") for one in damage)
    words = []
    if files:
        words.append(
            tr("content of {files} in {snapshots}").format(
                files=count_words(files, "file"), snapshots=count_words(len(snapshots), "snapshot")
            )
        )
    if unreadable:
        words.append(count_words(unreadable, "snapshot"))
    return listed(words)
