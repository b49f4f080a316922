"""The whole story of a store on a server, in the real window: address, key, login, first snapshot, the server
stopped, what waits here, back again, restore, and a key that is another one."""

from __future__ import annotations

import os
from unittest import mock

from PySide6.QtTest import QTest
from PySide6.QtWidgets import QWidget

from good_tide.core.places import ServerNeed
from good_tide.desktop.setup.server_dialog import ServerDialog
from good_tide.operations.workplace import load_jobs
from tests.support.ssh_server import server_for
from tests.support.windows import SetUpWindowTest

WORDS = "harbour lantern slow curtain"


class OnAServerTest(SetUpWindowTest):
    def setUp(self) -> None:
        super().setUp()
        patch = mock.patch.dict(os.environ, {"GOOD_TIDE_SETTINGS": str(self.settings)})
        patch.start()
        self.addCleanup(patch.stop)
        self.server = server_for(self, self.settings)
        (self.settings / "known_hosts").unlink()
        self.server.files.joinpath("others").mkdir()
        self.server.files.joinpath("others", "file").write_text("x")

    def dialog(self) -> ServerDialog:
        """The dialog that is open."""
        found = self.window.findChildren(ServerDialog)
        self.assertEqual(len(found), 1)
        return found[0]

    def asked(self, dialog: ServerDialog) -> None:
        """Wait for the server's answer."""
        self.settle(lambda: dialog._view is not None)

    def test_from_the_address_to_a_key_that_is_another(self) -> None:
        page = self.page
        page.place.server.click()
        dialog = self.dialog()
        self.picture(dialog, "server-address")
        dialog.field.setCurrentText(str(self.server.address))
        dialog.connect_it.click()
        self.asked(dialog)
        self.assertEqual(dialog.steps.currentIndex(), 1)
        self.assertIn("SHA256:", dialog.shown_key.text())
        self.assertFalse(dialog.use.isEnabled())
        self.picture(dialog, "server-key")
        dialog.right_key.click()
        self.settle(lambda: dialog.steps.currentIndex() == 3)
        self.assertEqual([dialog.folders.item(0).text()], ["others"])
        self.assertFalse(dialog.use.isEnabled())  # other things are in it
        dialog.new.setText("desk")
        self.assertTrue(dialog.use.isEnabled())
        self.picture(dialog, "server-folders")
        dialog.use.click()
        wanted = str(self.server.address.inside("desk"))
        self.settle(lambda: page.place.examined is not None and page.place.examined.folder == wanted)
        examined = page.place.examined
        assert examined is not None
        self.assertEqual((examined.need, examined.holds), (ServerNeed.NOTHING, None))
        page.secrecy.passphrase.setText(WORDS)
        page.secrecy.again.setText(WORDS)
        self.settle(lambda: page.begin.isEnabled())
        self.picture(self.window, "server-set-up")
        page.begin.click()
        self.assertFalse(any(row.radio.isChecked() for row in page.place.rows))
        self.until(lambda: bool(load_jobs(self.settings)))
        [job] = load_jobs(self.settings)
        self.assertEqual(([ref.path for ref in job.stores], job.stores[0].name), ([wanted], "127.0.0.1"))
        self.until(lambda: len(list((self.server.files / "desk" / "snapshots").glob("*"))) == 1)

    def picture(self, widget: QWidget, name: str) -> None:
        """A picture, where somebody wants to look."""
        folder = os.environ.get("GOOD_TIDE_TEST_PICTURES")
        if folder:
            QTest.qWait(200)
            widget.grab().save(f"{folder}/{name}.png")
