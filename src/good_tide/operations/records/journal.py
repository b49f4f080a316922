"""The journal: what happened, what it means, what to do; and every run. In SQLite in the person's state
folder, bounded.

Nothing depends on it: a journal that cannot be written does not stop what it is about, and a damaged one is
put aside. What it says of a job is kept under the job's identity, with the name that it had.
"""

from __future__ import annotations

import contextlib
import sqlite3
import threading
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import msgspec

from good_tide.core.clock import SECOND, Clock
from good_tide.core.happenings import Event, Filter, LeftOutFile, Level, Run
from good_tide.core.identifiers import JobId
from good_tide.core.records import Snapshot
from good_tide.core.settings import Job
from good_tide.core.translation import tr

JOURNAL_FILE = "journal.sqlite3"
_MOST_EVENTS, _MOST_RUNS = 10_000, 20_000
"""Two years of hourly runs are 17,520."""
_MOST_LEFT_OUT = 500
_TRIM_EVERY = 200
_BUSY_SECONDS = 10.0
_TOLD_KINDS = (
    "bounds/",
    "holding-full/",
    "ladder/",
    "prime/",
    "report/",
    "report-failed/",
    "store/",
    "watch/",
    "",
)
"""What stands before the job in keys of what was told."""
_TOLD_AGAIN = 24 * 3600 * SECOND

_SCHEMA = """
CREATE TABLE IF NOT EXISTS event (
    id INTEGER PRIMARY KEY, time INTEGER NOT NULL, level TEXT NOT NULL, job TEXT NOT NULL, what TEXT NOT NULL,
    means TEXT NOT NULL, todo TEXT NOT NULL, detail TEXT NOT NULL, name TEXT NOT NULL DEFAULT '');
CREATE INDEX IF NOT EXISTS event_time ON event (time);
CREATE TABLE IF NOT EXISTS run (
    id INTEGER PRIMARY KEY, job TEXT NOT NULL, store TEXT NOT NULL, occasion TEXT NOT NULL,
    began INTEGER NOT NULL, seconds REAL NOT NULL, result TEXT NOT NULL, files INTEGER NOT NULL,
    changed INTEGER NOT NULL, new_bytes INTEGER NOT NULL, stored INTEGER NOT NULL, gaps INTEGER NOT NULL,
    snapshot TEXT NOT NULL, words TEXT NOT NULL, name TEXT NOT NULL DEFAULT '');
CREATE INDEX IF NOT EXISTS run_began ON run (job, began);
CREATE TABLE IF NOT EXISTS left_out (
    job TEXT NOT NULL, path BLOB NOT NULL, reason TEXT NOT NULL, detail TEXT NOT NULL, first INTEGER NOT NULL,
    last INTEGER NOT NULL, runs INTEGER NOT NULL, PRIMARY KEY (job, path));
CREATE TABLE IF NOT EXISTS told (key TEXT PRIMARY KEY, time INTEGER NOT NULL, open INTEGER NOT NULL);
"""
_NAMED = ("event", "run")
"""Tables whose rows say how a job was called."""


def _bring_up_to_date(db: sqlite3.Connection) -> None:
    """Tables of a version that knew jobs by their names only: the name is in ``job`` until it is taken
    over."""
    for table in _NAMED:
        if "name" not in {row[1] for row in db.execute(f"PRAGMA table_info({table})")}:
            db.execute(f"ALTER TABLE {table} ADD COLUMN name TEXT NOT NULL DEFAULT ''")
            db.execute(f"UPDATE {table} SET name = job")


_EVENT_COLUMNS = ", ".join(Event.__struct_fields__)
_RUN_COLUMNS = ", ".join(Run.__struct_fields__)


class Journal:
    """The journal of this person's jobs. Threads and processes may use it at once.

    :param also: told of every event besides, such as the system's own log.
    """

    def __init__(self, state: Path, clock: Clock, also: Callable[[Event], None] | None = None) -> None:
        self._path, self._clock, self._also = state / JOURNAL_FILE, clock, also
        self._lock = threading.RLock()
        self._db: sqlite3.Connection | None = None
        self._added = 0

    @contextlib.contextmanager
    def _using(self) -> Iterator[sqlite3.Connection]:
        with self._lock:
            if self._db is None:
                self._db = self._open()
            try:
                with self._db:
                    yield self._db
            except sqlite3.DatabaseError as error:
                if isinstance(error, sqlite3.OperationalError):
                    raise
                self._put_aside()
                raise sqlite3.OperationalError(
                    tr("the journal was damaged and has been put aside")
                ) from error

    def _open(self) -> sqlite3.Connection:
        self._path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        for attempt in (1, 2):
            made = sqlite3.connect(self._path, timeout=_BUSY_SECONDS, check_same_thread=False)
            try:
                made.execute("PRAGMA journal_mode = WAL")
                made.execute("PRAGMA synchronous = NORMAL")
                made.executescript(_SCHEMA)
                with made:
                    _bring_up_to_date(made)
                self._path.chmod(0o600)
                return made
            except sqlite3.DatabaseError as error:
                made.close()
                if attempt == 2 or isinstance(error, sqlite3.OperationalError):
                    raise
                self._put_aside()
        raise AssertionError("unreachable")

    def _put_aside(self) -> None:
        if self._db is not None:
            self._db.close()
            self._db = None
        with contextlib.suppress(OSError):
            self._path.replace(self._path.with_suffix(".damaged"))
        for extra in ("-wal", "-shm"):
            with contextlib.suppress(OSError):
                Path(f"{self._path}{extra}").unlink()

    def close(self) -> None:
        """Close the file."""
        with self._lock:
            if self._db is not None:
                self._db.close()
                self._db = None

    def add(
        self,
        level: Level,
        job: Job | None,
        what: str,
        detail: Sequence[str] = (),
        means: str = "",
        todo: str = "",
    ) -> Event:
        """Note something that happened, to a job or to none of them."""
        identity, name = (job.id, job.name) if job is not None else (JobId(""), "")
        event = Event(self._clock.now(), level, identity, what, means, todo, tuple(detail), name)
        with contextlib.suppress(sqlite3.Error, OSError), self._using() as db:
            values = (*msgspec.structs.astuple(event)[:-2], msgspec.json.encode(event.detail).decode(), name)
            db.execute(
                f"INSERT INTO event ({_EVENT_COLUMNS}) VALUES ({', '.join('?' * len(values))})", values
            )
            self._trim(db)
        if self._also is not None:
            self._also(event)
        return event

    def _trim(self, db: sqlite3.Connection) -> None:
        self._added += 1
        if self._added % _TRIM_EVERY == 1:
            for table, most in (("event", _MOST_EVENTS), ("run", _MOST_RUNS)):
                db.execute(f"DELETE FROM {table} WHERE id <= (SELECT max(id) FROM {table}) - ?", (most,))

    def add_run(self, run: Run) -> None:
        """Note a run."""
        with contextlib.suppress(sqlite3.Error, OSError), self._using() as db:
            values = msgspec.structs.astuple(run)
            db.execute(f"INSERT INTO run ({_RUN_COLUMNS}) VALUES ({', '.join('?' * len(values))})", values)
            self._trim(db)

    def take_left_out(self, job: JobId, snapshot: Snapshot) -> None:
        """Note which files a run left out, and forget those that it did not."""
        time = snapshot.time
        items = [(item.path, item.reason, item.detail) for item in snapshot.record.missing]
        items += [(path, "unsteady", tr("changed while it was read")) for path in snapshot.record.unsteady]
        with contextlib.suppress(sqlite3.Error, OSError), self._using() as db:
            for path, reason, detail in items[:_MOST_LEFT_OUT]:
                db.execute(
                    """INSERT INTO left_out VALUES (?, ?, ?, ?, ?, ?, 1) ON CONFLICT (job, path)
                       DO UPDATE SET reason = excluded.reason, detail = excluded.detail,
                           last = excluded.last, runs = runs + 1""",
                    (job, path, reason, detail, time, time),
                )
            db.execute("DELETE FROM left_out WHERE job = ? AND last < ?", (job, time))

    def rename(self, job: JobId, name: str) -> None:
        """A job has another name: what was noted of it says so."""
        with contextlib.suppress(sqlite3.Error, OSError), self._using() as db:
            for table in _NAMED:
                db.execute(f"UPDATE {table} SET name = ? WHERE job = ?", (name, job))

    def take_over(self, name: str, job: JobId) -> None:
        """What was noted under a job's name, by a version that knew no identities, is under its identity."""
        with contextlib.suppress(sqlite3.Error, OSError), self._using() as db:
            for table in (*_NAMED, "left_out"):
                db.execute(f"UPDATE OR REPLACE {table} SET job = ? WHERE job = ?", (job, name))
            for (key,) in db.execute("SELECT key FROM told").fetchall():
                for kind in _TOLD_KINDS:
                    rest = key.removeprefix(f"{kind}{name}")
                    if rest != key and rest[:1] in ("", "/"):
                        db.execute(
                            "UPDATE OR REPLACE told SET key = ? WHERE key = ?", (f"{kind}{job}{rest}", key)
                        )
                        break

    def _rows(self, query: str, values: Sequence[object]) -> list[tuple[Any, ...]]:
        """The rows of a query; none where the journal cannot be read, which ``events`` tells."""
        with contextlib.suppress(sqlite3.Error, OSError), self._using() as db:
            return db.execute(query, values).fetchall()
        return []

    def left_out(self, job: JobId) -> list[LeftOutFile]:
        """Files that the last run left out, those that fail longest first."""
        query = (
            "SELECT path, reason, detail, first, last, runs FROM left_out WHERE job = ? ORDER BY runs DESC,"
            " path"
        )
        return [LeftOutFile(*row) for row in self._rows(query, (job,))]

    def events(self, wanted: Filter) -> list[Event]:
        """Events, newest first. Those without a job belong to every job."""
        where: list[str] = ["1"]
        values: list[str] = []
        if wanted.job:
            where.append("job IN ('', ?)")
            values.append(wanted.job)
        if wanted.levels:
            where.append(f"level IN ({', '.join('?' * len(wanted.levels))})")
            values += list(wanted.levels)
        if wanted.text:
            where.append("instr(lower(what || ' ' || means || ' ' || todo || ' ' || detail), lower(?))")
            values.append(wanted.text)
        for sign, moment in ((">=", wanted.since), ("<", wanted.until)):
            if moment:
                where.append(f"time {sign} {int(moment)}")
        query = (
            f"SELECT {_EVENT_COLUMNS} FROM event WHERE {' AND '.join(where)} ORDER BY time DESC, id DESC"
            f" LIMIT {int(wanted.most)}"
        )
        try:
            with self._using() as db:
                rows = db.execute(query, values).fetchall()
        except (sqlite3.Error, OSError) as error:
            return [
                Event(
                    self._clock.now(),
                    "trouble",
                    JobId(""),
                    tr("The journal cannot be read"),
                    tr("Snapshots do not depend on it."),
                    "",
                    (str(error),),
                )
            ]
        return [
            Event(
                time, level, job, what, means, todo, msgspec.json.decode(detail, type=tuple[str, ...]), name
            )
            for time, level, job, what, means, todo, detail, name in rows
        ]

    def runs(self, job: JobId, since: int = 0, most: int = 5000) -> list[Run]:
        """Runs of a job (of all for the empty name), newest first."""
        query = (
            f"SELECT {_RUN_COLUMNS} FROM run WHERE (job = ? OR ? = '') AND began >= ?"
            " ORDER BY began DESC LIMIT ?"
        )
        return [Run(*row) for row in self._rows(query, (job, job, since, most))]

    def last_done(self, job: JobId) -> Run | None:
        """The newest run of a job that gave a snapshot."""
        query = f"SELECT {_RUN_COLUMNS} FROM run WHERE job = ? AND snapshot != '' ORDER BY began DESC LIMIT 1"
        return next((Run(*row) for row in self._rows(query, (job,))), None)

    def is_news(self, key: str) -> bool:
        """Whether something was not told in the last day; from now on it was."""
        now = self._clock.now()
        try:
            with self._using() as db:
                row = db.execute("SELECT time FROM told WHERE key = ?", (key,)).fetchone()
                if row is not None and 0 <= now - row[0] < _TOLD_AGAIN:
                    return False
                db.execute("INSERT OR REPLACE INTO told VALUES (?, ?, 1)", (key, now))
        except (sqlite3.Error, OSError):
            return True
        return True

    def open_told(self, prefix: str) -> list[str]:
        """Keys of what was told and is not over yet."""
        with contextlib.suppress(sqlite3.Error, OSError), self._using() as db:
            return [
                str(key)
                for (key,) in db.execute(
                    "SELECT key FROM told WHERE open AND substr(key, 1, ?) = ?", (len(prefix), prefix)
                )
            ]
        return []

    def is_over(self, key: str) -> None:
        """Something that was told is over. If it comes again within the day it is still no news."""
        with contextlib.suppress(sqlite3.Error, OSError), self._using() as db:
            db.execute("UPDATE told SET open = 0 WHERE key = ?", (key,))
