"""The places Rhythm and Journal, driven as a person drives them, with a real agent behind."""

from __future__ import annotations

import msgspec
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from good_tide.core.clock import SECOND
from good_tide.core.filling import FullIn
from good_tide.core.forecast import curve
from good_tide.core.happenings import Filter, Run
from good_tide.core.hours import Hours
from good_tide.core.ladder import Ladder, Rung, Step
from good_tide.core.rhythm import every_minutes_of
from good_tide.core.settings import Room
from good_tide.core.status import State
from good_tide.desktop.journal.runs_picture import by_day
from good_tide.desktop.rhythm.week_picture import WeekPicture
from good_tide.desktop.shell.views import VIEWS
from good_tide.desktop.stores.limits import LimitsDialog, full_words
from good_tide.operations.workplace import save_job
from good_tide.protocol.schedule_calls import TakeSnapshot
from good_tide.protocol.store_calls import RoomView
from good_tide.storage.pins import read_pins
from good_tide.system.mail_server import load_mail_server
from good_tide.system.stand_in_mail import StandInMail
from tests.support.base import BY_HAND, HOUR, OFFICE, T0
from tests.support.windows import WindowTest, row_of


class PlacesTest(WindowTest):
    def setUp(self) -> None:
        super().setUp()
        self.place = self.views.rhythm
        self.window.show_view(VIEWS[3])
        self.until(lambda: self.place.view is not None)

    def drag(self, picture: WeekPicture, begin: tuple[int, int], end: tuple[int, int]) -> None:
        def point(cell: tuple[int, int]) -> QPoint:
            return picture._box(*cell).center().toPoint()

        QTest.mousePress(picture, Qt.MouseButton.LeftButton, pos=point(begin))
        QTest.mouseMove(picture, point(end))
        QTest.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=point(end))

    def test_hours_are_drawn_and_nothing_changes_until_it_is_kept(self) -> None:
        place = self.place
        self.assertEqual(
            (place.sentence.text(), place.keep.isEnabled()), ("Snapshots are taken only by hand.", False)
        )
        place.when.every.click()
        place.when.on_disk.click()
        self.press(place.working)
        self.drag(place.picture, (5, 9), (5, 11))
        self.drag(place.picture, (0, 8), (0, 9))
        self.until(place.keep.isEnabled)
        self.assertIn(
            "Not kept yet: snapshots are taken every hour and when the disk comes, only",
            place.sentence.text(),
        )
        self.assertEqual(len(place.next.text().split("\n")), 10)
        self.assertEqual(self.job().rhythm, BY_HAND)
        self.press(place.keep)
        self.until(lambda: not place.keep.isEnabled())
        kept = self.job().rhythm
        hours = Hours.of(kept.allowed)
        self.assertEqual((every_minutes_of(kept), kept.on_disk), (60, True))
        self.assertEqual(
            [
                hours.part_of_cell(*cell)
                for cell in ((0, 8), (0, 9), (0, 10), (1, 8), (5, 9), (5, 11), (5, 12), (6, 9))
            ],
            [0, 0, 1, 1, 1, 1, 0, 0],
        )

    def test_the_keyboard_turns_hours_and_a_days_name_a_day(self) -> None:
        picture = self.place.picture
        picture.setFocus()
        picture._at = (0, 0)
        QTest.keyClick(picture, Qt.Key.Key_Right)
        QTest.keyClick(picture, Qt.Key.Key_Down)
        QTest.keyClick(picture, Qt.Key.Key_Space)
        QTest.mouseClick(
            picture, Qt.MouseButton.LeftButton, pos=QPoint(10, int(picture._box(6, 0).center().y()))
        )
        hours = Hours.of(picture.hours())
        self.assertEqual(
            [hours.part_of_cell(*cell) for cell in ((1, 1), (1, 2), (6, 0), (6, 23), (5, 23))],
            [0, 1, 0, 0, 1],
        )

    def test_times_that_cannot_be_understood_are_said(self) -> None:
        place = self.place
        place.when.at.click()
        place.when.times.setText("weekdays noon")
        place.when.times.textEdited.emit("weekdays noon")
        self.until(lambda: "is no day and time" in place.when.trouble.text())
        self.assertFalse(place.keep.isEnabled())
        place.when.times.setText("weekdays 12:30; sat 09:00")
        place.when.times.textEdited.emit("")
        self.press(place.keep)
        self.until(lambda: len(self.job().rhythm.rules) == 2)
        self.assertEqual(self.job().rhythm.words(), "on weekdays at 12:30 and on Sat at 09:00")
        place.discard.setEnabled(True)
        place.when.on_change.click()
        self.press(place.discard)
        self.until(lambda: not place.when.on_change.isChecked())

    def test_pausing_and_going_on_from_the_status_sentence(self) -> None:
        self.place._pause(T0 + 22 * HOUR)
        self.until(lambda: self.window.head.act.isVisible() and self.window.head.act.text() == "Go on")
        self.assertIn("Paused until", self.window.head.sentence.text())
        QTest.mouseClick(self.window.head.act, Qt.MouseButton.LeftButton)
        self.until(lambda: not self.window.head.act.isVisible())
        self.assertEqual(self.agent.schedule.standings()[0].status.state, State.BY_HAND)

    def test_what_goes_with_it_is_kept_too(self) -> None:
        place = self.place
        place.away.limit.setValue(3)
        place.waits.metered.click()
        place.when.large.setValue(900)
        place.when.apart.setText("~/Films; /srv/x")
        place.when.apart.textEdited.emit("")
        place.telling.noise.setCurrentIndex(0)
        place.telling.reports.setCurrentIndex(2)
        place.telling.to.setText("ada@example.org, bo@example.org")
        place.telling.to.textEdited.emit("")
        self.press(place.keep)
        self.until(lambda: self.job().noise == "trouble")
        job = self.job()
        self.assertEqual(
            (job.holding.limit_bytes, job.rhythm.considerate.metered, job.reporting.when),
            (3 << 30, False, "daily"),
        )
        self.assertEqual(job.reporting.to, ("ada@example.org", "bo@example.org"))
        self.assertEqual((job.rhythm.large_bytes, job.rhythm.timed_only), (900 << 20, ("~/Films", "/srv/x")))
        self.until(lambda: "no mail server yet" in place.telling.words.text())

    def test_the_mail_server_is_named_tried_and_kept(self) -> None:
        server = StandInMail(self.folder / "mail", 0)
        port = server.start()
        self.addCleanup(server.stop)
        self.press(self.place.telling.server)
        self.until(lambda: self.place.dialog is not None)
        dialog = self.place.dialog
        assert dialog is not None
        self.press(dialog.keep)
        self.until(lambda: "The mail server is not named" in dialog.said.text())
        dialog.host.setText("127.0.0.1")
        dialog.security.setCurrentIndex(2)
        self.assertEqual(dialog.port.value(), 25)
        self.assertIn("Everybody on the way can read", dialog.said.text())
        dialog.port.setValue(port)
        dialog.origin.setText("desk@example.org")
        self.press(dialog.trying)
        self.assertIn("Write the address", dialog.said.text())
        dialog.to.setText("bo@example.org")
        self.press(dialog.trying)
        self.until(lambda: "The server took it. See whether it reaches bo@example.org." in dialog.said.text())
        self.assertEqual(len(list((self.folder / "mail").iterdir())), 1)
        self.assertIsNone(load_mail_server(self.settings))
        dialog.login.setText("ada")
        self.press(dialog.trying)
        self.until(lambda: "The password of ada at 127.0.0.1 is not known" in dialog.said.text())
        self.press(dialog.keep)
        self.until(lambda: "The password of ada is not known. Type it." in dialog.said.text())
        dialog.password.setText("lantern")
        self.press(dialog.trying)
        self.until(lambda: "127.0.0.1 did not take the login ada" in dialog.said.text())
        self.press(dialog.keep)
        self.until(lambda: load_mail_server(self.settings) is not None and not dialog.isVisible())
        kept = load_mail_server(self.settings)
        assert kept is not None
        self.assertEqual((kept.host, kept.port, kept.sender), ("127.0.0.1", port, "desk@example.org"))
        self.assertEqual(self.ring.recall(kept.key), "lantern")
        self.assertNotIn("lantern", (self.settings / "mail.toml").read_text())
        self.press(self.place.telling.server)
        self.until(lambda: self.place.dialog is not dialog)
        again = self.place.dialog
        assert again is not None
        self.assertEqual(
            (again.host.text(), again.port.value(), again.login.text(), again.password.text()),
            ("127.0.0.1", port, "ada", ""),
        )
        again.reject()

    def test_a_ladder_is_tried_dragged_looked_at_in_years_and_kept(self) -> None:
        card = self.place.ladder
        self.assertIn("Keeps 6 of 6", card.words.text())
        card.ready.setCurrentIndex(card.ready.findData("usual"))
        card._chosen(card.ready.currentIndex())
        self.assertEqual(
            (card.rungs.text(), self.job().ladder),
            ("2d every; 30d day; 12mo week; forever quarter", Ladder()),
        )
        picture, end = card.picture, card.picture._ends()[0]
        QTest.mousePress(picture, Qt.MouseButton.LeftButton, pos=QPoint(int(end), 60))
        QTest.mouseMove(picture, QPoint(int(picture._x(5 * 86400.0)), 60))
        QTest.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=QPoint(int(end), 60))
        self.assertEqual(picture.ladder.rungs[0], Rung(Step.EVERY, "5d"))
        self.assertTrue(card.rungs.text().startswith("5d every"))
        card.later.setValue(24)
        self.assertEqual(card.when.text(), "in 2 years")
        self.assertGreater(len(picture.stays), 100)
        self.until(
            lambda: (
                "of what there is now" in card.words.text() and "gives back up to" not in card.words.text()
            )
        )
        self.assertIn("of what comes until then", card.words.text())
        card.later.setValue(0)
        card.rungs.setText("2d fortnight")
        card.rungs.textEdited.emit("")
        self.assertIn("is no rung", card.trouble.text())
        self.assertFalse(card.keep.isEnabled())
        card.rungs.setText("1h every; 5y year")
        card.rungs.textEdited.emit("")
        self.assertIn("Keeps 1 of 6; gives back up to", card.words.text())
        self.until(lambda: "gives back" in card.words.text() and "up to" not in card.words.text())
        self.press(card.keep)
        self.until(lambda: self.job().ladder.rungs != ())
        self.assertEqual(self.job().agreed, self.job().ladder)
        self.write("plan.txt", "another")
        self.window.link.ask(TakeSnapshot(self.window.link.job))
        self.until(lambda: len(self.window.overview.tide) == 1)
        self.assertIn(
            "6 snapshots released by the ladder",
            [event.what for event in self.agent.context.journal.events(Filter(job=OFFICE))],
        )

    def test_what_a_ladder_makes_of_new_snapshots_is_worked_out_where_it_is_seen(self) -> None:
        card = self.place.ladder
        self.assertEqual(len(card.picture.times), 6)
        self.window.show_view(VIEWS[0])
        self.window.link.ask(TakeSnapshot(self.window.link.job))
        self.until(lambda: len(self.window.overview.tide) == 7)
        self.assertEqual(len(card.picture.times), 6)
        self.window.show_view(VIEWS[3])
        self.until(lambda: len(card.picture.times) == 7)
        self.assertIn("Keeps 7 of 7", card.words.text())

    def test_precious_files_are_named_beside_the_ladder(self) -> None:
        card = self.place.ladder
        card.precious.setText("Contracts/; !x")
        card.precious.textEdited.emit("")
        self.press(card.keep)
        self.until(lambda: card.trouble.isVisible())
        self.assertEqual(self.job().precious, ())
        card.precious.setText("Contracts/; *.txt")
        card.precious.textEdited.emit("")
        self.press(card.keep)
        self.until(lambda: self.job().precious == ("Contracts/", "*.txt"))
        self.window.show_view(VIEWS[2])
        stores = self.views.stores
        self.until(lambda: bool(stores.cards) and stores.cards[0].what.isVisible())
        self.press(stores.cards[0].what)
        self.until(lambda: len(stores.room_page.picture.snapshots) == 6)
        self.assertTrue(all(one.stays for one in stores.room_page.picture.snapshots))
        self.assertIn("precious", stores.room_page.picture.words(stores.room_page.picture.snapshots[0]))

    def test_a_snapshot_is_pinned_from_the_timeline(self) -> None:
        self.window.show_view(VIEWS[0])
        timeline = self.views.timeline
        timeline.go(3)
        self.assertEqual(timeline.pin.text(), "Pin this snapshot…")
        QTest.mouseClick(timeline.pin, Qt.MouseButton.LeftButton)
        assert timeline.pin.label is not None
        timeline.pin.label.setTextValue("as handed over")
        timeline.pin.label.accept()
        self.until(lambda: timeline.pin.text() == "Pinned: as handed over")
        self.assertEqual(timeline.chart.pinned, {3})
        self.assertEqual(
            [pin.label for pin in read_pins(self.agent.sessions.of(OFFICE).store()).values()],
            ["as handed over"],
        )
        timeline.go(2)
        self.assertEqual(timeline.pin.text(), "Pin this snapshot…")
        timeline.go(3)
        QTest.mouseClick(timeline.pin, Qt.MouseButton.LeftButton)
        self.until(lambda: timeline.chart.pinned == frozenset())

    def test_limits_are_set_beside_the_forecast(self) -> None:
        stores = self.views.stores
        self.window.show_view(VIEWS[2])
        self.until(
            lambda: (
                bool(stores.cards)
                and stores.cards[0].room.isVisible()
                and stores.cards[0].machines.text() == "1 machine with 1 job here."
            )
        )
        card = stores.cards[0]
        self.assertIn("after two weeks", card.full.text())
        QTest.mouseClick(card.room, Qt.MouseButton.LeftButton)
        assert stores.limits is not None
        stores.limits.limit.setValue(3)
        stores.limits.short.setCurrentIndex(1)
        QTest.mouseClick(stores.limits.keep, Qt.MouseButton.LeftButton)
        self.until(lambda: self.job().room.when_short == "thin")
        self.assertEqual(self.job().room, Room(limit_bytes=3 << 30, when_short="thin"))
        exact = Room(limit_bytes=(3 << 30) + 5, limit_part=0.333, reserve_bytes=7)
        dialog = LimitsDialog(self.window.link, exact, self.window)
        self.assertEqual(
            dialog.wanted(), exact, "what is finer than the fields show is not rounded by looking at it"
        )
        dialog.part.setValue(50)
        dialog.reserve.setValue(2)
        self.assertEqual(
            dialog.wanted(), Room(limit_bytes=(3 << 30) + 5, limit_part=0.5, reserve_bytes=2 << 30)
        )
        view = RoomView(Room(), 100, 0, FullIn(10, 20, None), curve([7] * 84, 26))
        self.assertIn("later than in five years", full_words(view, T0))
        self.assertIn("are missing", full_words(msgspec.structs.replace(view, short=5), T0))
        card.forecast.show_room(view, T0)
        self.assertFalse(card.forecast.grab().isNull())

    def test_a_changed_ladder_that_was_not_agreed_to_releases_nothing(self) -> None:
        save_job(self.settings, msgspec.structs.replace(self.job(), ladder=Ladder((Rung(Step.YEAR),))))
        self.agent.scheduler.poke()
        self.until(lambda: self.agent.sessions.of(OFFICE).job.ladder.rungs != ())
        self.write("plan.txt", "another")
        self.window.link.ask(TakeSnapshot(self.window.link.job))
        self.until(lambda: len(self.window.overview.tide) == 7)
        told = next(
            event
            for event in self.agent.context.journal.events(Filter(job=OFFICE))
            if "would release" in event.what
        )
        self.assertIn(f"would release {len(told.detail)} snapshots", told.what, "each is named")
        self.assertTrue(all(line.startswith("desk, ") for line in told.detail))
        self.place.refresh()
        self.until(
            lambda: (
                self.place.ladder.keep.text() == "Agree to this ladder" and self.place.ladder.keep.isEnabled()
            )
        )

    def test_the_journal_lists_filters_and_offers_a_rule(self) -> None:
        journal = self.views.journal
        gone = str(self.work / "locked.db")
        for run in range(3):
            self.agent.context.journal.add_run(
                Run(
                    OFFICE,
                    "Pier",
                    "time",
                    T0 + 10 * HOUR + run * SECOND,
                    1.0,
                    "failed",
                    words="No room left",
                )
            )
        with self.agent.context.journal._using() as db:
            db.execute(
                "INSERT INTO left_out VALUES (?, ?, ?, ?, ?, ?, ?)",
                (OFFICE, gone.encode(), "denied", "Permission denied", T0, T0, 4),
            )
        self.agent.context.journal.add(
            "trouble", self.job(), "The disk was full", ("detail",), "No snapshot was taken.", "Make room."
        )
        self.window.show_view(VIEWS[4])
        self.until(lambda: journal.view is not None and journal.events.topLevelItemCount() == 10)
        assert journal.view is not None
        days = by_day(journal.view.runs)
        self.assertEqual((sum(day.failed for day in days), sum(day.runs for day in days)), (3, 6))
        journal.level.setCurrentIndex(2)
        self.until(lambda: journal.events.topLevelItemCount() == 4)
        trouble = next(
            row_of(journal.events, row)
            for row in range(4)
            if "disk was full" in row_of(journal.events, row).text(2)
        )
        self.assertEqual(
            [(trouble.child(row) or trouble).text(2) for row in range(3)],
            ["No snapshot was taken.", "Make room.", "detail"],
        )
        journal.text.setText("nothing of the kind")
        journal.text.textEdited.emit("")
        self.until(lambda: journal.events.topLevelItemCount() == 0)
        self.assertIn("Nothing happened that fits", journal.empty.text())
        journal.what.setCurrentIndex(2)
        offer = journal.left_out.itemWidget(row_of(journal.left_out, 0), 4)
        assert isinstance(offer, QPushButton)
        QTest.mouseClick(offer, Qt.MouseButton.LeftButton)
        self.until(lambda: self.window.page is self.views.coverage and bool(self.views.coverage.rules.rules))
        self.assertIn("locked.db", self.views.coverage.rules.rules[0])
