"""What clients ask of one file: its versions shown, compared, looked through, copied out to be opened."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from good_tide.agent.job_session import JobSession
from good_tide.agent.sessions import Sessions
from good_tide.core.comparing import Comparison, Verdict
from good_tide.core.entries import Entry, Kind
from good_tide.core.identifiers import SnapshotId
from good_tide.core.previews import Preview
from good_tide.core.progress import Silent
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.history.browse import entry_at
from good_tide.operations.history.containing import containing
from good_tide.operations.history.copies import make_copy
from good_tide.operations.history.path_history import version_before
from good_tide.operations.history.showing import (
    compare_moments,
    compare_versions,
    compare_with_disk,
    count_changes,
    same_as_disk,
    show,
)
from good_tide.operations.stores.opened import snapshot_of
from good_tide.protocol.contract import Handler
from good_tide.protocol.version_calls import (
    Beside,
    ChangesView,
    ComparisonView,
    ContainingView,
    Detail,
    FindInVersions,
    MakeCopy,
    OpenWith,
    ReadChanges,
    ReadComparison,
    ReadDetail,
    ReadGlimpse,
)
from good_tide.viewing.apart import Viewer


class VersionHandlers:
    """Shows versions of files. What is in them is read in processes of their own.

    :param open_with: lets a person choose the program for a file.
    """

    def __init__(
        self, context: Context, sessions: Sessions, viewer: Viewer, open_with: Callable[[Path], None]
    ) -> None:
        self._context, self._sessions, self._viewer = context, sessions, viewer
        self._open_with = open_with

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (
            ReadDetail.by(self.detail),
            ReadComparison.by(self.comparison),
            ReadGlimpse.by(self.glimpse),
            ReadChanges.by(self.changes),
            FindInVersions.by(self.find_in_versions),
            MakeCopy.by(self.copy),
            OpenWith.by(self.open_with),
        )

    def detail(self, wanted: ReadDetail) -> Detail:
        """One version of a path.

        Raises:
            PersonError: the snapshot is no longer kept, or the path is not in it.
        """
        session = self._sessions.of(wanted.job)
        store, snapshot = session.store(), session.snapshot(wanted.snapshot, wanted.time)
        entry = entry_at(store, snapshot, wanted.path)
        with_disk = same_as_disk(store, entry, wanted.now or wanted.path) if entry.kind is Kind.FILE else None
        return Detail(
            wanted.path,
            snapshot.id,
            entry.kind,
            entry.stat.size,
            entry.stat.modified,
            entry.stat.mode,
            entry.extra.unsteady,
            show(self._viewer, store, entry),
            with_disk,
            session.elsewhere(wanted.path, snapshot.id),
        )

    def comparison(self, wanted: ReadComparison) -> ComparisonView:
        """One version of a path compared.

        Raises:
            PersonError: the snapshot is no longer kept, or the path is not in it.
        """
        session = self._sessions.of(wanted.job)
        snapshot = session.snapshot(wanted.snapshot, wanted.time)
        entry = entry_at(session.store(), snapshot, wanted.path)
        if entry.kind is not Kind.FILE:
            found = Comparison(Verdict.OTHER, tr("It is no file"))
        else:
            found = self._compare(session, entry, snapshot.id, wanted)
        return ComparisonView(wanted.path, snapshot.id, wanted.beside, found)

    def _compare(
        self, session: JobSession, entry: Entry, snapshot: SnapshotId, wanted: ReadComparison
    ) -> Comparison:
        store, path, now = session.store(), wanted.path, wanted.now or wanted.path
        if wanted.beside is Beside.NOW:
            return compare_with_disk(self._viewer, store, entry, now)
        if wanted.beside is Beside.MARK and wanted.against is not None:
            return compare_moments(self._viewer, store, entry, snapshot_of(store, wanted.against), now)
        _, tide, life = session.versions(path)
        seq = next((point.seq for point in tide if point.name == snapshot), 0)
        before = version_before(life, next((span for _, span in life if span.stood_at(seq)), None))
        earlier = None
        if before is not None:
            where, span = before
            earlier = entry_at(store, snapshot_of(store, tide[span.first - 1].name), where)
        return compare_versions(self._viewer, store, entry, earlier)

    def glimpse(self, wanted: ReadGlimpse) -> Preview:
        """A version, shown small."""
        session = self._sessions.of(wanted.job)
        snapshot = session.snapshot(wanted.snapshot, wanted.time)
        return show(self._viewer, session.store(), entry_at(session.store(), snapshot, wanted.path), True)

    def changes(self, wanted: ReadChanges) -> ChangesView:
        """How much versions of a file differ from each other."""
        store = self._sessions.of(wanted.job).store()
        moments = [(path, snapshot_of(store, name)) for path, name in wanted.versions]
        return ChangesView(tuple(count_changes(self._viewer, store, moments)))

    def find_in_versions(self, wanted: FindInVersions) -> ContainingView:
        """In which versions of a file a phrase stands."""
        session = self._sessions.of(wanted.job)
        history, tide, life = session.versions(wanted.path)
        found = containing(self._viewer, session.store(), tide, life, wanted.phrase, Silent())
        first = tuple(span.first for (_, span), has in zip(life, found, strict=True) if has)
        return ContainingView(history, first, found.count(None))

    def copy(self, wanted: MakeCopy) -> str:
        """A copy of a version to be opened.

        Raises:
            PersonError: the snapshot is no longer kept, or the path is no file in it.
        """
        return str(self._copy(wanted))

    def open_with(self, wanted: OpenWith) -> None:
        """A copy of a version, in the program that a person chooses.

        Raises:
            PersonError: as ``copy``. PlaceError: this desktop does not ask.
        """
        self._open_with(self._copy(wanted))

    def _copy(self, wanted: MakeCopy | OpenWith) -> Path:
        session = self._sessions.of(wanted.job)
        snapshot = session.snapshot(wanted.snapshot, wanted.time)
        return make_copy(session.store(), snapshot, wanted.path, self._context.here.cache)
