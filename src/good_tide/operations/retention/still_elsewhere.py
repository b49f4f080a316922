"""Where else something is that was taken out of a store: other stores of its jobs, and holding areas."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import msgspec

from good_tide.core.errors import GoodTideError, StoppedError
from good_tide.core.progress import Control
from good_tide.core.translation import tr
from good_tide.core.words import count_words
from good_tide.operations.retention.purge import plan_purge
from good_tide.storage.store import Store


class Elsewhere(msgspec.Struct, frozen=True):
    """Another place of a job that holds what was taken out, or may: how many snapshots, or why it could not
    be looked into."""

    name: str
    path: str
    snapshots: int = 0
    trouble: str = ""

    @property
    def words(self) -> str:
        """In a sentence."""
        if self.trouble:
            return tr("{name} could not be looked into, and may still hold it: {trouble}").format(
                name=self.name, trouble=self.trouble
            )
        return tr("{name} still holds it, in {snapshots}: take it out there too ({path})").format(
            name=self.name, snapshots=count_words(self.snapshots, "snapshot"), path=self.path
        )


def still_elsewhere(
    store: Store,
    pattern: str,
    home: str,
    places: Iterable[tuple[str, str, Callable[[], Store]]],
    control: Control,
) -> list[Elsewhere]:
    """Where else what is taken out of a store is.

    :param places: other stores and holding areas of the jobs that use it: name, path, and how they are
        opened.

    Raises:
        StoppedError: the person stopped it.
    """
    found = []
    for name, path, opened in places:
        try:
            other = opened()
            if other.place.where == store.place.where:
                continue
            count = len(plan_purge(other, pattern, home, control).snapshots)
        except StoppedError:
            raise
        except GoodTideError as error:
            found.append(Elsewhere(name, path, trouble=error.what))
            continue
        if count:
            found.append(Elsewhere(name, path, count))
    return found
