"""What happened outside snapshots, kept as JSON lines in the person's state folder, bounded."""

from __future__ import annotations

import contextlib
from pathlib import Path

import msgspec

from good_tide.core.clock import Clock

_FILE = "notes.jsonl"
_MOST_LINES = 2000


class Note(msgspec.Struct, frozen=True):
    """One thing that happened. ``level`` is good, note or trouble; ``job`` may be empty."""

    time: int
    level: str
    job: str
    what: str
    detail: tuple[str, ...] = ()


class Notes:
    """The notes of this person's jobs."""

    def __init__(self, state: Path, clock: Clock) -> None:
        self._file, self._clock = state / _FILE, clock

    def add(self, level: str, job: str, what: str, detail: tuple[str, ...] = ()) -> None:
        """Note something. A note that cannot be written does not stop what it is about."""
        line = msgspec.json.encode(Note(self._clock.now(), level, job, what, detail)) + b"\n"
        with contextlib.suppress(OSError):
            self._file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            with self._file.open("ab") as file:
                file.write(line)
            if self._file.stat().st_size > 400 * _MOST_LINES:
                self._shorten()

    def _shorten(self) -> None:
        lines = self._file.read_bytes().splitlines(keepends=True)[-_MOST_LINES // 2 :]
        new = self._file.with_suffix(".new")
        new.write_bytes(b"".join(lines))
        new.replace(self._file)

    def all(self, job: str) -> list[Note]:
        """Notes about a job, or about none, oldest first. Lines that cannot be read are passed over."""
        found = []
        with contextlib.suppress(OSError):
            for line in self._file.read_bytes().splitlines():
                with contextlib.suppress(msgspec.MsgspecError):
                    note = msgspec.json.decode(line, type=Note)
                    if note.job in ("", job):
                        found.append(note)
        return found
