"""A workstation's life as a state machine: files come and go, snapshots are taken and carried; every one
restores as it was."""

from __future__ import annotations

import os
import shutil
import tempfile
import threading
from pathlib import Path

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import Bundle, RuleBasedStateMachine, initialize, invariant, multiple, rule

from good_tide.core.clock import SetClock
from good_tide.core.coverage import Coverage
from good_tide.core.identifiers import Nanoseconds, SnapshotId
from good_tide.core.progress import Silent
from good_tide.core.records import Machine, Snapshot
from good_tide.core.restoring import Existing
from good_tide.core.rules import parse_rule
from good_tide.operations.integrity.verify import verify
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.carrying import carry
from good_tide.storage.catalog import Catalog
from good_tide.storage.store import Store
from tests.support.base import (
    CHEAP,
    HOUR,
    MACHINE,
    OTHER_MACHINE,
    PASSPHRASE,
    T0,
    GoodTideTest,
    create_store,
    open_store,
    tree,
)

_NAMES = st.sampled_from(
    ["plan.txt", "cue.tmp", "a/deep/list.csv", "a/b", "a/Drafts/x", "Drafts/y.txt", "sound.wav"]
)
_SIZES = st.sampled_from([0, 1, 300, 65_536, 65_537, 700_000])
_RULES = st.lists(
    st.sampled_from(
        [
            "exclude path Drafts/",
            "exclude kind temporary",
            "include path /a/Drafts/",
            "exclude larger 100 KB",
            "exclude path a/b",
        ]
    ),
    max_size=3,
    unique=True,
)


class Life(RuleBasedStateMachine):
    """Two stores, one a stranger to the other; a model that keeps every snapshot's files as plain bytes."""

    snapshots: Bundle[str] = Bundle("snapshots")

    @initialize(twin=st.booleans())
    def begin(self, twin: bool) -> None:
        self.root = Path(tempfile.mkdtemp(prefix="good-tide-life-"))
        self.desk, self.state = self.root / "desk", self.root / "state"
        self.desk.mkdir()
        (self.desk / "plan.txt").write_text("first")
        first = create_store(self.root / "one", PASSPHRASE, cost=CHEAP)
        create_store(self.root / "two", PASSPHRASE, cost=CHEAP, twin=first.keys if twin else None)
        self.model: dict[str, dict[str, bytes]] = {}
        self.carried: set[str] = set()
        self.hour = 0
        self.restored = 0

    def store(self, name: str) -> Store:
        """A store as another run would open it."""
        return open_store(self.root / name, PASSPHRASE)

    @rule(name=_NAMES, size=_SIZES, seed=st.integers(0, 3))
    def write(self, name: str, size: int, seed: int) -> None:
        target = self.desk / name
        if target.is_dir() or any(parent.is_file() for parent in target.parents if parent != self.root):
            return
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(bytes([seed + 65]) * (size // 2) + os.urandom(size - size // 2))

    @rule(name=_NAMES)
    def remove(self, name: str) -> None:
        target = self.desk / name
        if target.is_dir():
            shutil.rmtree(target)
        elif target.exists():
            target.unlink()

    @rule(one=_NAMES, other=_NAMES)
    def rename(self, one: str, other: str) -> None:
        source, target = self.desk / one, self.desk / other
        if source.is_file() and target.parent.is_dir() and not target.is_dir():
            source.rename(target)

    @rule(target=snapshots, rules=_RULES)
    def snap(self, rules: list[str]) -> str:
        self.hour += 1
        parsed = tuple(map(parse_rule, rules))
        request = CaptureRequest((self.desk,), MACHINE, rules=parsed)
        taken = capture(
            self.store("one"), request, SetClock(Nanoseconds(T0 + self.hour * HOUR)), Silent(), self.state
        )
        self.model[taken.id] = self.covered(Coverage(parsed))
        assert not taken.gaps
        return taken.id

    def covered(self, coverage: Coverage) -> dict[str, bytes]:
        """The files that are in, each judged by itself along its own path."""
        found = {}
        for path in sorted(self.desk.rglob("*")):
            if path.is_file():
                state = coverage.enter_covered(str(self.desk))
                *folders, name = path.relative_to(self.desk).parts
                for folder in folders:
                    state = coverage.enter(state, folder)
                info = path.stat()
                if not coverage.is_out(coverage.files(state, [name], [info.st_size], [info.st_mtime_ns])[0]):
                    found[str(path.relative_to(self.desk))] = path.read_bytes()
        return found

    @rule(target=snapshots)
    def carry_over(self):  # type: ignore[no-untyped-def]
        report = carry(self.store("one"), self.store("two"), None, self.state, Silent())
        assert not report.damaged
        assert set(report.carried) == set(self.model) - self.carried
        self.carried |= set(report.carried)
        return multiple()

    @rule(name=snapshots)
    def restore(self, name: SnapshotId) -> None:
        for store_name in ["one"] + (["two"] if name in self.carried else []):
            store = self.store(store_name)
            self.restored += 1
            out = self.root / f"out {self.restored}"
            plan = plan_restore(
                store,
                [Wish(store.read_snapshot(name), os.fsencode(self.desk))],
                out,
                Existing.SET_ASIDE,
                Silent(),
            )
            report = carry_out(store, plan, SetClock(Nanoseconds(T0)), Silent())
            assert not report.problems, report.problems
            back = {
                str(path.relative_to(out / "desk")): path.read_bytes()
                for path in out.rglob("*")
                if path.is_file()
            }
            assert back == self.model[name]
            shutil.rmtree(out)

    @invariant()
    def everything_is_whole(self) -> None:
        if getattr(self, "hour", 0):
            for name in ("one", "two"):
                assert verify(self.store(name), False, Silent()).ok

    def teardown(self) -> None:
        if hasattr(self, "root"):
            shutil.rmtree(self.root, ignore_errors=True)


Life.TestCase.settings = settings(max_examples=12, stateful_step_count=14, deadline=None)
LifeTest = Life.TestCase


class SharedTest(GoodTideTest):
    def snap_as(self, store: Store, machine: Machine, hour: int, folder: Path) -> Snapshot:
        request = CaptureRequest((folder,), machine)
        return capture(store, request, SetClock(Nanoseconds(T0 + hour * HOUR)), Silent(), self.state)

    def test_machines_that_share_a_store_share_contents_and_keep_their_histories_apart(self) -> None:
        store = self.new_store()
        desks = {machine.id: self.folder / machine.name for machine in (MACHINE, OTHER_MACHINE)}
        for machine in (MACHINE, OTHER_MACHINE):
            desks[machine.id].mkdir()
            (desks[machine.id] / "same.bin").write_bytes(b"x" * 50_000 + bytes(range(256)) * 800)
            (desks[machine.id] / f"{machine.name}.txt").write_text(machine.name)
        first = self.snap_as(store, MACHINE, 0, desks[MACHINE.id])
        second = self.snap_as(store, OTHER_MACHINE, 1, desks[OTHER_MACHINE.id])
        self.assertLess(second.record.tally.new_bytes, first.record.tally.new_bytes / 100)
        catalog = Catalog(self.cache / "c.sqlite3")
        self.addCleanup(catalog.close)
        catalog.sync(store)
        for machine, name in ((MACHINE, b"desk.txt"), (OTHER_MACHINE, b"laptop.txt")):
            folder = catalog.folder(machine.id, os.fsencode(desks[machine.id]))
            assert folder is not None
            self.assertEqual({line.name for line in catalog.lifelines(folder)}, {name, b"same.bin"})
            self.assertEqual(len(catalog.tide(machine.id)), 1)

    def test_two_catalogs_of_one_file_may_be_brought_up_to_date_at_once(self) -> None:
        store = self.new_store()
        for hour in range(25):
            self.write("plan.txt", f"{hour}")
            self.snap(store, hour)
        catalogs = [Catalog(self.cache / "c.sqlite3") for _ in range(3)]
        failures: list[BaseException] = []

        def sync(catalog: Catalog) -> None:
            try:
                catalog.sync(open_store(self.folder / "store", PASSPHRASE))
            except BaseException as error:
                failures.append(error)

        threads = [threading.Thread(target=sync, args=(catalog,)) for catalog in catalogs]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(failures, [])
        tide = catalogs[0].tide(MACHINE.id)
        self.assertEqual([point.seq for point in tide], list(range(1, 26)))
        self.assertEqual([point.changed for point in tide[1:]], [1] * 24)
        for catalog in catalogs:
            catalog.close()

    def test_everything_that_was_covered_comes_back_onto_a_machine_with_another_home(self) -> None:
        self.write("Office/letter.txt", "dear council")
        self.write("Office/sub/plan.svg", "<svg/>")
        store = self.new_store()
        taken = self.snap(store)
        self.restore(store, taken, self.work / "Office", self.folder / "another home")
        self.assertEqual(tree(self.folder / "another home" / "Office"), tree(self.work / "Office"))
