"""SQLite files that are caches of a run: begun anew when they are damaged."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from pathlib import Path


def open_cache(file: Path, furnish: Callable[[sqlite3.Connection], None]) -> sqlite3.Connection:
    """Open such a file, in which whoever opens it begins and ends transactions.

    :param furnish: makes what is to be in it; what it raises says that the file has to be begun anew.

    Raises:
        OSError, sqlite3.Error: the disk does not take it.
    """
    file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    for last in (False, True):
        db = sqlite3.connect(file, isolation_level=None)
        try:
            furnish(db)
            return db
        except sqlite3.DatabaseError:
            db.close()
            if last:
                raise
            file.unlink()
    raise AssertionError("not reached")
