"""In the window: a disk was replaced or emptied while snapshots wait for it, and somebody goes on with the
new one."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from good_tide.core.clock import SetClock
from good_tide.core.identifiers import Nanoseconds, StoreId
from good_tide.core.job_facts import StoreState
from good_tide.core.progress import Silent
from good_tide.desktop.setup.replacing import ReplaceDialog
from good_tide.desktop.shell.views import VIEWS
from good_tide.operations.schedule.run import run_job
from good_tide.operations.snapshot.taking import Steps
from good_tide.operations.stores.job_stores import JobStores, NobodyToAsk
from good_tide.operations.stores.opening import create_at, store_place
from good_tide.operations.workplace import find_job
from good_tide.storage.store import Store
from tests.support.base import HOUR, PASSPHRASE, T0, open_store
from tests.support.windows import WindowTest


class _Told(NobodyToAsk):
    def known(self, store: StoreId) -> str | None:
        return PASSPHRASE


class _ReplacedDisk(WindowTest):
    store_name = "disk/store"
    passphrase = PASSPHRASE
    begins_as = StoreState.REPLACED

    def make_history(self, store: Store) -> None:
        """One snapshot on the disk that is gone, three that wait for it, and an empty disk."""
        self.write("large.bin", bytes(range(256)) * 2000)
        self.run_it(0)
        self.root.parent.rename(self.folder / "old disk")
        for hour in range(1, 4):
            self.write("note.txt", str(hour))
            self.run_it(hour)
        self.root.mkdir(parents=True)
        self.prepare_disk()

    def prepare_disk(self) -> None:
        """Leave the new disk empty."""

    def run_it(self, hour: int) -> None:
        context = self.context(SetClock(Nanoseconds(T0 + hour * HOUR)))
        stores = JobStores(context, find_job(self.settings, "Office"), _Told())
        run_job(context, stores, Steps(control=Silent()))

    def open_dialog(self) -> ReplaceDialog:
        state = self.views.timeline_view.state
        self.until(state.other_disk.isVisible)
        self.press(state.other_disk)
        dialog = self.views.timeline_view.replacing
        assert dialog is not None
        self.until(lambda: bool(dialog.what.text()))
        return dialog


class GoingOnTest(_ReplacedDisk):
    def test_the_page_says_it_and_leads_on(self) -> None:
        dialog = self.open_dialog()
        self.assertIn("There is no store in", dialog.what.text())
        self.assertIn("3 snapshots that wait on this machine", dialog.then.text())
        self.assertFalse(dialog.go_on.isEnabled())
        QTest.keyClicks(dialog.passphrase, "quite another phrase")
        self.press(dialog.go_on)
        self.until(lambda: bool(dialog.trouble.text()))
        self.assertEqual(list(self.root.iterdir()), [], "nothing was made")
        dialog.passphrase.clear()
        QTest.keyClicks(dialog.passphrase, PASSPHRASE)
        self.press(dialog.go_on)
        self.until(lambda: self.window.page is self.window.recovery)
        key = self.window.recovery.key.text()
        self.press(self.window.recovery.go_on)
        self.until(
            lambda: self.window.overview.state is StoreState.READY and len(self.window.overview.tide) == 4
        )
        self.assertEqual(len(open_store(self.root, key).snapshot_ids()), 4)
        self.assertFalse(self.window.overview.stores[0].replaced)

    def test_the_card_of_the_store_leads_on_too_and_says_it_once(self) -> None:
        self.window.show_view(VIEWS[2])
        self.until(lambda: bool(self.views.stores.cards))
        card = self.views.stores.cards[0]
        self.until(card.go_on.isVisible)
        self.assertEqual(card.proven.text(), "")
        QTest.mouseClick(card.go_on, Qt.MouseButton.LeftButton)
        dialog = self.views.stores.replacing
        assert dialog is not None
        self.until(lambda: bool(dialog.what.text()))
        dialog.reject()

    def test_what_cannot_be_carried_is_shown_tried_again_and_let_go(self) -> None:
        (self.work / "large.bin").unlink()
        dialog = self.open_dialog()
        QTest.keyClicks(dialog.passphrase, PASSPHRASE)
        self.press(dialog.go_on)
        self.until(lambda: self.window.page is self.window.recovery)
        self.press(self.window.recovery.go_on)
        self.window.show_view(VIEWS[2])
        stores = self.views.stores
        self.until(lambda: bool(stores.cards) and stores.cards[0].view.left == 3)
        standing = self.window.overview.standing
        assert standing is not None
        self.until(lambda: "3 snapshots that wait" in str(self.window.overview.standing))
        self.window.notice.hide()
        self.press(stores.cards[0].again)
        self.until(lambda: "3 could not be carried" in self.window.notice.text)
        self.until(lambda: self.window.state.work is None)
        self.press(stores.cards[0].forget)
        assert stores.sure is not None
        self.press(stores.sure.act)
        self.until(lambda: stores.cards[0].view.left == 0)
        self.assertEqual(list(self.settings.rglob("*.before")), [])


class AnotherStoreIsThereTest(_ReplacedDisk):
    other = "a phrase of the other store"

    def prepare_disk(self) -> None:
        create_at(store_place(str(self.root)), self.other)

    def test_the_page_says_it_and_leads_on(self) -> None:
        dialog = self.open_dialog()
        self.assertIn("Another store lies in", dialog.what.text())
        QTest.keyClicks(dialog.passphrase, PASSPHRASE)
        QTest.keyClicks(dialog.of_other, self.other)
        self.press(dialog.go_on)
        self.until(lambda: self.window.overview.state is StoreState.READY)
        self.until(lambda: self.window.state.work is None)
        self.assertEqual(len(open_store(self.root, self.other).snapshot_ids()), 1)
        self.until(lambda: self.window.overview.stores[0].left == 3)
