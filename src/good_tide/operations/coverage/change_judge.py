"""Which changes that the system tells of make a snapshot due."""

from __future__ import annotations

import os
import stat
from collections.abc import Sequence

from good_tide.core.coverage import Coverage
from good_tide.core.rhythm import Rhythm
from good_tide.operations.coverage.selecting import PathStates


class ChangeJudge:
    """Judges changed paths by the rules of coverage: what no snapshot takes in does not make one due.

    :param ignored: folders of this program, and stores, whose changes never count.
    """

    def __init__(
        self, folders: Sequence[str], coverage: Coverage, rhythm: Rhythm, ignored: Sequence[str]
    ) -> None:
        self._folders, self._coverage, self._rhythm = tuple(folders), coverage, rhythm
        left = [*ignored, *(os.path.expanduser(one) for one in rhythm.timed_only)]
        self._ignored = tuple(one.rstrip("/") + "/" for one in left if one)
        self._states = PathStates(coverage)

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
        state = self._states.of(folder, covered)
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
        return not self._coverage.is_out(
            self._coverage.files(state, [name], [info.st_size], [info.st_mtime_ns])[0]
        )
