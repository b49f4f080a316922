"""The content of an archive on its way into a snapshot."""

from __future__ import annotations

from collections.abc import Iterable
from typing import IO

import msgspec

from good_tide.core.deep import Deep, walked
from good_tide.core.entries import DEEPEST, NOTHING_EXTRA, Entry, Extra, Kind, Reason, Stat
from good_tide.core.translation import tr
from good_tide.operations.dated_copies.members import Member, below
from good_tide.operations.snapshot.listing_drafts import LateEntry, LateFile, LateFolder, draft_after
from good_tide.operations.snapshot.run_notes import RunNotes
from good_tide.operations.snapshot.small_files import NOTHING_BEFORE, Before
from good_tide.operations.snapshot.unchanged import Was, was_at
from good_tide.operations.snapshot.walk import Walk

_PLAIN_FOLDER = Stat(mode=0o755)


class _Folder:
    """A folder of an archive: what is in it so far.

    :param was: what a snapshot of another time has there.
    """

    __slots__ = ("entries", "extra", "folders", "known", "stat", "was")

    def __init__(self, was: Was) -> None:
        self.was = was
        self.stat, self.extra = _PLAIN_FOLDER, NOTHING_EXTRA
        self.entries: dict[bytes, LateEntry | Entry] = {}
        self.folders: dict[bytes, _Folder] = {}
        self.known: dict[bytes, Entry] | None = None


class ArchiveTaking:
    """Takes in the things of one archive, in any order, and makes the folder that they are in.

    :param walk: takes the files' content and the listings.
    :param root: the path of that folder in the snapshot. :param was: what a snapshot of another time has of
        it.
    :param spooled: a file for the content of one file after the other.
    """

    def __init__(self, walk: Walk, notes: RunNotes, root: bytes, was: Was, spooled: IO[bytes]) -> None:
        self._walk, self._notes, self._root, self._spooled = walk, notes, root, spooled
        self._top = _Folder(was)
        self._links: dict[bytes, tuple[int, int]] = {}

    def take(self, members: Iterable[Member], top: bytes) -> LateFolder:
        """Take in everything that lies in one folder of the archive.

        :param top: its path there; empty: everything.
        """
        for member in members:
            path = below(member.path, top)
            if path is not None:
                self._notes.current = self._root + b"/" + path
                self._take(member._replace(path=path), top)
        return walked(self._made(self._top, self._root, self._root))

    def _take(self, member: Member, top: bytes) -> None:
        numbers = f"u{member.stat.uid}", f"g{member.stat.gid}"
        self._notes.owners |= {key: name for key, name in zip(numbers, member.owners, strict=True) if name}
        if not member.path:
            self._top.stat, self._top.extra = member.stat, member.extra
            return
        above, _, name = member.path.rpartition(b"/")
        if member.path.count(b"/") > DEEPEST:
            deep = tr("more than {DEEPEST} folders deep").format(DEEPEST=DEEPEST)
            self._notes.leave_out(name, self._notes.current, Reason.TOO_DEEP, deep)
            return
        folder = self._folder(above)
        if member.kind is Kind.FOLDER:
            inside = self._folder(member.path)
            inside.stat, inside.extra = member.stat, member.extra
            return
        folder.folders.pop(name, None)  # what comes later in an archive takes the place of what was there
        folder.entries[name] = self._entry(member, folder, name, top)
        self._notes.report(tr("Reading"))

    def _entry(self, member: Member, folder: _Folder, name: bytes, top: bytes) -> LateEntry | Entry:
        if member.kind is Kind.LEFT_OUT:
            return self._notes.leave_out(
                name,
                self._notes.current,
                Reason(member.extra.reason),
                member.extra.detail or tr("socket, pipe or device"),
            )
        if member.kind is Kind.LINK:
            return Entry(name, Kind.LINK, member.stat, extra=member.extra)
        if member.link_to is not None:
            return self._further_name(member, name, top)
        assert member.content is not None
        own = self._known(folder).get(name)
        before = Before(own, own) if own is not None and own.kind is Kind.FILE else NOTHING_BEFORE
        handle = member.content.spooled(self._spooled)
        return self._walk.files.apart(name, handle, (member.stat, member.extra), before)

    def _further_name(self, member: Member, name: bytes, top: bytes) -> LateEntry | Entry:
        """A further name of a file that came before."""
        first = below(member.link_to or b"", top)
        above, _, called = (first or b"").rpartition(b"/")
        folder = self._folder(above) if first else self._top
        found = folder.entries.get(called)
        if first is None or found is None or (isinstance(found, Entry) and found.kind is not Kind.FILE):
            what = tr("it is a further name of a file that is not there")
            return self._notes.leave_out(name, self._notes.current, Reason.UNREADABLE, what)
        group = self._links.setdefault(first, (0, len(self._links) + 1))
        linked = _with_group(found, called, group)
        folder.entries[called] = linked
        self._notes.count_file(linked.stat.size)
        return _with_group(linked, name, group)

    def _folder(self, path: bytes) -> _Folder:
        """A folder of the archive, made where it is not there yet."""
        folder = self._top
        for name in path.split(b"/") if path else ():
            if name not in folder.folders:
                folder.entries.pop(name, None)
                folder.folders[name] = _Folder(was_at(folder.was.path, self._known(folder).get(name), True))
            folder = folder.folders[name]
        return folder

    def _known(self, folder: _Folder) -> dict[bytes, Entry]:
        """What a snapshot of another time has in a folder."""
        if folder.known is None:
            folder.known = {
                entry.name: entry
                for page in self._walk.listings.pages(folder.was)
                for entry in page.entries()
            }
        return folder.known

    def _made(self, folder: _Folder, path: bytes, name: bytes) -> Deep[LateFolder]:
        """A folder with all that is in it, written from within."""
        inside: list[LateEntry | Entry] = []
        for called, one in folder.folders.items():
            made = yield self._made(one, path + b"/" + called, called)
            inside.append(made)
        pages = self._walk.listings.pages(folder.was)
        draft = draft_after(path, len(folder.entries) + len(inside), pages, folder.was.pages)
        for entry in (*folder.entries.values(), *inside):
            draft.add(entry)
        self._walk.finished(draft)
        self._notes.folders += 1
        return LateFolder(name, draft, folder.stat, folder.extra)


def _with_group(entry: LateEntry | Entry, name: bytes, group: tuple[int, int]) -> LateEntry | Entry:
    """The entry of a file with several names, under one of them."""
    extra: Extra = msgspec.structs.replace(entry.extra, link_group=group)
    if isinstance(entry, LateFile):
        return LateFile(name, entry.content, entry.stat, extra)
    assert isinstance(entry, Entry)
    return msgspec.structs.replace(entry, name=name, extra=extra)
