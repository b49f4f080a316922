"""What ``test_survival`` runs in a process of its own, which has no threads and can fork: an agent that is
killed at random, and a workstation's day with changes, pulls and power cuts."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from good_tide.agent.service import Agent
from good_tide.core.clock import SECOND, Clock, SetClock, SystemClock
from good_tide.core.entries import Kind
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import Nanoseconds, SnapshotId
from good_tide.core.progress import Silent
from good_tide.core.rhythm import Rhythm, every
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.integrity.verify import verify
from good_tide.operations.workplace import Workplace, save_job
from good_tide.protocol.schedule_calls import TakeSnapshot
from good_tide.storage.content import read_whole
from good_tide.storage.store import Store
from good_tide.system.disk_choice import STAND_IN_FILE
from good_tide.system.stand_in_disks import StandIn, StandInDisks
from tests.support.base import MACHINE, OFFICE, T0, create_store, open_store
from tests.support.stand_ins import quiet

MINUTE = 60 * SECOND
_FAILED, _KILLED = 3, -signal.SIGKILL


class Life:
    """A workstation with one job into a stand-in disk."""

    def __init__(self, folder: Path, seed: int, rhythm: Rhythm) -> None:
        self.random = random.Random(seed)
        self.work, self.settings = folder / "work", folder / "settings"
        self.settings.mkdir()
        self.work.mkdir(exist_ok=True)
        self.rack = StandInDisks(folder / "rack")
        self.rack.add(StandIn(name="Pier", device="one"))
        (self.settings / STAND_IN_FILE).write_text(str(self.rack.root))
        self.root = self.rack.folder("Pier") / "store"
        create_store(self.root, None)
        ref = StoreRef(path=str(self.root), name="Pier", disk="label:Pier", inside="store")
        save_job(
            self.settings,
            Job(
                id=OFFICE,
                name="Office",
                folders=(str(self.work),),
                stores=(ref,),
                machine=MACHINE,
                rhythm=rhythm,
            ),
        )
        self.here = Workplace(
            folder / "cache", folder / "state", folder, self.settings, folder / "run", MACHINE
        )

    def agent(self, clock: Clock) -> Agent:
        """A fresh agent, as after a start of the machine."""
        made = Agent(self.here, clock, environment=quiet(self.settings))
        made._server.close()
        made.take_notice()
        return made

    def forked(
        self,
        act: Callable[[], None],
        kill_after: float | None = None,
        meanwhile: Callable[[], None] | None = None,
    ) -> int:
        """Do something in a process of its own, killed after some seconds if said so. Its exit code; negative
        for a signal."""
        ready, started = os.pipe()
        child = os.fork()
        if child == 0:
            code = _FAILED
            try:
                os.write(started, b"x")
                act()
                code = 0
            finally:
                sys.stderr.flush()
                os._exit(code)
        os.read(ready, 1)
        os.close(ready)
        os.close(started)
        if kill_after is not None:
            time.sleep(kill_after)
            os.kill(child, signal.SIGKILL)
        if meanwhile is not None:
            meanwhile()
        return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])

    def change(self, count: int) -> None:
        """Change, add and remove files at random."""
        for _ in range(count):
            path = self.work / f"{self.random.randrange(4)}" / f"file {self.random.randrange(12)}"
            path.parent.mkdir(exist_ok=True)
            if self.random.random() < 0.15 and path.exists():
                path.unlink()
            elif self.random.random() < 0.4 and path.exists():
                with path.open("r+b") as file:
                    file.seek(self.random.randrange(path.stat().st_size + 1))
                    file.write(self.random.randbytes(50))
            else:
                path.write_bytes(self.random.randbytes(self.random.choice((20, 3_000, 90_000, 700_000))))


def killed_at_random(folder: Path, rounds: int) -> dict[str, object]:
    """Kill the agent during runs, so many times."""
    life = Life(folder, 11, Rhythm(rules=()))
    visible: set[str] = set()
    killed = 0

    def snapshots_without_end() -> None:
        agent = life.agent(SystemClock())
        while True:
            agent.schedule.snapshot(TakeSnapshot(OFFICE))
            agent._worker.wait()
            life.change(2)

    def one_snapshot() -> None:
        agent = life.agent(SystemClock())
        agent.schedule.snapshot(TakeSnapshot(OFFICE))
        agent._worker.wait()
        agent.close()

    for _ in range(rounds):
        life.change(6)
        killed += life.forked(snapshots_without_end, kill_after=life.random.uniform(0.01, 0.25)) == _KILLED
        names = set(open_store(life.root, None).snapshot_ids())
        assert visible <= names, "a visible snapshot was lost"
        restarted = life.forked(one_snapshot)
        store = open_store(life.root, None)
        assert restarted == 0 and len(store.snapshot_ids()) == len(names) + 1, (
            "the agent did not work after a restart"
        )
        found, damage = store.snapshots()
        assert not damage, damage
        assert content_of(store, found[-1].id) == on_disk(life.work), (
            "the newest snapshot is not what was there"
        )
        visible = set(store.snapshot_ids())
    report = verify(open_store(life.root, None), True, Silent())
    agent = life.agent(SystemClock())
    cut = sum("cut off" in event.what for event in agent.context.journal.events(Filter(most=100_000)))
    return {"killed": killed, "snapshots": len(visible), "whole": report.ok, "cut off": cut}


def a_day(folder: Path) -> dict[str, object]:
    """Twenty-four hours, ten minutes a step."""
    life = Life(folder, 5, Rhythm(rules=(every(10),), on_disk=True, settle_seconds=0))
    required: set[tuple[str, bytes]] = set()
    counts = {"steps": 0, "power cuts": 0, "pulls": 0, "pulls in a run": 0, "off": 0}
    now, end, off_until = T0 - T0 % (10 * MINUTE), T0 + 24 * 60 * MINUTE, 0
    while now < end:
        now += 10 * MINUTE
        if now < off_until:
            counts["off"] += 1
            continue
        counts["steps"] += 1
        life.change(life.random.randrange(5))
        chance = life.random.random()
        plugged = life.root.exists()
        if chance < 0.12 or (not plugged and chance < 0.4):
            life.rack.plug("Pier", not plugged)
            counts["pulls"] += plugged
        moment = now + MINUTE

        def looks(moment: int = moment) -> None:
            agent = life.agent(SetClock(Nanoseconds(moment)))
            for _ in range(2):
                agent.scheduler.tick()
                agent._worker.wait()
            agent.close()

        if 0.4 < chance < 0.5:
            counts["power cuts"] += 1
            life.forked(looks, kill_after=life.random.uniform(0.0, 0.15))
            off_until = now + life.random.randrange(10) * 10 * MINUTE
        elif 0.5 < chance < 0.56 and life.root.exists():
            counts["pulls in a run"] += 1
            life.forked(looks, meanwhile=partial(_pull_after, life, life.random.uniform(0.0, 0.1)))
        else:
            before = on_disk(life.work)
            assert life.forked(looks) == 0, "the agent failed"
            required |= set(before.items())
    if not life.root.exists():
        life.rack.plug("Pier")
    for minutes in (10, 20, 80):
        assert life.forked(partial(_looks, life, end + minutes * MINUTE)) == 0
    store = open_store(life.root, None)
    found, damage = store.snapshots()
    assert not damage, damage
    kept = {item for snapshot in found for item in content_of(store, snapshot.id).items()}
    times = [snapshot.record.time for snapshot in found]
    held = sum(1 for _ in (folder / "settings" / "records" / "holding").rglob("snapshots/*"))
    return {
        **counts,
        "versions": len(required),
        "missing": len(required - kept),
        "snapshots": len(found),
        "doubled": len(times) - len(set(times)),
        "left in the holding area": held,
        "whole": verify(store, True, Silent()).ok,
    }


def _pull_after(life: Life, seconds: float) -> None:
    """Pull the disk in the middle of a run."""
    time.sleep(seconds)
    life.rack.plug("Pier", False)


def _looks(life: Life, moment: int) -> None:
    agent = life.agent(SetClock(Nanoseconds(moment)))
    for _ in range(3):
        agent.scheduler.tick()
        agent._worker.wait()
    agent.close()


def on_disk(work: Path) -> dict[str, bytes]:
    """All files by their paths from the work folder."""
    return {str(path.relative_to(work)): path.read_bytes() for path in work.rglob("*") if path.is_file()}


def content_of(store: Store, name: SnapshotId) -> dict[str, bytes]:
    """All files that a snapshot holds, by their paths from the covered folder."""
    found: dict[str, bytes] = {}

    def visit(pages: object, above: str) -> None:
        for page in pages:  # type: ignore[attr-defined]
            for entry in store.page(page).entries():
                path = above + os.fsdecode(entry.name)
                if entry.kind is Kind.FOLDER:
                    visit(entry.pages, path + "/")
                elif entry.kind is Kind.FILE:
                    found[path] = read_whole(store.read_chunk, entry.extents, entry.stat.size)

    for root in store.roots(store.read_snapshot(name).record):
        visit(root.pages, "")
    return found


if __name__ == "__main__":
    where = Path(sys.argv[2])
    try:
        result = killed_at_random(where, int(sys.argv[3])) if sys.argv[1] == "kills" else a_day(where)
        print(json.dumps(result))
    finally:
        shutil.rmtree(where / "rack", ignore_errors=True)
