"""Making the demo: the story played with the real engine and a simulated clock."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Machine
from good_tide.core.settings import Job
from good_tide.demo.story import COVERED, HOURS, tell
from good_tide.operations.capture import CaptureRequest, capture
from good_tide.operations.stores import create_at, open_at, synced_catalog
from good_tide.operations.workplace import save_job

PASSPHRASE = "harbour lantern slow curtain"
MACHINE = Machine("d0" * 16, "office-desk")
_DONE = "complete"


class DemoFolders:
    """Where the parts of a demo lie."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.workstation = root / "workstation"
        self.store = root / "Pier"
        self.settings = root / "settings"

    @property
    def complete(self) -> bool:
        """Whether a demo was made here to the end."""
        return (self.root / _DONE).exists()


class _FileDesk:
    """The story's desk as real files, with the story's times."""

    def __init__(self, home: Path, clock: SetClock) -> None:
        self._home, self._clock = home, clock

    def write(self, path: str, content: bytes) -> None:
        target = self._home / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(content)
        os.utime(target, ns=(self._clock.now(), self._clock.now()))

    def read(self, path: str) -> bytes:
        return (self._home / path).read_bytes()

    def remove(self, path: str) -> None:
        target = self._home / path
        if target.is_dir():
            shutil.rmtree(target)
        else:
            target.unlink()

    def rename(self, path: str, to: str) -> None:
        (self._home / path).rename(self._home / to)

    def files(self, path: str) -> list[str]:
        return sorted(str(found.relative_to(self._home)) for found in (self._home / path).rglob("*") if found.is_file())


def build_demo(root: Path, now: datetime, tell_progress: Callable[[int, int], None], cache: Path, state: Path) -> DemoFolders:
    """Make the demo anew in ``root``; history ends with the last working hour before ``now``.

    :param tell_progress: given snapshots done and in all.
    """
    folders = DemoFolders(root)
    shutil.rmtree(root, ignore_errors=True)
    folders.workstation.mkdir(parents=True)
    clock = SetClock(Nanoseconds(0))
    desk = _FileDesk(folders.workstation, clock)
    create_at(folders.store, PASSPHRASE, hint="four words: by the sea, a light, a pace, it falls")
    store = open_at(folders.store, PASSPHRASE)
    covered = tuple(folders.workstation / name for name in COVERED)
    changes = list(tell(_last_hour(now)))
    total, done = sum(change.snapshot for change in changes), 0
    for change in changes:
        clock.set(Nanoseconds(int(change.when.timestamp()) * SECOND))
        change.act(desk)
        if change.snapshot:
            capture(store, CaptureRequest(covered, MACHINE), clock, Silent(), state)
            done += 1
            tell_progress(done, total)
    synced_catalog(store, cache)[0].close()
    passphrase_file = folders.settings / "passphrase"
    save_job(
        folders.settings,
        Job(
            name="Production office",
            folders=tuple(map(str, covered)),
            store=str(folders.store),
            disk="Pier",
            machine=MACHINE,
            passphrase_file=str(passphrase_file),
        ),
    )
    passphrase_file.write_text(PASSPHRASE + "\n")
    passphrase_file.chmod(0o600)
    (root / _DONE).touch()
    return folders


def _last_hour(now: datetime) -> datetime:
    """The last moment of the story: the newest working hour that lies before ``now``."""
    day = now
    while True:
        for hour in reversed(HOURS):
            moment = day.replace(hour=hour, minute=0, second=0, microsecond=0)
            if moment <= now and day.weekday() < 5:
                return moment
        day = day - timedelta(days=1)
