"""The draft of a folder that was walked and read as a whole."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import chain, islice

from good_tide.core.entries import NOTHING_EXTRA, Entry, ExtentLike, Extra
from good_tide.core.pages import Listed, encode_listed
from good_tide.operations.snapshot.listing_drafts import FolderDraft, LateEntry
from good_tide.operations.snapshot.new_folders import NewFolder

_FILE, _FOLDER = ord("f"), ord("d")


class NewDraft(FolderDraft):
    """A folder in columns: no entries are made of it.

    :param contents: what each of its files lies in, in order.
    :param inside: the drafts of its sub-folders, and what they have beyond the ordinary, by name.
    """

    __slots__ = ("_inside", "_listed", "_parts")

    def __init__(
        self,
        folder: NewFolder,
        contents: Sequence[Sequence[ExtentLike]],
        inside: Mapping[bytes, tuple[FolderDraft, Extra]],
    ) -> None:
        super().__init__(path=folder.path, size=len(folder.stamps) // 2)
        self._listed, self._parts = folder.pages, contents
        self._inside = {name: draft for name, (draft, _) in inside.items()}
        self.look, self.stamps = folder.look, folder.stamps
        self.refers_to(chain.from_iterable(contents))
        if any(extra is not NOTHING_EXTRA for _, extra in inside.values()):
            for page in folder.pages:
                page.extras |= {
                    at: inside[name][1]
                    for at, name in enumerate(page.names)
                    if page.kinds[at : at + 1] == b"d" and inside[name][1] is not NOTHING_EXTRA
                }

    @property
    def waits(self) -> bool:
        return any(draft.pages is None for draft in self._inside.values())

    def listing(self, final: Callable[[LateEntry], Entry]) -> list[bytes]:
        parts = iter(self._parts)
        pages = [encode_listed(page, self._extents(page, parts)) for page in self._listed]
        self._listed, self._parts, self._inside, self.tickets = [], (), {}, set()
        return pages

    def _extents(self, page: Listed, parts: Iterator[Sequence[ExtentLike]]) -> list[Sequence[ExtentLike]]:
        """Of each entry of a page."""
        if page.kinds.count(b"f") == len(page.kinds):
            return list(islice(parts, len(page.kinds)))
        found: list[Sequence[ExtentLike]] = []
        for name, kind in zip(page.names, page.kinds, strict=True):
            if kind == _FILE:
                found.append(next(parts))
            else:
                found.append(self._inside[name].extents() if kind == _FOLDER else ())
        return found
