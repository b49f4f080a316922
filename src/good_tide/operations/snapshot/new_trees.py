"""Folders that are new, taken in as helpers hand them over."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from typing import Protocol

from good_tide.core.coverage import FolderState
from good_tide.core.deep import Deep
from good_tide.core.entries import NOTHING_EXTRA, Entry, Extra, Kind
from good_tide.core.translation import tr
from good_tide.operations.snapshot.folders_ahead import FoldersAhead
from good_tide.operations.snapshot.known_contents import PageContents
from good_tide.operations.snapshot.listing_drafts import FolderDraft, LateEntry, LateFolder
from good_tide.operations.snapshot.new_drafts import NewDraft
from good_tide.operations.snapshot.new_folders import Contents, LeftFolder, NewFolder
from good_tide.operations.snapshot.run_notes import RunNotes
from good_tide.operations.snapshot.small_files import SmallFiles
from good_tide.operations.snapshot.unchanged import Was
from good_tide.source.folders import Found, open_folder, reason_of, stat_of

_Taken = LateEntry | Entry | None


class WalkFolder(Protocol):
    """Walks an open folder here: its name, path, handle, metadata, what was there, depth, and where the rules
    stand."""

    def __call__(
        self,
        name: bytes,
        path: bytes,
        handle: int,
        info: os.stat_result,
        was: Was,
        depth: int,
        state: FolderState | None,
    ) -> Deep[_Taken]: ...


class NewTrees:
    """Takes in new folders.

    :param small: takes the content of their files.
    :param finished: takes a folder whose entries are complete.
    :param walk: walks what a helper leaves.
    """

    def __init__(
        self,
        ahead: FoldersAhead,
        small: SmallFiles,
        notes: RunNotes,
        finished: Callable[[FolderDraft], None],
        walk: WalkFolder,
    ) -> None:
        self._ahead, self._small, self._notes, self._finished, self._walk = (
            ahead,
            small,
            notes,
            finished,
            walk,
        )
        self._ready: dict[bytes, tuple[FolderDraft, Extra] | _Taken] = {}
        """Folders that were taken in, by path, until the one that they are in is."""
        self._contents: Iterator[PageContents] = iter(())
        """What the files of the pages that come next lie in."""
        self._left_open = 0
        """Folders that a helper left and that are being walked; what comes next is of the folders around."""

    def walked(self, files: int) -> None:
        """A new folder with so many things in it was walked here."""
        self._ahead.walked(files, 1)

    def ask(
        self,
        items: Iterable[Found],
        path: bytes,
        handle: int,
        depth: int,
        device: int,
        states: dict[bytes, FolderState],
    ) -> None:
        """Have the folders among the items of an open folder walked, unless the first of them was asked for.

        :param depth: of the open folder, below the covered one. :param device: that of the covered folder.
        """
        if not self._ahead.at_work or self._left_open:
            return
        folders = [item for item in items if item.kind is Kind.FOLDER]
        inside = path + b"/" + folders[0].name
        if not self._ahead.asked(inside) and inside not in self._ready:
            wanted = [(item.name, states.get(item.name)) for item in folders]
            self._ahead.ask(path, handle, depth + 1, device, wanted)

    def knows(self, path: bytes) -> bool:
        """Whether a folder was taken in, or asked for."""
        return path in self._ready or self._ahead.asked(path)

    def entry(self, item: Found, path: bytes, handle: int) -> Deep[tuple[bool, _Taken]]:
        """The entry of a folder that is known, in the open folder ``handle``; and whether there is one:
        helpers can die."""
        if path not in self._ready:
            for folder in self._ahead.take(path):
                if isinstance(folder, Contents):
                    self._contents = iter(self._small.take_new(folder.digests, folder.contents, folder.pages))
                elif isinstance(folder, NewFolder):
                    self._ready[folder.path] = self._take(folder)
                elif folder.out:
                    self._ready[folder.path] = None
                else:
                    self._ready[folder.path] = yield self._left(folder, path, handle)
            for pair in self._ahead.owners():
                self._notes.note_numbers(*pair)
        if path not in self._ready:
            return False, None
        taken = self._ready.pop(path)
        if isinstance(taken, tuple):
            taken = LateFolder(item.name, taken[0], stat_of(item.info), taken[1])
        return True, taken

    def _take(self, folder: NewFolder) -> tuple[FolderDraft, Extra]:
        inside: dict[bytes, tuple[FolderDraft, Extra]] = {}
        for page in folder.pages:
            for name in page.folders:
                below = self._ready.pop(folder.path + b"/" + name)
                assert isinstance(below, tuple)
                inside[name] = below
        self._notes.folders += 1
        self._notes.current = folder.path
        self._notes.report(tr("Reading"))
        self._small.count_new(folder.files, folder.size)
        draft = NewDraft(folder, [next(self._contents) for _ in folder.pages], inside)
        self._finished(draft)
        return draft, Extra(attributes=folder.attributes) if folder.attributes else NOTHING_EXTRA

    def _left(self, folder: LeftFolder, asked: bytes, handle: int) -> Deep[_Taken]:
        """Walk a folder here, in one that was asked for; those inside it are ready."""
        above = asked.rpartition(b"/")[0]
        names = folder.path[len(above) + 1 :].split(b"/")
        inside = os.dup(handle)
        self._left_open += 1
        try:
            for name in names:
                outer, inside = inside, open_folder(name, inside)
                os.close(outer)
            info = os.fstat(inside)
            entry: _Taken = yield self._walk(
                names[-1], folder.path, inside, info, Was(folder.path, None), folder.depth, folder.state
            )
            return entry
        except OSError as error:
            detail = os.strerror(error.errno or 0)
            return self._notes.leave_out(names[-1], folder.path, reason_of(error), detail)
        finally:
            self._left_open -= 1
            os.close(inside)
