"""Run by ``test_languages`` in a process of its own, whose environment says language, size of type and theme:
every place of the window with words that are longer by a third."""

from __future__ import annotations

import os
from pathlib import Path

from PySide6.QtCore import QSize
from PySide6.QtWidgets import QDialog, QWidget
from tools.window_driver import settle

from good_tide.core.job_facts import StoreState
from good_tide.core.ladder import Ladder
from good_tide.core.places import Check, Level, ServerNeed
from good_tide.core.settings import StoreRef
from good_tide.desktop.setup.disk_rows import DiskRow
from good_tide.desktop.setup.server_dialog import ServerDialog
from good_tide.desktop.shell.views import VIEWS
from good_tide.protocol.server_calls import ServerView
from good_tide.protocol.wishes import Wish
from good_tide.system.disk_choice import STAND_IN_FILE
from good_tide.system.stand_in_disks import StandIn, StandInDisks
from tests.support.disk_facts import GIB
from tests.support.fit import SIZES, cut_texts, out_of_reach, untranslated
from tests.support.windows import WindowTest

_DATA = (
    "Office",
    "Pier",
    "good-tide-tests",
    "desk",
    "plan.txt",
    "work",
    "store",
    "Good Tide",
    "exclude",
    "include",
)
"""Made-up names, and what rules begin with."""


class LongWindowTest(WindowTest):
    maxDiff = None

    def wrong_on(self, page: QWidget) -> list[str]:
        """What does not fit on a page, or was not translated."""
        found = cut_texts(page)
        return found + untranslated(page, _DATA) if "en@long" in os.environ.get("LANGUAGE", "") else found

    def picture(self, page: QWidget, name: str) -> None:
        """Keep what it looks like, where that is wanted."""
        folder = os.environ.get("GOOD_TIDE_TEST_PICTURES")
        if folder:
            page.grab().save(f"{folder}/{name}-{os.environ.get('QT_SCALE_FACTOR', '1')}.png")

    def test_every_place(self) -> None:
        scale = float(os.environ.get("QT_SCALE_FACTOR", "1"))
        wrong = []
        for size in SIZES:
            self.window.resize(QSize(round(size.width() / scale), round(size.height() / scale)))
            for kind in VIEWS:
                self.window.show_view(kind)
                settle(220)
                found = out_of_reach(self.window.views[kind]) + self.wrong_on(self.window)
                wrong += [f"{kind.icon} {size.toTuple()}: {one}" for one in found]
                self.picture(self.window, f"{kind.icon}-{size.width()}")
        self.assertEqual(sorted(set(wrong)), [])

    def test_pages_and_dialogs(self) -> None:
        self.window.resize(1280, 760)
        stores, coverage, rhythm = self.views.stores, self.views.coverage, self.views.rhythm
        self.window.show_view(VIEWS[2])
        self.until(lambda: bool(stores.cards) and stores.cards[0].room.isVisible())
        wrong: list[str] = []

        def look(page: QWidget, name: str) -> None:
            settle(500)
            wrong.extend(f"{name}: {one}" for one in self.wrong_on(page))
            self.picture(page, name)

        view = stores.cards[0].view
        for show, page in (
            (stores.show_room, stores.room_page),
            (stores.show_health, stores.health_page),
            (stores.show_fleet, stores.fleet_page),
        ):
            show(view)
            look(page, type(page).__name__)
        self.press(stores.fleet_page.back)
        self.press(stores.cards[0].room)
        assert stores.limits is not None
        look(stores.limits, "limits")
        stores.limits.reject()
        self.press(stores.add)
        look(stores.panel, "adding")
        self.window.show_view(VIEWS[1])
        self.until(lambda: coverage.survey is not None and coverage.survey.done)
        coverage.rules.kinds_wanted.emit()
        assert coverage.kinds is not None
        look(coverage.kinds, "kinds")
        coverage.kinds.reject()
        self.window.show_view(VIEWS[3])
        settle(300)
        rhythm.telling.server.click()
        for dialog in self.window.findChildren(QDialog):
            if dialog.isVisible():
                look(dialog, "mail")
        timeline = self.views.timeline
        self.window.show_view(VIEWS[0])
        self.until(lambda: timeline.pane.currentWidget() is timeline.pane.folder)
        look(timeline.pane.folder, "folder")
        self.press(timeline.pane.folder.save)
        assert timeline.handing.dialog is not None
        look(timeline.handing.dialog, "archive")
        timeline.handing.dialog.reject()
        outside = self.folder / "store"
        self.window.show_wish(Wish(path=os.fsencode(outside)))
        self.until(self.window.notice.act_button.isVisible)
        look(self.window.notice, "outside")
        (self.work / "plan.txt").unlink()
        self.window.show_wish(Wish(path=os.fsencode(self.work), missing=True))
        self.until(lambda: timeline.model.found is not None)
        look(timeline, "missing")
        self.assertEqual(sorted(set(wrong)), [])


class LongSetUpTest(LongWindowTest):
    """Before there is a job."""

    begins_as = StoreState.NO_JOB

    def save_office(self, settings: Path, stores: tuple[StoreRef, ...], ladder: Ladder | None = None) -> None:
        """None is kept; the disks are stand-ins, so that what this machine has does not matter."""
        rack = StandInDisks(self.folder / "rack")
        rack.add(StandIn(name="Pier", capacity=900 * GIB, device="one"))
        rack.add(StandIn(name="2026&" * 40, kind="network", file_system="ext4", capacity=90 * GIB))
        rack.add(StandIn(name="desk", kind="internal", capacity=90 * GIB, device="stand-in system disk"))
        settings.mkdir(exist_ok=True)
        (settings / STAND_IN_FILE).write_text(str(rack.root))

    def test_every_place(self) -> None:
        self.until(lambda: len(self.window.set_up.place.rows) == 3)
        scale = float(os.environ.get("QT_SCALE_FACTOR", "1"))
        wrong = []
        for size in SIZES[1:]:
            self.window.resize(QSize(round(size.width() / scale), round(size.height() / scale)))
            settle(400)
            wrong += [f"{size.toTuple()}: {one}" for one in self.wrong_on(self.window)]
            self.picture(self.window, f"set-up-{size.width()}")
        self.assertEqual(sorted(set(wrong)), [])

    def test_a_long_name_of_a_disk_gives_way(self) -> None:
        self.window.resize(1000, 620)
        place = self.window.set_up.place

        def long_names() -> list[DiskRow]:
            return [row for row in place.rows if row.view.facts.name.startswith("2026")]

        def is_short_and_plain(words: str) -> bool:  # a name's & is no key
            return words.startswith("2026&&") and "…" in words

        self.until(lambda: any(is_short_and_plain(row.radio.text()) for row in long_names()))
        [long] = long_names()
        self.assertEqual(out_of_reach(place), [])
        self.assertIn(long.view.facts.name, long.radio.accessibleName())

    def test_pages_and_dialogs(self) -> None:
        place = self.window.set_up.place
        place.ask_server()
        [dialog] = self.window.findChildren(ServerDialog)
        address = "sftp://store@store/store/store"
        checks = (Check(Level.GOOD, "store"), Check(Level.DOUBTFUL, "store " * 12, "store " * 12))
        wrong: list[str] = []
        for name, view in (
            ("address", None),
            ("key", ServerView(address, "store", checks, ServerNeed.KEY, "store" * 9)),
            ("secret", ServerView(address, "store", checks, ServerNeed.PASSWORD)),
            ("passphrase", ServerView(address, "store", checks, ServerNeed.KEY_PASSPHRASE)),
            ("folders", ServerView(address, "store", checks, folders=("store", "work"))),
            ("missing", ServerView(address, "store", checks, missing=True)),
        ):
            if view is not None:
                dialog._take(dialog._asked, view)
            settle(200)
            wrong += [f"server, {name}: {one}" for one in self.wrong_on(dialog)]
            self.picture(dialog, f"server-{name}")
        dialog.reject()
        self.assertEqual(sorted(set(wrong)), [])
