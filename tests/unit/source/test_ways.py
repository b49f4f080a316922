"""What belongs to people is not touched, and nobody is led astray: half-made stores, links of others, powers,
sockets, deep folders."""

from __future__ import annotations

import os
from unittest import mock

from good_tide.core.errors import PlaceError
from good_tide.core.progress import Silent
from good_tide.core.restoring import Action, Existing
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.source.ways import open_way
from tests.support.base import GoodTideTest


class WayTest(GoodTideTest):
    """Links on the way to a target: one's own and root's are followed, those of others are not."""

    def test_a_covered_folder_that_became_somebody_elses_link_is_not_followed(self) -> None:
        self.write("plan.txt", "then")
        store = self.new_store(passphrase=None)
        taken = self.snap(store)
        elsewhere = self.folder / "elsewhere"
        self.work.rename(elsewhere)
        self.work.symlink_to(elsewhere)
        (elsewhere / "plan.txt").write_text("now")
        with mock.patch(
            "os.geteuid", return_value=4242
        ):  # the link belongs to whoever runs the test, and so to somebody else
            plan = plan_restore(
                store, [Wish(taken, os.fsencode(self.work))], None, Existing.SET_ASIDE, Silent()
            )
        if os.getuid():
            self.assertEqual({step.action for step in plan.steps}, {Action.BLOCKED})
        else:  # root's own links are followed: give it to somebody else
            os.chown(self.work, 54321, 54321, follow_symlinks=False)
            plan = plan_restore(
                store, [Wish(taken, os.fsencode(self.work))], None, Existing.SET_ASIDE, Silent()
            )
            self.assertEqual([step.action for step in plan.steps], [Action.BLOCKED])
            with self.assertRaises(PlaceError):
                open_way(self.work)
        self.assertEqual((elsewhere / "plan.txt").read_text(), "now")

    def test_ones_own_links_are(self) -> None:
        (self.folder / "real").mkdir()
        (self.folder / "link").symlink_to("real")
        (self.folder / "loop").symlink_to("loop")
        handle, made = open_way(self.folder / "link" / ".." / "link" / "new", make=True)
        os.close(handle)
        self.assertTrue(made and (self.folder / "real" / "new").is_dir())
        with self.assertRaises(OSError):
            open_way(self.folder / "loop")
        with self.assertRaises(FileNotFoundError):
            open_way(self.folder / "nothing")
