"""A store on a disk that loses, flips, cuts, hides and refuses files, with everything that is done to it in
any order: each version is right byte for byte or named as lost, nothing blocks anything else, and after a
repair with the files at hand the newest state is whole."""

from __future__ import annotations

import os
import random
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.clock import SetClock
from good_tide.core.errors import PlaceError
from good_tide.core.identifiers import Nanoseconds, SnapshotId
from good_tide.core.progress import Silent
from good_tide.core.restoring import Existing
from good_tide.operations.integrity.repair import Source, repair
from good_tide.operations.integrity.verify import verify
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.operations.retention.thinning import sweep
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.carrying import carry
from good_tide.storage.copies import Doubled
from good_tide.storage.folder_place import LocalPlace
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.store import Store
from tests.support.base import CHEAP, HOUR, MACHINE, T0, GoodTideTest, create_store, open_store

_STEPS = 16


class _Disk(LocalPlace):
    """A folder of which some files cannot be read for now."""

    def __init__(self, root: Path, refused: set[str]) -> None:
        super().__init__(root)
        self._refused = refused

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        if name in self._refused:
            raise PlaceError(f"Reading {name}: Input/output error", "Check the disk")
        return super().read(name, offset, length)


class _World:
    """Live files, a store with or without parity, a twin, and what each snapshot held."""

    def __init__(self, folder: Path, rng: random.Random) -> None:
        self.folder, self.rng = folder, rng
        self.work, self.root, self.state = folder / "work", folder / "store", folder / "state"
        self.work.mkdir()
        made = create_store(self.root, None, cost=CHEAP, parity=rng.random() < 0.5)
        create_store(folder / "twin", None, cost=CHEAP, twin=made.keys)
        self.held: dict[SnapshotId, dict[str, bytes]] = {}
        self.hidden: dict[Path, bytes] = {}
        self.refused: set[str] = set()
        self.hour = self.outs = 0
        for number in range(7):
            self.write(number)

    def write(self, number: int) -> None:
        size = self.rng.choice((0, 90, 2_000, 70_000, 300_000))
        path = self.work / f"folder {number % 3}" / f"{number}.bin"
        path.parent.mkdir(exist_ok=True)
        if path.exists() and self.rng.random() < 0.5:  # what changed a little is built on what was before
            content = path.read_bytes()
            at = self.rng.randrange(len(content) + 1)
            path.write_bytes(content[:at] + self.rng.randbytes(40) + content[at + self.rng.randrange(80) :])
        else:
            path.write_bytes(self.rng.randbytes(size))

    def store(self) -> Store:
        opened = open_store(self.root, None)
        return Store(Doubled(_Disk(self.root, self.refused)), opened.header, opened.keys)

    def clock(self) -> SetClock:
        return SetClock(Nanoseconds(T0 + self.hour * HOUR))

    def live(self) -> dict[str, bytes]:
        return {
            str(path.relative_to(self.work)): path.read_bytes()
            for path in self.work.rglob("*")
            if path.is_file()
        }

    def files(self) -> list[Path]:
        """Files of the store that may come to harm: of those that everything needs, one of the two copies."""
        skipped = ("keys", "tmp", "writers", "lease")
        return sorted(
            path
            for path in self.root.rglob("*")
            if path.is_file()
            and path.relative_to(self.root).parts[0] not in skipped
            and path.name not in ("README.txt", "recover.py")
            and path != self.root / "copies" / "store.json"
            and path.parent != self.root / "copies" / "keys"
        )

    # what is done

    def change(self) -> None:
        for number in self.rng.sample(range(9), 2):
            self.write(number)

    def snapshot(self) -> SnapshotId:
        self.hour += 1
        request = CaptureRequest((self.work,), MACHINE)
        taken = capture(self.store(), request, self.clock(), Silent(), self.state)
        self.held[taken.id] = self.live()
        return taken.id

    def harm(self) -> None:
        path = self.rng.choice(self.files())
        data = path.read_bytes()
        how = self.rng.choice(("lose", "flip", "cut", "hide", "refuse", "zero"))
        if how == "lose":
            path.unlink()
        elif how == "hide":
            self.hidden[path] = data
            path.unlink()
        elif how == "refuse":
            self.refused.add(str(path.relative_to(self.root)))
        elif how == "cut":
            path.write_bytes(data[: self.rng.randrange(len(data) + 1)])
        elif how == "zero":
            path.write_bytes(bytes(len(data)))
        elif data:
            at = self.rng.randrange(len(data))
            path.write_bytes(data[:at] + bytes([data[at] ^ 1 << self.rng.randrange(8)]) + data[at + 1 :])

    def relent(self) -> None:
        """What was hidden or refused is there again."""
        self.refused.clear()
        for path, data in self.hidden.items():
            if path.parent.is_dir() and not path.exists():
                path.write_bytes(data)
        self.hidden.clear()

    def release(self) -> None:
        if len(self.held) > 2:
            name = self.rng.choice(list(self.held)[:-1])
            self.store().place.remove(f"{SNAPSHOT_FOLDER}/{name}")
            del self.held[name]
            # what is hidden of it does not come back: somebody else would have to put it there
            self.hidden = {path: data for path, data in self.hidden.items() if path.name != name}

    def sweep(self) -> None:
        sweep(self.store(), self.state, self.clock(), Silent())

    def verify(self) -> None:
        verify(self.store(), self.rng.random() < 0.7, Silent())

    def carry(self) -> None:
        carry(self.store(), open_store(self.folder / "twin", None), None, self.state, Silent())

    def repair(self) -> None:
        twin = [Source("the twin", open_store(self.folder / "twin", None))] if self.rng.random() < 0.4 else []
        repair(self.store(), twin, self.state, Silent(), read_all=self.rng.random() < 0.7)

    def restore(self, name: SnapshotId) -> tuple[dict[str, bytes], list[str]]:
        """What comes back of a snapshot, and the paths that it says are missing."""
        self.outs += 1
        out, store = self.folder / f"out {self.outs}", self.store()
        wish = Wish(store.read_snapshot(name), os.fsencode(self.work))
        plan = plan_restore(store, [wish], out, Existing.SKIP, Silent())
        report = carry_out(store, plan, self.clock(), Silent())
        found = {
            str(path.relative_to(out / "work")): path.read_bytes()
            for path in out.rglob("*")
            if path.is_file() and not path.name.startswith(".")
        }
        shutil.rmtree(out, ignore_errors=True)
        return found, [os.fsdecode(one.path) for one in report.problems]


class FailingPlaceTest(GoodTideTest):
    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 2**32))
    def test_right_or_named_and_whole_after_repair(self, seed: int) -> None:
        rng = random.Random(seed)
        folder = Path(tempfile.mkdtemp(dir=self.folder))
        world = _World(folder, rng)
        world.snapshot()
        acts: list[Callable[[], Any]] = [
            world.change,
            world.snapshot,
            world.snapshot,
            world.harm,
            world.harm,
            world.harm,
            world.relent,
            world.release,
            world.sweep,
            world.verify,
            world.carry,
            world.repair,
        ]
        for _ in range(_STEPS):
            rng.choice(acts)()
            self.check_one(world)
        world.refused.clear()
        world.repair()
        newest = world.snapshot()
        found, problems = world.restore(newest)
        if (
            problems or found != world.held[newest]
        ):  # damage that nobody had met yet: a reading of all finds it
            repair(world.store(), [], world.state, Silent())
            newest = world.snapshot()
            found, problems = world.restore(newest)
        self.assertEqual((problems, found == world.held[newest]), ([], True))
        self.check_named(world)
        shutil.rmtree(folder)

    def check_one(self, world: _World) -> None:
        """A snapshot comes back right, but for what is said to be missing."""
        name = world.rng.choice(list(world.held))
        present = world.store().snapshots()[0]
        if name not in {one.id for one in present}:
            return
        self.assert_right_or_said(world, name)

    def assert_right_or_said(self, world: _World, name: SnapshotId) -> list[str]:
        found, problems = world.restore(name)
        missing = []
        for path, data in world.held[name].items():
            if path in found:
                self.assertTrue(found[path] == data, f"{path} came back wrong")
            else:
                whole = str(world.work / path)
                self.assertTrue(any(whole == one or whole.startswith(one + "/") for one in problems), whole)
                missing.append(path)
        self.assertLessEqual(found.keys(), world.held[name].keys())
        return missing

    def check_named(self, world: _World) -> None:
        """After a repair everything that does not come back is named by it."""
        report = repair(world.store(), [], world.state, Silent())
        named = {os.fsdecode(path) for one in report.lost for path in one.affects}
        lost = {one.file for one in report.lost}
        present = {one.id for one in world.store().snapshots()[0]}
        for name in world.held:
            if name not in present:
                gone = not any(
                    (world.root / part / SNAPSHOT_FOLDER / name).exists() for part in ("", "copies")
                )
                again = any(name[:12] in note for note in report.notes)
                self.assertTrue(f"{SNAPSHOT_FOLDER}/{name}" in lost or gone or again, name)
                continue
            for path in self.assert_right_or_said(world, name):
                whole = str(world.work / path)
                self.assertTrue(any(whole == one or whole.startswith(one + "/") for one in named), whole)
