"""What is shown of a version, and how it compares: with what is on the disk, and with other versions. What is
in the files is read in a process of its own (``viewing``)."""

from __future__ import annotations

import os
import stat
from collections.abc import Sequence
from pathlib import Path
from typing import BinaryIO

from good_tide.core.comparing import Compared, Comparison, Counted, Verdict
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import DamageError, PersonError
from good_tide.core.previews import FactsPreview, Preview
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.core.words import printable
from good_tide.operations.history.browse import entry_at, parts_of_file, read_file
from good_tide.storage.store import Store
from good_tide.viewing.apart import Viewer
from good_tide.viewing.content import SNIFFED, Content
from good_tide.viewing.facts import facts
from good_tide.viewing.readers import reader_of
from good_tide.viewing.requests import Compare, Count, Failed, Show, Shown

_COMPARED_WHOLE = 256 << 20
"""Bytes of two files that are compared one by one, to say whether they are the same."""


def content_of(store: Store, entry: Entry, least: int = 0) -> Content:
    """As much of a file in a snapshot as its reader wants, and at least so many bytes.

    Raises:
        PersonError: it is no file. DamageError: it is lost.
    """
    name = printable(os.path.basename(entry.name))
    head = read_file(store, entry, SNIFFED)
    limit = max(reader_of(name, head).limit, least)
    whole = head if entry.stat.size <= len(head) else read_file(store, entry, limit)
    return Content(name, entry.stat.size, whole)


def _content_on_disk(file: BinaryIO, name: str, size: int) -> Content:
    head = file.read(SNIFFED)
    rest = file.read(max(0, reader_of(name, head).limit - len(head)))
    return Content(name, size, head + rest)


def show(viewer: Viewer, store: Store, entry: Entry, small: bool = False) -> Preview:
    """What is shown of an entry of a snapshot; ``small``: a glimpse of it."""
    if entry.kind is Kind.LINK:
        return FactsPreview(tr("A link to {path!r}").format(path=os.fsdecode(entry.extra.target)))
    if entry.kind is Kind.LEFT_OUT:
        return FactsPreview(
            tr("Not in this snapshot: {detail}").format(detail=entry.extra.detail or entry.extra.reason)
        )
    if entry.kind is Kind.FOLDER:
        return FactsPreview("A folder")
    content = content_of(store, entry)
    match viewer.ask(Show(content, small)):
        case Shown(preview=found):
            return found
        case Failed(why=why):
            return facts(content, why)
        case _:
            raise AssertionError("no answer to what was asked")


def same_as_disk(store: Store, entry: Entry, path: bytes) -> Comparison:
    """Whether a version is what is on the disk now, without looking into it."""
    try:
        info = os.lstat(path)
    except OSError:
        return Comparison(Verdict.OTHER, tr("It is not on the disk now"))
    if not stat.S_ISREG(info.st_mode):
        return Comparison(Verdict.OTHER, tr("Something else is on the disk under this name now"))
    try:
        return _same_bytes(store, entry, path, info.st_size)
    except OSError as error:
        words = tr("What is on the disk now cannot be read ({strerror})").format(
            strerror=os.strerror(error.errno or 0)
        )
        return Comparison(Verdict.OTHER, words)


def _same_bytes(store: Store, entry: Entry, path: bytes, size: int) -> Comparison:
    differs = Comparison(Verdict.OTHER, tr("Differs from what is on the disk now"))
    with Path(os.fsdecode(path)).open("rb") as file:
        if size != entry.stat.size:
            return differs
        done = 0
        for part in parts_of_file(store, entry):
            if file.read(len(part)) != part:
                return differs
            done += len(part)
            if done >= _COMPARED_WHOLE and done < size:
                return Comparison(Verdict.OTHER, tr("As far as it was compared, the same as on the disk now"))
    return Comparison(Verdict.SAME, tr("The same as what is on the disk now"))


def compare_with_disk(viewer: Viewer, store: Store, entry: Entry, path: bytes) -> Comparison:
    """How a version compares with what is on the disk now."""
    simply = same_as_disk(store, entry, path)
    if simply.verdict is Verdict.SAME or not simply.words.startswith(tr("Differs")):
        return simply
    try:
        with Path(os.fsdecode(path)).open("rb") as file:
            name = printable(os.path.basename(path))
            now = _content_on_disk(file, name, os.fstat(file.fileno()).st_size)
    except OSError as error:
        words = tr("What is on the disk now cannot be read ({strerror})").format(
            strerror=os.strerror(error.errno or 0)
        )
        return Comparison(Verdict.OTHER, words)
    return _compare(viewer, content_of(store, entry), now, tr("what is on the disk now"))


def compare_versions(viewer: Viewer, store: Store, entry: Entry, before: Entry | None) -> Comparison:
    """How a version compares with the one before it, if there is one."""
    if before is None:
        return Comparison(Verdict.FIRST, tr("This is the first version"))
    if before.kind is not Kind.FILE:
        return Comparison(Verdict.OTHER, tr("Before, this was no file"))
    return _compare_entries(viewer, store, entry, before, tr("the version before"))


def compare_moments(viewer: Viewer, store: Store, entry: Entry, against: Snapshot, path: bytes) -> Comparison:
    """How a version compares with what stood under a path in another snapshot."""
    try:
        other = entry_at(store, against, path)
    except PersonError:
        return Comparison(Verdict.OTHER, tr("It is not there at the other mark"))
    if other.kind is not Kind.FILE:
        return Comparison(Verdict.OTHER, tr("At the other mark this is no file"))
    return _compare_entries(viewer, store, entry, other, tr("the other mark"))


def _compare_entries(viewer: Viewer, store: Store, entry: Entry, other: Entry, called: str) -> Comparison:
    if entry.stat.size == other.stat.size and (
        entry.digest == other.digest or entry.extents == other.extents
    ):
        return Comparison(Verdict.SAME, tr("The same as {called}").format(called=called))
    return _compare(viewer, content_of(store, entry), content_of(store, other), called)


def _compare(viewer: Viewer, mine: Content, theirs: Content, called: str) -> Comparison:
    if mine.data == theirs.data and mine.size == theirs.size and mine.whole:
        return Comparison(Verdict.SAME, tr("The same as {called}").format(called=called))
    match viewer.ask(Compare(mine, theirs)):
        case Compared() as compared:
            return Comparison(Verdict.OTHER, _said(compared, called), compared)
        case Failed(why=why):
            both = Compared(facts(mine, why), facts(theirs, why))
            return Comparison(
                Verdict.OTHER,
                tr("Differs from {called}; cannot be compared. {why}").format(called=called, why=why),
                both,
            )
        case _:
            raise AssertionError("no answer to what was asked")


def _said(compared: Compared, called: str) -> str:
    how = compared.words()
    if how:
        return tr("Differs from {called}: {how}").format(called=called, how=how)
    mine, theirs = (isinstance(one, FactsPreview) for one in (compared.chosen, compared.other))
    if mine is theirs:
        return tr("Differs from {called}").format(called=called)
    if theirs:
        return tr("Differs from {called} throughout: that is nothing that can be read any more").format(
            called=called
        )
    return tr("Differs from {called}: this version is nothing that can be read").format(called=called)


def count_changes(viewer: Viewer, store: Store, versions: Sequence[tuple[bytes, Snapshot]]) -> list[Counted]:
    """How many lines each version of a file, under its path then, differs in from the one before it in the
    list; the first from nothing. Those that are lost, or no files, have no lines."""
    found: list[Counted] = []
    before: Content | None = None
    for path, snapshot in versions:
        try:
            content = content_of(store, entry_at(store, snapshot, path))
        except (DamageError, PersonError):
            found.append(Counted(lines=False))
            continue
        if before is None:
            found.append(Counted(lines=False))
        else:
            answer = viewer.ask(Count(content, before))
            found.append(answer if isinstance(answer, Counted) else Counted(lines=False))
        before = content
    return found
