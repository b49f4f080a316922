"""This program's own folders, which no restore changes and no comparison counts."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable
from pathlib import Path

import msgspec


class OwnPlaces(msgspec.Struct, frozen=True):
    """Folders by device and inode, however they are reached; and those ``above`` them, which are not to be
    moved as a whole."""

    places: frozenset[tuple[int, int]] = frozenset()
    above: frozenset[tuple[int, int]] = frozenset()

    def has(self, info: os.stat_result) -> bool:
        """Whether something is one of them."""
        return (info.st_dev, info.st_ino) in self.places

    def is_above(self, info: os.stat_result) -> bool:
        """Whether one of them lies in a folder."""
        return (info.st_dev, info.st_ino) in self.above


NOTHING_OWN = OwnPlaces()


def own_places(folders: Iterable[Path]) -> OwnPlaces:
    """Those of some folders that are there."""
    places, above = set(), set()
    for folder in folders:
        with contextlib.suppress(OSError):
            info = os.stat(folder)
            places.add((info.st_dev, info.st_ino))
            for one in folder.resolve().parents:
                info = os.stat(one)
                above.add((info.st_dev, info.st_ino))
    return OwnPlaces(frozenset(places), frozenset(above))
