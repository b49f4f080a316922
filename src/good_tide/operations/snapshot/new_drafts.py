"""The draft of a folder that was walked and read as a whole."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from good_tide.core.entries import NOTHING_EXTRA, Entry, Extra
from good_tide.core.identifiers import chunk_of, part_of
from good_tide.core.listed import FILE, FOLDER, Listed, Piece, page_of_one_chunk, page_of_pieces
from good_tide.operations.snapshot.known_contents import PageContents
from good_tide.operations.snapshot.listing_drafts import FolderDraft, LateEntry
from good_tide.operations.snapshot.new_folders import NewFolder


class NewDraft(FolderDraft):
    """A folder in columns: no entries are made of it.

    :param contents: what the files of each of its pages lie in.
    :param inside: the drafts of its sub-folders, and what they have beyond the ordinary, by name.
    """

    __slots__ = ("_contents", "_inside", "_listed")

    def __init__(
        self,
        folder: NewFolder,
        contents: Sequence[PageContents],
        inside: Mapping[bytes, tuple[FolderDraft, Extra]],
    ) -> None:
        super().__init__(path=folder.path, size=folder.entries)
        self._listed, self._contents = folder.pages, contents
        self._inside = {name: draft for name, (draft, _) in inside.items()}
        self.look, self.stamps = folder.look, folder.stamps
        for own in contents:
            if own.ticket is not None:
                self.tickets.add(own.ticket)
            else:
                for parts in own.parts():
                    self.refers_to(parts)
        if any(extra is not NOTHING_EXTRA for _, extra in inside.values()):
            for page in folder.pages:
                places = [at for at, one in enumerate(page.lies) if one == FOLDER]
                for at, name in zip(places, page.folders, strict=True):
                    if inside[name][1] is not NOTHING_EXTRA:
                        page.end[at] = inside[name][1]

    @property
    def waits(self) -> bool:
        return bool(self._inside) and any(draft.pages is None for draft in self._inside.values())

    def listing(self, final: Callable[[LateEntry], Entry]) -> list[bytes]:
        pages = [
            self._page(page, contents) for page, contents in zip(self._listed, self._contents, strict=True)
        ]
        self._listed, self._contents, self._inside, self.tickets = [], (), {}, set()
        return pages

    def _page(self, page: Listed, contents: PageContents) -> bytes:
        if not page.folders and (contents.ticket is not None or not page.files):
            chunk = contents.ticket.chunk if contents.ticket is not None else None
            return page_of_one_chunk(page, chunk, contents.offsets)
        parts, names = iter(contents.parts()), iter(page.folders)
        pieces: list[Sequence[Piece]] = []
        for one in page.lies:
            if one == FILE:
                pieces.append([(part.chunk, part.offset, part.length) for part in next(parts)])
            elif one == FOLDER:
                below = self._inside[next(names)].pages or ()
                pieces.append([(chunk_of(own), *part_of(own)) for own in below])
        return page_of_pieces(page, pieces)
