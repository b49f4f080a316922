"""What was chosen is what is done: snapshots go by their names, and every request says which job it means."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec

from good_tide.core.errors import PersonError
from good_tide.core.previews import TextPreview
from good_tide.core.restoring import Action
from good_tide.core.settings import Job, StoreRef
from good_tide.desktop.shell.views import VIEWS
from good_tide.desktop.timeline.model import TimelineModel
from good_tide.operations.stores.opening import synced_catalog
from good_tide.operations.workplace import load_jobs, save_job
from good_tide.protocol.agent_calls import ReadOverview
from good_tide.protocol.client import agent_client
from good_tide.protocol.coverage_calls import KeepCoverage
from good_tide.protocol.history_calls import FolderView, PinSnapshot
from good_tide.protocol.restore_calls import PickedItem, PlanRestore
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.version_calls import Beside, ComparisonView, Detail, ReadComparison, ReadDetail
from good_tide.storage.folders import SNAPSHOT_FOLDER
from tests.support.base import BY_HAND, MACHINE, OFFICE, OTHER_MACHINE, SOUND, open_store
from tests.support.windows import WindowTest


class MeantTest(WindowTest):
    """Six snapshots of one file; some are released while one of them is chosen."""

    def release(self, *numbers: int) -> None:
        """Release snapshots by their numbers from 1, as another program would."""
        store = open_store(self.folder / "store", None)
        names = [one.id for one in store.snapshots()[0]]
        for number in numbers:
            store.place.remove(f"{SNAPSHOT_FOLDER}/{names[number - 1]}")

    def choose(self, number: int) -> PickedItem:
        timeline = self.views.timeline
        self.until(lambda: not timeline.model.missing_views())
        timeline.select(os.fsencode(self.work / "plan.txt"))
        timeline.go(number)
        self.until(
            lambda: (
                timeline.inspector._detail is not None
                and timeline.inspector._detail.preview == TextPreview(str(number - 1))
            )
        )
        return timeline.model.picked(os.fsencode(self.work / "plan.txt"))

    def ask_again(self, length: int) -> None:
        self.window.state.ask()
        self.until(lambda: len(self.views.timeline.model.tide) == length)

    def restored(self) -> str:
        into = self.folder / "into"
        return (into / "plan.txt").read_text() if (into / "plan.txt").exists() else ""

    def test_the_chosen_version_comes_back_though_earlier_snapshots_are_released_meanwhile(self) -> None:
        chosen = self.choose(3)
        self.release(1)
        self.views.timeline.plan([chosen])
        dialog = self.views.timeline.dialog
        assert dialog is not None
        dialog.restore_into(str(self.folder / "into"))
        self.until(dialog._go.isEnabled)
        dialog.accept()
        self.until(lambda: self.restored() == "2")

    def test_from_the_restore_list_as_well(self) -> None:
        timeline = self.views.timeline
        for number in (2, 4):
            timeline.restore_list.add(self.choose(number), timeline._now)
        self.release(1, 3)
        self.ask_again(4)
        timeline.plan(timeline.restore_list.items)
        dialog = timeline.dialog
        assert dialog is not None
        dialog.restore_into(str(self.folder / "into"))
        self.until(dialog._go.isEnabled)
        dialog.accept()
        self.until(lambda: len(list((self.folder / "into").glob("*plan.txt"))) == 2)
        self.assertEqual({path.read_text() for path in (self.folder / "into").glob("*plan.txt")}, {"1", "3"})

    def test_what_is_gone_when_a_plan_is_made_is_said(self) -> None:
        chosen = self.choose(3)
        self.release(3)
        self.views.timeline.plan([chosen])
        dialog = self.views.timeline.dialog
        assert dialog is not None
        self.until(lambda: "no longer kept" in dialog._summary.text())
        self.assertIn("the nearest is of", dialog._summary.text())
        self.assertFalse(dialog._go.isEnabled())
        dialog.reject()

    def test_what_is_gone_when_a_plan_is_carried_out_is_said(self) -> None:
        chosen = self.choose(3)
        self.views.timeline.plan([chosen])
        dialog = self.views.timeline.dialog
        assert dialog is not None
        dialog.restore_into(str(self.folder / "into"))
        self.until(dialog._go.isEnabled)
        self.release(3)
        dialog.accept()
        self.until(lambda: "no longer kept" in self.window.notice.text)
        self.assertEqual(self.restored(), "")

    def test_pins_previews_and_differences_are_of_the_chosen_snapshot(self) -> None:
        chosen = self.choose(4)
        self.release(1, 2)
        answers: list[Detail] = []
        job = self.window.link.job
        self.window.link.ask(ReadDetail(job, chosen.path, chosen.snapshot, chosen.time), answers.append)
        self.until(lambda: bool(answers))
        self.assertEqual((answers[0].preview, answers[0].snapshot), (TextPreview("3"), chosen.snapshot))
        compared: list[ComparisonView] = []
        call = ReadComparison(job, chosen.path, chosen.snapshot, chosen.time, Beside.BEFORE)
        self.window.link.ask(call, compared.append)
        self.until(lambda: bool(compared))
        found = compared[0].comparison.compared
        assert found is not None
        self.assertEqual((found.chosen, found.other), (TextPreview("3"), TextPreview("2")))
        self.window.link.ask(PinSnapshot(job, chosen.snapshot, label="this one"))
        self.ask_again(4)
        self.until(lambda: self.window.overview.pinned == {chosen.snapshot: "this one"})

    def test_the_moment_and_the_place_stay_when_others_are_released(self) -> None:
        timeline, chosen = self.views.timeline, self.choose(4)
        self.release(1, 3)
        self.ask_again(4)
        self.assertEqual((timeline.model.picked(chosen.path), timeline.model.selected), (chosen, chosen.path))
        self.release(2)
        self.ask_again(3)
        self.assertEqual(
            timeline.model.picked(chosen.path).time, timeline.model.tide[timeline.model.moment - 1].time
        )

    def test_rows_that_count_other_snapshots_are_never_shown(self) -> None:
        timeline = self.views.timeline
        self.choose(6)
        before = timeline.model
        stale = FolderView(
            os.fsencode(self.work), tuple(before._views[os.fsencode(self.work)]), before.history
        )
        self.write("plan.txt", "new")
        self.snap(open_store(self.folder / "store", None), 9)
        seen: list[tuple[int, int]] = []
        real = timeline._refresh

        def look() -> None:
            real()
            row = timeline.model.row_of(timeline.model.selected)
            if row is not None:
                seen.append((len(timeline.model.tide), row.line.spans[-1].first))

        timeline._refresh = look  # type: ignore[method-assign]
        self.window.state.ask()
        self.until(lambda: timeline._coming is not None or len(timeline.model.tide) == 7)
        timeline._take_view(stale)
        self.until(lambda: len(timeline.model.tide) == 7 and not timeline.model.missing_views())
        timeline._take_view(stale)
        self.assertEqual(set(seen) - {(6, 6), (7, 7)}, set())
        self.assertEqual(timeline.model.moment, 7)

    def test_coverage_is_kept_in_the_job_that_is_meant(self) -> None:
        other = self.folder / "other"
        other.mkdir()
        sound = Job(
            id=SOUND,
            name="Sound",
            folders=(str(other),),
            stores=self.job().stores,
            machine=OTHER_MACHINE,
            rhythm=BY_HAND,
        )
        save_job(self.settings, sound)
        self.agent.scheduler.poke()
        self.until(lambda: SOUND in self.shown_jobs())
        self.agent.sessions.take(sound)  # as a run in the background does
        with agent_client(agent_socket(self.folder / "run" / "good-tide", self.settings)) as second:
            assert second is not None
            self.assertEqual(second.ask(ReadOverview(SOUND)).job, SOUND)
            self.window.show_view(VIEWS[1])
            self.views.coverage.rules.add_line("exclude kind sound")
            self.press(self.views.coverage.keep)
            self.until(lambda: "exclude kind sound" in "".join(self.jobs()["Office"].rules))
            self.assertEqual(self.jobs()["Sound"], sound)
            second.ask(KeepCoverage(SOUND, (str(other),), ("exclude kind pictures",)))
        self.assertEqual(self.jobs()["Sound"].rules, ("exclude kind pictures",))
        self.assertNotIn("exclude kind pictures", self.jobs()["Office"].rules)

    def test_a_job_that_is_renamed_meanwhile_stays_the_one_that_is_shown(self) -> None:
        office = self.jobs()["Office"]
        save_job(
            self.settings,
            Job(
                id=SOUND,
                name="Archive",
                folders=office.folders,
                stores=office.stores,
                machine=OTHER_MACHINE,
                rhythm=BY_HAND,
            ),
        )
        self.agent.scheduler.poke()
        self.until(lambda: SOUND in self.shown_jobs())
        save_job(self.settings, msgspec.structs.replace(office, name="Wardrobe", former=("Office",)))
        chosen = self.choose(3)
        self.agent.scheduler.poke()
        self.until(lambda: self.window.overview.name == "Wardrobe")
        self.assertEqual((self.window.overview.job, self.window.link.job), (OFFICE, OFFICE))
        self.assertEqual(self.choose(3), chosen)

    def shown_jobs(self) -> set[str]:
        return {job.id for job in self.window.overview.jobs}

    def jobs(self) -> dict[str, Job]:
        return {job.name: job for job in load_jobs(self.settings)}

    def test_two_clients_look_at_two_jobs(self) -> None:
        store = open_store(self.folder / "store", None)
        self.snap(store, 7, OTHER_MACHINE)
        save_job(
            self.settings,
            Job(
                id=SOUND,
                name="Sound",
                folders=(str(self.work),),
                stores=(StoreRef(path=str(self.folder / "store")),),
                machine=OTHER_MACHINE,
                rhythm=BY_HAND,
            ),
        )
        self.agent.scheduler.poke()
        self.until(lambda: SOUND in self.shown_jobs())
        with agent_client(agent_socket(self.folder / "run" / "good-tide", self.settings)) as second:
            assert second is not None
            sound = second.ask(ReadOverview(SOUND))
            self.assertEqual((len(sound.tide), sound.machine), (1, OTHER_MACHINE.name))
            path = os.fsencode(self.work / "plan.txt")
            item = PickedItem(path, sound.tide[0].name, sound.tide[0].time)
            self.assertEqual(second.ask(PlanRestore(SOUND, (item,))).counts, {Action.IDENTICAL: 1})
            with self.assertRaisesRegex(PersonError, "no longer kept"):
                second.ask(PlanRestore(OFFICE, (item,)))
        self.choose(2)
        self.assertEqual(self.window.overview.name, "Office")


class ModelTest(WindowTest):
    """The plain model, without the window."""

    def test_numbers_mean_something_in_one_history_only(self) -> None:
        store = open_store(self.folder / "store", None)
        catalog, _ = synced_catalog(store, self.folder / "another cache")
        self.addCleanup(catalog.close)
        before = TimelineModel(catalog.tide(MACHINE.id), catalog.history(MACHINE.id))
        before.go(3)
        name = before.picked(b"/x").snapshot
        store.place.remove(f"{SNAPSHOT_FOLDER}/{before.tide[0].name}")
        catalog.sync(store)
        after = TimelineModel(catalog.tide(MACHINE.id), catalog.history(MACHINE.id))
        self.assertNotEqual(before.history, after.history)
        after.follow(before)
        self.assertEqual((after.moment, after.picked(b"/x").snapshot), (2, name))
        self.assertTrue(Path(store.place.title).is_dir())
