"""What a run counts, notes and reports."""

from __future__ import annotations

import contextlib
import grp
import os
import pwd
import time

from good_tide.core.entries import Entry, Extra, Kind, Reason
from good_tide.core.progress import Control, Progress, Stage
from good_tide.core.records import HeavyFile, LeftOut, Snapshot, Tally
from good_tide.operations.snapshot.small_files import SmallFiles

_MOST_NAMED = 100_000
"""So many things that are left out are named in the snapshot; its listings hold them all."""
_REPORT_SECONDS = 0.1
_HEAVY_BYTES, _HEAVY_PART, _MOST_HEAVY = 4 << 30, 100, 20
"""A file that is so large and of which less than one part in so many is new is told of; so many at most."""


class RunNotes:
    """What a run counts and notes besides the content that it takes in, and what it reports of it.

    :param last: the snapshot before, None for a first one.
    :param expected: what the run will come to, for its progress.
    """

    def __init__(self, control: Control, last: Snapshot | None, expected: Tally) -> None:
        self._control, self._expected = control, expected
        self.small: SmallFiles | None = None
        """Counts what it reads by itself."""
        self.files = self.folders = self.bytes = 0
        self.lost_files = 0
        """Unchanged files that are stored again, because the store has lost their content."""
        self.read_ahead = 0
        """Bytes read of files that are not complete yet, and of all before."""
        self.current = b""
        self.left_out: list[LeftOut] = []
        self.unsteady: list[bytes] = []
        self.heavy: list[HeavyFile] = []
        self.owners: dict[str, str] = dict(last.record.owners) if last else {}
        self._seen_owners: set[tuple[int, int]] = set()
        self._reported, self._began = 0.0, time.monotonic()

    def count_file(self, size: int) -> None:
        """A file is in."""
        self.files += 1
        self.bytes += size

    def note_unsteady(self, path: bytes) -> None:
        """A file changed whenever it was read."""
        if len(self.unsteady) < _MOST_NAMED:
            self.unsteady.append(path)

    def note_read(self, path: bytes, read: int, new: int) -> None:
        """A file with an earlier version was read whole, and has so many bytes that are new."""
        if read >= _HEAVY_BYTES and new < read // _HEAVY_PART and len(self.heavy) < _MOST_HEAVY:
            self.heavy.append(HeavyFile(path, read, new))

    def tally(self, changed_large: int, new: int, stored: int) -> Tally:
        """What the run came to.

        :param changed_large: files above the small size that have other content than before.
        :param new: bytes of chunks that the store had not. :param stored: bytes that they take there.
        """
        small = self.small
        files, size, changed = (small.files, small.bytes, small.changed) if small is not None else (0, 0, 0)
        return Tally(
            self.files + files,
            self.folders,
            self.bytes + size,
            changed + changed_large,
            new,
            stored,
            time.monotonic() - self._began,
        )

    def checkpoint(self) -> None:
        """As ``Control.checkpoint``."""
        self._control.checkpoint()

    def leave_out(self, name: bytes, path: bytes, reason: Reason, detail: str) -> Entry:
        """Something is not in, for a reason; its place in the listing."""
        if len(self.left_out) < _MOST_NAMED:
            self.left_out.append(LeftOut(path, reason.value, detail))
        return Entry(name, Kind.LEFT_OUT, extra=Extra(reason=reason.value, detail=detail))

    def note_owner(self, info: os.stat_result) -> None:
        """Keep the names behind user and group numbers, for restores on a machine that numbers them
        otherwise."""
        self.note_numbers(info.st_uid, info.st_gid)

    def note_numbers(self, user: int, group: int) -> None:
        """As ``note_owner``."""
        if (user, group) in self._seen_owners:
            return
        self._seen_owners.add((user, group))
        with contextlib.suppress(KeyError):
            self.owners[f"u{user}"] = pwd.getpwuid(user).pw_name
        with contextlib.suppress(KeyError):
            self.owners[f"g{group}"] = grp.getgrgid(group).gr_name

    def report(self, phase: str, stage: Stage = Stage.UNDER_WAY) -> None:
        """Tell how far the run is, a few times a second; every last part at once."""
        now = time.monotonic()
        if stage is Stage.UNDER_WAY and now - self._reported < _REPORT_SECONDS:
            return
        self._reported = now
        self._control.checkpoint()
        files, size, total = self.files, max(self.bytes, self.read_ahead), self._expected
        if self.small is not None:
            files, size = files + self.small.files, size + self.small.bytes
        self._control.report(
            Progress(phase, files, total.files, size, total.bytes, os.fsdecode(self.current), stage)
        )
