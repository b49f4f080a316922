"""What differs between two moments of a folder."""

from __future__ import annotations

import enum

import msgspec

from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words


class What(enum.StrEnum):
    """How one path differs, from the first moment to the second."""

    GONE = "gone"
    NEW = "new"
    CHANGED = "changed"
    MOVED = "moved"
    """The same content under another path: moved, or renamed."""
    METADATA = "metadata"
    """Only times, owner, permissions or attributes."""


class Differing(msgspec.Struct, frozen=True, array_like=True):
    """One path that differs.

    :param kind: an ``entries.Kind`` letter.
    :param before: bytes at the first moment, :param after: at the second; 0 of what is no file.
    :param other: where it was before, if it was moved. Of a folder that was moved as a whole only itself is
        named.
    :param files: how many files that are.
    """

    path: bytes
    what: What
    kind: str
    before: int = 0
    after: int = 0
    other: bytes = b""
    files: int = 1


class Counts(msgspec.Struct, frozen=True):
    """How many files differ in one way, and their bytes: at the first moment for what is gone, at the second
    otherwise."""

    files: int = 0
    bytes: int = 0


class Differences(msgspec.Struct, frozen=True):
    """Everything that differs, in order of the paths; and what could not be compared, with why."""

    items: tuple[Differing, ...]
    unclear: tuple[tuple[bytes, str], ...] = ()

    def counts(self) -> dict[What, Counts]:
        """How much differs in which way; files and links only."""
        found: dict[What, list[int]] = {what: [0, 0] for what in What}
        for one in self.items:
            if one.kind != "d" or one.what is What.MOVED:
                found[one.what][0] += one.files
                found[one.what][1] += one.before if one.what is What.GONE else one.after
        return {what: Counts(*pair) for what, pair in found.items()}


_WORDS = {
    What.GONE: "gone",
    What.NEW: "new",
    What.CHANGED: "changed",
    What.MOVED: tr("moved or renamed"),
    What.METADATA: tr("only in times or permissions"),
}


def counts_words(counts: dict[What, Counts]) -> str:
    """How much differs, in a line; empty where nothing does."""
    return ", ".join(
        f"{count_words(counts[what].files, 'file')} {words} ({size_words(counts[what].bytes)})"
        if what in (What.GONE, What.NEW, What.CHANGED)
        else f"{counts[what].files:,} {words}"
        for what, words in _WORDS.items()
        if counts[what].files
    )
