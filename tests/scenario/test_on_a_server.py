"""The whole story of a store on a server, in the real window: address, key, login, first snapshot, the server
stopped, what waits here, back again, restore, and a key that is another one."""

from __future__ import annotations

import os
from unittest import mock

from PySide6.QtWidgets import QWidget
from tools.window_driver import settle

from good_tide.core.identifiers import JobId
from good_tide.core.job_facts import StoreState
from good_tide.core.places import ServerNeed
from good_tide.core.settings import LineLimit
from good_tide.core.standing import JobStanding
from good_tide.desktop.rhythm.view import RHYTHM, RhythmPage
from good_tide.desktop.setup.server_dialog import ServerDialog
from good_tide.lines.client import end_lines, line_to
from good_tide.operations.stores.holding_area import held_count
from good_tide.operations.workplace import load_jobs
from good_tide.protocol.schedule_calls import ReadStandings, TakeSnapshot
from tests.support.base import program
from tests.support.servers import served
from tests.support.smb_server import SmbServer
from tests.support.ssh_server import server_for
from tests.support.web_servers import DavServer
from tests.support.windows import SetUpWindowTest

WORDS = "harbour lantern slow curtain"


class ServerWindowTest(SetUpWindowTest):
    """The window, and its dialog for servers."""

    def setUp(self) -> None:
        super().setUp()
        patch = mock.patch.dict(os.environ, {"GOOD_TIDE_SETTINGS": str(self.settings)})
        patch.start()
        self.addCleanup(patch.stop)

    def dialog(self) -> ServerDialog:
        """The dialog that is open."""
        found = self.window.findChildren(ServerDialog)
        self.assertEqual(len(found), 1)
        return found[0]

    def asked(self, dialog: ServerDialog) -> None:
        """Wait for the server's answer."""
        self.settle(lambda: dialog._view is not None)

    def picture(self, widget: QWidget, name: str) -> None:
        """A picture, where somebody wants to look."""
        folder = os.environ.get("GOOD_TIDE_TEST_PICTURES")
        if folder:
            settle(200)
            widget.grab().save(f"{folder}/{name}.png")


class WebServerTest(ServerWindowTest):
    def test_a_certificate_and_a_password_lead_to_the_folders(self) -> None:
        server = served(self, self.folder / "kept elsewhere", DavServer)
        server.files.joinpath("desk").mkdir()
        self.page.place.server.click()
        dialog = self.dialog()
        for kind in ("sftp", "smb", "davs", "s3"):
            self.assertIn(f"{kind}://", dialog._words.text())
        self.settle(lambda: dialog.field.findText("smb://pier.local/") >= 0)  # which announces itself
        dialog.field.setCurrentText(str(server.address))
        dialog.connect_it.click()
        self.asked(dialog)
        self.assertEqual(dialog.steps.currentIndex(), 1)
        self.assertIn("does not trust the certificate", dialog._key_words.text())
        self.assertEqual(dialog.shown_key.text().count("\n"), 2)
        self.picture(dialog, "web-certificate")
        dialog.right_key.click()
        self.settle(lambda: dialog.steps.currentIndex() == 2)
        dialog.secret.setText("wrong")
        self.picture(dialog, "web-password")
        dialog.give.click()
        self.settle(lambda: "does not let guest in" in dialog._secret_words.text())
        dialog.secret.setText(server.password)
        dialog.keep.setChecked(False)
        dialog.give.click()
        self.settle(lambda: dialog.steps.currentIndex() == 3)
        self.assertEqual([dialog.folders.item(0).text()], ["desk"])
        self.assertFalse(dialog.above.isEnabled())
        self.picture(dialog, "web-folders")
        dialog._go(str(server.address.inside("desk")))
        self.settle(lambda: dialog.above.isEnabled() and dialog.use.isEnabled())
        line_to(server.address).end()
        line_to(server.address.inside("desk")).end()


class ShareTest(ServerWindowTest):
    def test_the_shares_of_an_office_server_are_offered(self) -> None:
        server = served(self, self.settings, SmbServer)
        server.files.joinpath("desk").mkdir()
        self.page.place.server.click()
        dialog = self.dialog()
        dialog.field.setCurrentText(server.address.server)
        dialog.connect_it.click()
        self.asked(dialog)
        self.settle(lambda: dialog.steps.currentIndex() == 3)
        self.assertEqual([dialog.folders.item(0).text()], ["store"])
        self.assertFalse(dialog.above.isEnabled() or dialog.new.isEnabled() or dialog.use.isEnabled())
        self.picture(dialog, "shares")
        dialog.folders.itemActivated.emit(dialog.folders.item(0))
        self.settle(lambda: dialog.folders.count() == 1 and dialog.folders.item(0).text() == "desk")
        self.assertEqual(dialog.address, f"{server.address.server}/store")
        self.assertTrue(dialog.above.isEnabled() and dialog.new.isEnabled())
        dialog.above.click()
        self.settle(lambda: dialog.folders.count() == 1 and dialog.folders.item(0).text() == "store")
        end_lines()


class OnAServerTest(ServerWindowTest):
    def setUp(self) -> None:
        super().setUp()
        self.server = server_for(self, self.settings)
        (self.settings / "known_hosts").unlink()
        self.server.files.joinpath("others").mkdir()
        self.server.files.joinpath("others", "file").write_text("x")

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
        inside = str(self.server.address.inside("others"))  # which holds files only
        dialog._go(inside)
        self.settle(lambda: dialog.address == inside and dialog.steps.currentIndex() == 3)
        self.assertFalse(dialog.use.isEnabled())
        dialog.new.setText("desk")
        self.assertTrue(dialog.use.isEnabled())
        dialog.above.click()
        self.settle(lambda: dialog.address != f"{inside}/desk" and dialog.steps.currentIndex() == 3)
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
        self.until(lambda: self.there() == 1 and self.window.overview.state is StoreState.READY)
        self.work_ended(job.id)
        self.limit_the_line()

        budget = self.home / "Documents" / "budget.csv"
        budget.write_text("while the server was stopped")
        self.server.stop()
        with (
            mock.patch("good_tide.operations.places.whereabouts._ANSWER_HOLDS", 0.2),
            mock.patch("good_tide.agent.scheduler._LONGEST_SLEEP", 1.0),
        ):
            self.take(job.id)
            ref = load_jobs(self.settings)[0].stores[0]
            self.assertEqual((held_count(self.agent.context.here.holdings, ref), self.there()), (1, 1))
            self.until(lambda: "127.0.0.1 has not been usable" in self.standing(job.id).status.sentence)
            self.assertIn("does not answer", self.standing(job.id).status.detail)
            self.picture(self.window, "server-away")
            done = program("job", "change", job.name, "--set", "rhythm.settle_seconds=1")
            self.assertEqual(done.returncode, 0, done.stderr)
            self.server.start()
            # What waited is brought by itself, however many looks take it for away still.
            self.until(lambda: self.there() >= 3 and held_count(self.agent.context.here.holdings, ref) == 0)

        secret, out = self.folder / "secret", self.folder / "out"
        secret.write_text(WORDS)
        brought = ("--path", str(budget), "--snapshot", "latest", "--into", str(out))
        done = program("restore", wanted, *brought, "--passphrase-file", str(secret))
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual((out / "budget.csv").read_text(), "while the server was stopped")

        self.server.stop()
        self.server.new_host_key()
        self.server.start()
        page.place.ask_server()
        again = self.window.findChildren(ServerDialog)[-1]
        again._go(wanted)
        self.settle(lambda: again._view is not None and again._view.refused)
        self.assertIn("another key than before", again.checks.checks[0].what)
        self.assertFalse(again.use.isEnabled())
        again.reject()
        with mock.patch("good_tide.operations.places.whereabouts._ANSWER_HOLDS", 0.2):
            self.until(lambda: "another key than before" in self.standing(job.id).status.detail)
        done = program("place", "try", wanted)
        self.assertEqual((done.returncode, "another key than before" in done.stdout), (3, True), done.stdout)

    def limit_the_line(self) -> None:
        """Say in the view of the rhythm how much may go over the line."""
        self.window.resize(1280, 800)
        self.window.show_view(RHYTHM)
        page = self.window.page
        assert isinstance(page, RhythmPage)
        self.until(lambda: page.view is not None and page.over.isVisibleTo(page))
        page.over.sends.setChecked(True)
        page.over.up.setValue(80)
        page.over.hours.setText("mon-fri 8:00 to 18:00")
        page.over._tell()
        self.until(lambda: bool(page.when.trouble.text()))
        page.over.hours.setText("mon-fri 08:00-18:00")
        page.over._tell()
        self.until(page.keep.isEnabled)
        self.picture(self.window, "server-rhythm")
        page.keep.click()
        limit = LineLimit(up_bytes=10_000_000, hours=("mon-fri 08:00-18:00",))
        self.until(lambda: load_jobs(self.settings)[0].line == limit)
        self.assertEqual(page.over.limit(), limit)

    def there(self) -> int:
        """How many snapshots the server has."""
        return len(list((self.server.files / "desk" / "snapshots").glob("*")))

    def standing(self, job: JobId) -> JobStanding:
        """How the job stands."""
        found: list[list[JobStanding]] = []
        self.window.link.ask(ReadStandings(), found.append)
        self.until(lambda: bool(found))
        return next(one for one in found[0] if one.job == job)

    def work_ended(self, job: JobId) -> None:
        """Wait until nothing is being done."""
        self.until(lambda: self.agent._worker.current is None)

    def take(self, job: JobId) -> None:
        """Take a snapshot, to its end."""
        asked: list[object] = []
        self.window.link.ask(TakeSnapshot(job), asked.append, asked.append)
        self.until(lambda: bool(asked))
        self.assertEqual(asked, [None])
        self.work_ended(job)
