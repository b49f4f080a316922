"""Making the demo: the story played with the real engine and a simulated clock."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.identifiers import MachineId, Nanoseconds
from good_tide.core.planning import Occasion
from good_tide.core.progress import Silent
from good_tide.core.records import Machine
from good_tide.core.rhythm import Rhythm
from good_tide.core.settings import Job, StoreRef
from good_tide.demo.neighbours import add_neighbours
from good_tide.demo.story import COVERED, HOURS, Change, tell
from good_tide.operations.alarm.watch import dismiss
from good_tide.operations.context import Context, open_context
from good_tide.operations.places.whereabouts import Whereabouts
from good_tide.operations.schedule.run import run_job
from good_tide.operations.snapshot.taking import Steps
from good_tide.operations.stores.holding_area import HoldingArea, area_for
from good_tide.operations.stores.job_stores import JobStores, NobodyToAsk
from good_tide.operations.stores.opened import id_of
from good_tide.operations.stores.opening import Store, catalog_names, create_at, open_at, store_place
from good_tide.operations.stores.pinning import pinned
from good_tide.operations.workplace import Workplace, save_job
from good_tide.system.disk_choice import STAND_IN_FILE
from good_tide.system.stand_in_disks import StandIn, StandInDisks

PASSPHRASE = "harbour lantern slow curtain"
MACHINE = Machine(MachineId("d0" * 16), "office-desk")
_GIB = 1 << 30
DISKS = (
    StandIn(name="Pier", capacity=931 * _GIB, used=212 * _GIB, device="external disk 1"),
    StandIn(name="Mole", capacity=1863 * _GIB, used=3 * _GIB, device="external disk 2", plugged=False),
    StandIn(name="Stage stick", file_system="exfat", capacity=29 * _GIB, used=11 * _GIB, device="stick"),
    StandIn(
        name="Attic", kind="internal", capacity=180 * _GIB, used=60 * _GIB, device="stand-in system disk"
    ),
    StandIn(
        name="harbour/archive", kind="network", file_system="cifs", capacity=7450 * _GIB, used=5100 * _GIB
    ),
    StandIn(name="harbour/old", kind="network", file_system="cifs", answers=False),
)
ALLOWED = ("mon-fri 10:00-13:00", "mon-fri 14:00-17:00")
"""With a snapshot every hour these are the story's hours."""
AWAY = range(150, 161)
"""Snapshots of the story that were taken while the disk was on tour."""
RULES = ("exclude kind temporary", "exclude path Drafts/", "exclude larger 2 GiB")
_DONE = "complete 5"
"""Its number rises when older demos cannot be used any more."""


class DemoFolders:
    """Where the parts of a demo lie."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.workstation = root / "workstation"
        self.rack = root / "disks"
        self.store = self.rack / "media" / "Pier" / "good-tide" / "office-desk"
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
        return sorted(
            str(found.relative_to(self._home)) for found in (self._home / path).rglob("*") if found.is_file()
        )


def build_demo(
    root: Path, now: datetime, tell_progress: Callable[[int, int], None], cache: Path, state: Path
) -> DemoFolders:
    """Make the demo anew in ``root``; history ends with the last working hour before ``now``.

    :param tell_progress: given snapshots done and in all.
    """
    folders = DemoFolders(root)
    shutil.rmtree(root, ignore_errors=True)
    folders.workstation.mkdir(parents=True)
    clock = SetClock(Nanoseconds(0))
    _furnish(folders)
    create_at(
        store_place(str(folders.store)), PASSPHRASE, hint="four words: by the sea, a light, a pace, it falls"
    )
    store = open_at(store_place(str(folders.store)), PASSPHRASE)
    passphrase_file = folders.settings / "passphrase"
    passphrase_file.write_text(PASSPHRASE + "\n")
    passphrase_file.chmod(0o600)
    job = Job(
        name="Production office",
        folders=tuple(str(folders.workstation / name) for name in COVERED),
        stores=(
            pinned(
                StoreRef(
                    path=str(folders.store), name="Pier", disk="label:Pier", inside="good-tide/office-desk"
                ),
                store,
            ),
        ),
        rules=RULES,
        machine=MACHINE,
        home=str(folders.workstation),
        passphrase_file=str(passphrase_file),
        rhythm=Rhythm(on_disk=True, allowed=ALLOWED),
    )
    job = save_job(folders.settings, job)
    here = Workplace(cache, state, root, folders.settings, root, MACHINE)
    _play(folders, store, job, here, clock, list(tell(_last_hour(now))), tell_progress)
    add_neighbours(store, root / "neighbours", state, clock.now(), ALLOWED)
    (root / _DONE).touch()
    return folders


_LOOKED_AFTER = 18 * 3600 * SECOND
"""So long after an alarm somebody has looked, and brought back what was destroyed."""


def _play(
    folders: DemoFolders,
    store: Store,
    job: Job,
    here: Workplace,
    clock: SetClock,
    changes: list[Change],
    tell_progress: Callable[[int, int], None],
) -> None:
    """Play the story, with a snapshot of the job where it says so, as the agent would have taken it."""
    disks = StandInDisks(folders.rack)
    context = open_context(here, clock, disks)
    desk = _FileDesk(folders.workstation, clock)
    stores = _DemoStores(context, job, store)
    total, done = sum(change.snapshot for change in changes), 0
    for change in changes:
        clock.set(Nanoseconds(int(change.when.timestamp()) * SECOND))
        change.act(desk)
        if change.snapshot:
            away = done in AWAY
            if away is (Whereabouts(disks).of(job.stores[0]) is not None):
                disks.plug("Pier", not away)
            run_job(context, stores, Steps(control=Silent(), occasion=Occasion.TIME))
            done += 1
            alarm = context.alarms.of(job.id)
            if alarm is not None and clock.now() - alarm.until > _LOOKED_AFTER:
                dismiss(context, job, store)
            tell_progress(done, total)
    context.journal.close()


class _DemoStores(JobStores):
    """The demo's one store is open all the time: its key is not derived anew for each snapshot."""

    def __init__(self, context: Context, job: Job, store: Store) -> None:
        super().__init__(context, job, NobodyToAsk())
        self._store = store

    def store(self, ref: StoreRef) -> Store:
        return self._store

    def area(self, ref: StoreRef) -> HoldingArea:
        here = self._context.here
        known = catalog_names(here.cache, id_of(self._store))
        return area_for(here.holdings, ref, self._store, self.job.holding, known)


def _furnish(folders: DemoFolders) -> None:
    """The made-up disks of the theatre's office."""
    folders.settings.mkdir(parents=True, exist_ok=True)
    disks = StandInDisks(folders.rack)
    for disk in DISKS:
        disks.add(disk)
    (folders.settings / STAND_IN_FILE).write_text(f"{folders.rack}\n", encoding="utf-8")


def _last_hour(now: datetime) -> datetime:
    """The last moment of the story: the newest working hour that lies before ``now``."""
    day = now
    while True:
        for hour in reversed(HOURS):
            moment = day.replace(hour=hour, minute=0, second=0, microsecond=0)
            if moment <= now and day.weekday() < 5:
                return moment
        day = day - timedelta(days=1)
