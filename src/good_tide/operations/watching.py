"""Which changes that the system tells of make a snapshot due."""

from __future__ import annotations

import os
import stat
from collections.abc import Sequence

from good_tide.core.coverage import Coverage, FolderState
from good_tide.core.rhythm import Rhythm

_MOST_FOLDERS = 50_000
"""Judgements of so many folders are kept in memory."""


class ChangeJudge:
    """Judges changed paths by the rules of coverage: what no snapshot takes in does not make one due.

    :param ignored: folders of this program, and stores, whose changes never count.
    """

    def __init__(self, folders: Sequence[str], coverage: Coverage, rhythm: Rhythm, ignored: Sequence[str]) -> None:
        self._folders, self._coverage, self._rhythm = tuple(folders), coverage, rhythm
        left = [*ignored, *(os.path.expanduser(one) for one in rhythm.timed_only)]
        self._ignored = tuple(one.rstrip("/") + "/" for one in left if one)
        self._states: dict[str, FolderState] = {}

    def counts(self, path: str) -> bool:
        """Whether a change of a path makes a snapshot due by itself."""
        inside = path + "/"
        if inside.startswith(self._ignored):
            return False
        covered = next((one for one in self._folders if inside.startswith(one.rstrip("/") + "/")), None)
        if covered is None:
            return False
        folder, name = os.path.split(path)
        if path == covered:
            return True
        state = self._state(folder, covered)
        if not state.open:
            return False
        try:
            info = os.lstat(path)
        except OSError:
            return True  # it is gone, which is a change
        if stat.S_ISDIR(info.st_mode):
            return self._coverage.enter(state, name).open
        if info.st_size > self._rhythm.large_bytes:
            return False
        return not self._coverage.is_out(self._coverage.files(state, [name], [info.st_size], [info.st_mtime_ns])[0])

    def _state(self, folder: str, covered: str) -> FolderState:
        """The state of a folder by the rules; marks in folders are not looked for, a run does that."""
        known = self._states.get(folder)
        if known is None:
            if len(self._states) > _MOST_FOLDERS:
                self._states.clear()
            if folder == covered:
                known = self._coverage.enter_covered(covered)
            else:
                known = self._coverage.enter(self._state(os.path.dirname(folder), covered), os.path.basename(folder))
            self._states[folder] = known
        return known
