"""Releasing snapshots: the catalog afterwards, pins, thinning by the ladder, and the commands for it."""

from __future__ import annotations

import json
import os
import random
import shutil
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from good_tide.core.clock import SetClock
from good_tide.core.errors import DamageError, PersonError, PlaceError
from good_tide.core.happenings import Filter
from good_tide.core.history import Lifeline
from good_tide.core.identifiers import MachineId, Nanoseconds
from good_tide.core.ladder import Ladder, Rung, Step, parse_rung
from good_tide.core.progress import Silent
from good_tide.core.settings import Job, Room, StoreRef
from good_tide.core.words import local
from good_tide.operations.integrity.verify import verify
from good_tide.operations.retention.precious import last_with_precious
from good_tide.operations.retention.room import plan_room, room_facts, taking
from good_tide.operations.retention.thinning import (
    ThinPlan,
    pin,
    pinned,
    plan_release,
    plan_thinning,
    release,
    sweep,
    unpin,
)
from good_tide.operations.schedule.standing import Standings
from good_tide.operations.stores.opening import synced_catalog
from good_tide.storage.catalog import Catalog
from good_tide.storage.needs import held_bytes, needed_keys
from good_tide.storage.store import SNAPSHOT_FOLDER, open_store
from tests.base import HOUR, MACHINE, OFFICE, OTHER_MACHINE, PASSPHRASE, T0, GoodTideTest, program

_STATES = st.lists(
    st.dictionaries(
        st.sampled_from(["a", "b", "d/a", "d/b", "d/e/c"]), st.sampled_from(["1", "2"]), max_size=5
    ),
    min_size=2,
    max_size=8,
)


class CatalogReleaseTest(GoodTideTest):
    def lines(self, catalog: Catalog, machine: MachineId) -> dict[str, list[object]]:
        """All spans, by path."""
        found: dict[str, list[object]] = {}

        def visit(path: bytes, lifelines: list[Lifeline]) -> None:
            for line in lifelines:
                below = line.name if not path else path + b"/" + line.name
                found[below.decode()] = [
                    (span.kind, span.size, span.identity, span.first, span.last) for span in line.spans
                ]
                folder = catalog.folder(machine, below)
                if line.kind == "d" and folder is not None:
                    visit(below, catalog.lifelines(folder))

        visit(b"", catalog.roots(machine))
        return {path: spans for path, spans in found.items() if spans}

    @settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
    @given(_STATES, st.data())
    def test_as_if_the_released_had_never_been(
        self, states: list[dict[str, str]], data: st.DataObject
    ) -> None:
        case = self.folder / f"case{len(list(self.folder.iterdir()))}"
        work = case / "work"
        store = self.new_store(f"{case.name}/store", None)
        names = []
        for hour, state in enumerate(states):
            shutil.rmtree(work, ignore_errors=True)
            work.mkdir()
            for name, content in state.items():
                (work / name).parent.mkdir(parents=True, exist_ok=True)
                (work / name).write_text(content)
            names.append(self.snap(store, hour, MACHINE, None, work).id)
            self.snap(store, hour, OTHER_MACHINE, None, work)
        catalog, _ = synced_catalog(store, case)
        gone = data.draw(st.lists(st.sampled_from(names[:-1]), unique=True, min_size=1))
        for part in (gone[: len(gone) // 2], gone[len(gone) // 2 :]):
            for name in part:
                store.place.remove(f"{SNAPSHOT_FOLDER}/{name}")
            catalog.sync(store)
        fresh, _ = synced_catalog(store, case / "fresh")
        for machine in (MACHINE.id, OTHER_MACHINE.id):
            self.assertEqual(self.lines(catalog, machine), self.lines(fresh, machine))
            self.assertEqual(
                catalog.tide(machine), fresh.tide(machine), "with what each added, changed and removed"
            )
        self.snap(store, 20, MACHINE, None, work)
        catalog.sync(store)
        fresh.sync(store)
        self.assertEqual(self.lines(catalog, MACHINE.id), self.lines(fresh, MACHINE.id))
        catalog.close()
        fresh.close()


class ReleaseTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store()
        self.ctx = self.context(SetClock(Nanoseconds(T0)))
        chance = random.Random(1)
        self.taken = []
        for hour in range(0, 24 * 8, 6):
            self.write("big.bin", chance.randbytes(80_000))
            self.taken.append(self.snap(self.store, hour))
        self.now = T0 + 24 * 8 * HOUR

    def plan(self, *rungs: str, room: bool = True) -> ThinPlan:
        return plan_thinning(
            self.store,
            Ladder(tuple(map(parse_rung, rungs))),
            MACHINE.id,
            "Europe/Berlin",
            self.now,
            Silent(),
            self.cache if room else None,
        )

    def test_thinned_by_the_ladder_and_the_room_given_back(self) -> None:
        plan = self.plan("2d every", "forever day")
        days = {local(snapshot.record.time).date() for snapshot in self.taken}
        self.assertIn(len(plan.keeps), range(len(days) + 4, len(days) + 9))
        self.assertTrue(plan.needs_yes)
        assert plan.gives_back is not None
        self.assertGreater(plan.gives_back, 80_000 * len(plan.releases))
        before = self.store.place.total_bytes()
        release(self.ctx, self.store, plan, "by the ladder", None, Silent())
        self.assertEqual(self.plan("2d every", "forever day").releases, ())
        report = sweep(
            open_store(self.folder / "store", PASSPHRASE),
            self.state,
            SetClock(Nanoseconds(self.now)),
            Silent(),
        )
        self.assertLess(abs(before - self.store.place.total_bytes() - plan.gives_back), 60_000)
        self.assertGreater(report.freed, 0)
        store = open_store(self.folder / "store", PASSPHRASE)
        self.assertTrue(verify(store, True, Silent()).ok)
        self.assertEqual(len(store.snapshot_ids()), len(plan.keeps))
        self.assertIn(
            f"{len(plan.releases)} snapshots released by the ladder",
            self.ctx.journal.events(Filter())[0].what,
        )

    def test_pinned_ones_and_the_newest_stay(self) -> None:
        pin(self.store, self.taken[3].id, "before the move")
        pin(self.store, self.taken[3].id, "before the great move")
        self.assertEqual(pinned(self.store), {self.taken[3].id: "before the great move"})
        plan = self.plan("1h every", room=False)
        self.assertEqual([snapshot.id for snapshot in plan.keeps], [self.taken[3].id, self.taken[-1].id])
        for name, words in ((self.taken[3].id, "great move"), (self.taken[-1].id, "newest")):
            with self.assertRaises(PersonError) as caught:
                plan_release(self.store, {name}, Silent(), None)
            self.assertIn(words, str(caught.exception))
        self.assertTrue(unpin(self.store, self.taken[3].id))
        self.assertFalse(unpin(self.store, self.taken[3].id))
        self.assertEqual(len(self.plan("1h every", room=False).keeps), 1)

    def test_a_damaged_pin_stops_everything(self) -> None:
        pin(self.store, self.taken[3].id)
        file = next((self.folder / "store" / "pins").iterdir())
        file.write_bytes(file.read_bytes()[:-2] + b"xx")
        with self.assertRaises(DamageError):
            self.plan("1h every")

    def test_every_version_of_a_precious_file_is_kept(self) -> None:
        work = self.folder / "work"
        contents = {}
        store = self.new_store("second")
        for hour in range(8):
            self.write("Contracts/lease.txt", f"version {hour // 3}")
            self.write("notes.txt", f"{hour}")
            taken = self.snap(store, 1000 + hour)
            contents[f"version {hour // 3}"] = taken.id
        job = Job(id=OFFICE, name="Office", folders=(str(work),), stores=(), precious=("Contracts/",))
        with self.assertRaises(PlaceError):
            last_with_precious(store, job, MACHINE.id, self.cache)
        for _ in range(2):
            synced_catalog(store, self.cache)[0].close()
            held = last_with_precious(store, job, MACHINE.id, self.cache)
            self.assertEqual(held, {contents["version 0"], contents["version 1"]})
            plan = plan_thinning(
                store,
                Ladder((Rung(Step.YEAR, "1h"),)),
                MACHINE.id,
                "UTC",
                T0 + 2000 * HOUR,
                Silent(),
                None,
                held,
            )
            self.assertEqual({one.id for one in plan.keeps}, set(contents.values()))
            release(self.ctx, store, plan, "by the ladder", None, Silent())
        self.assertEqual(set(store.snapshot_ids()), set(contents.values()))

    def test_other_machines_are_not_touched(self) -> None:
        self.snap(self.store, 300, OTHER_MACHINE)
        self.snap(self.store, 301, OTHER_MACHINE)
        plan = self.plan("1h every", room=False)
        self.assertEqual(
            {snapshot.record.machine.id for snapshot in (*plan.keeps, *plan.releases)}, {MACHINE.id}
        )


class RoomTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)
        self.chance = random.Random(2)
        for day in range(10):
            self.write("film.mp4", self.chance.randbytes(200_000))
            self.write("letters/one.txt", "x" * day)
            self.write("letters/scan.png", self.chance.randbytes(70_000) if day < 2 else b"small")
            self.snap(self.store, day * 24)

    def test_what_takes_the_room_is_exact(self) -> None:
        by_folder = {one.name: one for one in taking(self.store, "folder", Silent(), self.cache)}
        self.assertGreater(by_folder[str(self.work)].only_here, 1_900_000)
        self.assertIn(by_folder[f"{self.work}/letters"].only_here, range(130_000, 300_000))
        by_kind = {one.name: one for one in taking(self.store, "kind", Silent(), self.cache)}
        self.assertGreater(by_kind["video"].only_here, 1_900_000)
        self.assertIn(by_kind["pictures"].only_here, range(130_000, 160_000))
        by_period = taking(self.store, "period", Silent(), self.cache)
        machine = taking(self.store, "machine", Silent(), self.cache)
        self.assertEqual((len(machine), machine[0].shared), (1, 0))
        self.assertEqual(
            machine[0].only_here,
            held_bytes(self.store, needed_keys(self.store, self.store.snapshots()[0], Silent())),
        )
        self.assertLessEqual(sum(one.only_here for one in by_period), machine[0].only_here)

    def test_the_fewest_oldest_make_room_and_none_below_the_floor(self) -> None:
        pin(self.store, self.store.snapshots()[0][0].id)
        now = T0 + 24 * 10 * HOUR
        plan = plan_room(self.store, MACHINE.id, 450_000, now, Silent(), self.cache)
        self.assertEqual([(one.record.time - T0) // (24 * HOUR) for one in plan.releases], [1, 2])
        assert plan.gives_back is not None
        self.assertGreaterEqual(plan.gives_back, 450_000)
        self.assertEqual(plan_room(self.store, MACHINE.id, 500_000, T0, Silent(), self.cache).releases, ())
        everything = plan_room(self.store, MACHINE.id, 1 << 40, T0 + 24 * 5 * HOUR, Silent(), self.cache)
        self.assertEqual([(one.record.time - T0) // (24 * HOUR) for one in everything.releases], [1, 2, 3, 4])

    def test_the_status_counts_the_days_until_the_limit(self) -> None:
        synced_catalog(self.store, self.cache)[0].close()
        clock = SetClock(Nanoseconds(T0 + 10 * 24 * HOUR))
        standings = Standings(self.context(clock))
        stored = self.store.place.total_bytes()

        def days(room: Room) -> float | None:
            ref = StoreRef(path=str(self.folder / "store"))
            return (
                standings.standing(Job(id=OFFICE, name="Office", folders=(), stores=(ref,), room=room))
                .stores[0]
                .full_in_days
            )

        self.assertAlmostEqual(days(Room(limit_bytes=stored + 2_000_000)) or 0, 10, delta=2)
        self.assertEqual(days(Room(limit_bytes=stored)), 0)
        self.assertGreater(days(Room()) or 0, 1000)
        self.assertEqual(days(Room(reserve_bytes=1 << 60)), 0)

    def test_limit_and_reserve_say_how_much_is_missing(self) -> None:
        root, stored = self.folder / "store", self.store.place.total_bytes()
        self.assertEqual(room_facts(root, stored, Room(), (), T0).short, 0)
        self.assertEqual(room_facts(root, stored, Room(limit_bytes=stored - 1000), (), T0).short, 1000)
        facts = room_facts(root, stored, Room(reserve_bytes=1 << 60), (), T0)
        self.assertEqual(facts.short, (1 << 60) - facts.free)
        self.assertEqual(room_facts(root, stored, Room(limit_part=1.0), (), T0).limit, facts.total)


class CommandTest(GoodTideTest):
    def ok(self, *words: str | Path, code: int = 0) -> dict[str, Any]:
        found = program(*words, "--json")
        self.assertEqual(found.returncode, code, found.stdout + found.stderr)
        return dict(json.loads(found.stdout))

    def test_ladder_thin_pin_release_and_sweep(self) -> None:
        self.ok(
            "job", "add", "Office", "--folder", self.work, "--store", self.folder / "store", "--unencrypted"
        )
        store = self.folder / "store"
        for _ in range(5):
            self.write("a.bin", os.urandom(50_000))
            self.ok("snapshot", "Office")
        self.ok("pin", store, "latest", "--label", "as handed over")
        looked = self.ok(
            "ladder", "Office", "--rung", "1h every", "--rung", "forever year", "--picture", "2040-01-01"
        )
        self.assertEqual((len(looked["keeps"]), len(looked["releases"])), (1, 4))
        self.assertGreater(looked["gives_back"], 190_000)
        self.assertEqual(len(self.ok("ladder", "Office")["releases"]), 0)
        self.ok("ladder", "Office", "--rung", "1h year")
        self.assertEqual(
            self.ok("thin", "Office", "--plan")["released"], self.ok("thin", "Office", "--plan")["released"]
        )
        thinned = self.ok("thin", "Office", code=1)
        self.assertEqual((thinned["waits_for_yes"], thinned["released"]), (True, []))
        self.assertEqual(len(self.ok("thin", "Office", "--yes")["released"]), 4)
        self.assertEqual(self.ok("thin", "Office")["released"], [])
        self.assertGreater(self.ok("sweep", store, "--plan")["freed"], 190_000)
        self.assertGreater(self.ok("sweep", store)["freed"], 190_000)
        self.assertTrue(self.ok("verify", "--store", store, "--read-all")["ok"])
        self.write("a.bin", os.urandom(50_000))
        self.ok("snapshot", "Office")
        self.assertEqual(program("release", store, "latest").returncode, 2)
        self.ok("pin", store, self.ok("history", "--store", store)["snapshots"][0]["snapshot"], "--off")
        self.assertEqual(
            self.ok("release", store, "--since", "2038-01-01", "--before", "2039-01-01")["released"], []
        )
        self.assertEqual(program("release", store).returncode, 2)
        self.assertEqual(program("release", store, "latest", "--before", "2039-01-01").returncode, 2)
        pinned_one = self.ok("history", "--store", store)["snapshots"][0]["snapshot"]
        self.ok("pin", store, pinned_one)
        self.assertEqual(self.ok("release", store, "--before", "2039-01-01", "--plan")["released"], [])
        self.ok("pin", store, pinned_one, "--off")
        self.assertEqual(len(self.ok("release", store, "--before", "2039-01-01")["released"]), 1)
        self.assertEqual(len(self.ok("history", "--store", store)["snapshots"]), 1)
        self.assertEqual(program("ladder", "Office", "--rung", "2d fortnight").returncode, 2)

    def test_an_encrypted_store_is_thinned_by_scripts_too(self) -> None:
        secret = self.folder / "secret"
        secret.write_text(PASSPHRASE)
        self.ok(
            "job",
            "add",
            "Office",
            "--folder",
            self.work,
            "--store",
            self.folder / "store",
            "--passphrase-file",
            secret,
        )
        for number in range(2):
            self.write("a.txt", str(number))
            self.ok("snapshot", "Office", "--passphrase-file", secret)
        locked = program("ladder", "Office", "--rung", "1h year")
        self.assertEqual(locked.returncode, 3)
        self.assertIn("Office keeps", locked.stdout, "what was kept is said before what could not be told")
        self.assertEqual(len(self.ok("ladder", "Office", "--passphrase-file", secret)["releases"]), 1)
        self.assertEqual(len(self.ok("thin", "Office", "--yes", "--passphrase-file", secret)["released"]), 1)

    def test_room_its_limits_and_what_takes_it(self) -> None:
        store = self.folder / "store"
        self.ok("job", "add", "Office", "--folder", self.work, "--store", store, "--unencrypted")
        self.write("a.bin", os.urandom(50_000))
        self.write("note.txt", "stays")
        self.ok("snapshot", "Office")
        room = self.ok("room", store, "--by", "machine")
        self.assertEqual((room["limit"], room["short"], room["full_on"], len(room["by"])), (None, 0, None, 1))
        self.assertGreater(room["by"][0]["only_here"], 50_000)
        limited = self.ok("room", store, "--limit", "40 KB", "--floor", "0", "--when-short", "thin", code=1)
        self.assertGreater(limited["short"], 10_000)
        self.assertEqual(self.ok("room", store, "--limit", "50 %", "--reserve", "1 KB")["reserve"], 1000)
        for limit in ("much", "150 %", "0 %", "-5"):
            self.assertEqual(program("room", store, "--limit", limit).returncode, 2)
        planned = self.ok("purge", store, "a.bin", "--plan")
        self.assertEqual(
            (planned["snapshots"], planned["done"], planned["paths"][0]["versions"]), (1, False, 1)
        )
        self.assertTrue(self.ok("purge", store, "a.bin")["done"])
        self.assertEqual(program("purge", store, "a.bin").returncode, 2, "nothing was found")
