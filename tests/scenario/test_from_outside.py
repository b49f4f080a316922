"""The window that is led to a path from outside: earlier versions, what is missing, what is not covered."""

from __future__ import annotations

import os
import shutil

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from good_tide.core.job_facts import StoreState
from good_tide.core.planning import Occasion
from good_tide.desktop.shell.single import SingleInstance
from good_tide.protocol.coverage_calls import KeepCoverage
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.wishes import Wish, hand_over
from good_tide.storage.store import Store
from tests.support.base import HOUR, PASSPHRASE, T0
from tests.support.windows import WindowTest


class FromOutsideTest(WindowTest):
    def make_history(self, store: Store) -> None:
        for hour in range(6):
            self.write("plan.txt", str(hour))
            self.write("letters/bank.txt", f"dear bank {hour // 3}")
            if hour == 3:
                shutil.rmtree(self.work / "props")
            elif hour < 3:
                self.write("props/hat.txt", "a hat")
            self.snap(store, hour)

    def setUp(self) -> None:
        super().setUp()
        self.page = self.views.timeline
        self.until(lambda: not self.page.model.missing_views())

    def wish(self, path: str, before: int = 0, missing: bool = False) -> None:
        self.window.show_wish(Wish(path=os.fsencode(self.work / path), before=before, missing=missing))

    def test_a_file_with_its_versions_at_the_moment_that_is_named(self) -> None:
        self.wish("letters/bank.txt", T0 + 2 * HOUR)
        self.until(lambda: self.page.inspector._detail is not None)
        model = self.page.model
        self.assertEqual((model.root, model.moment), (os.fsencode(self.work / "letters"), 2))
        self.assertEqual(model.selected, os.fsencode(self.work / "letters/bank.txt"))
        self.wish("plan.txt")
        self.until(lambda: self.page.model.selected == os.fsencode(self.work / "plan.txt"))
        self.assertEqual(self.page.model.moment, 6)

    def test_a_folder_that_is_gone_is_entered(self) -> None:
        self.wish("props", T0 + HOUR + 1)
        self.until(lambda: self.page.model.root == os.fsencode(self.work / "props"))
        self.until(lambda: [row.title for row in self.page.model.rows()] == ["hat.txt"])

    def test_a_link_to_a_folder_is_a_thing_of_its_own(self) -> None:
        (self.work / "way").symlink_to("letters")
        self.agent.runs.start(self.agent.sessions.own()[0], Occasion.HAND)
        self.until(lambda: len(self.page.model.tide) == 7)
        self.wish("way")
        self.until(lambda: self.page.model.selected == os.fsencode(self.work / "way"))
        self.assertEqual(self.page.model.root, os.fsencode(self.work))

    def test_what_is_missing_is_shown_as_it_was_last_and_escape_leads_back(self) -> None:
        (self.work / "letters/bank.txt").unlink()
        self.wish("", missing=True)
        self.until(lambda: self.page.model.found is not None)
        shown = [row.title for row in self.page.model.rows() if not row.caption]
        self.assertEqual(shown, ["bank.txt", "props"])
        self.assertIn("2 things missing", self.page._count.text())
        self.page.select(os.fsencode(self.work / "props"))
        self.assertEqual(self.page.model.moment, 3)
        self.until(lambda: "1 gone" in self.page.pane.folder.counts.text())
        QTest.keyClick(self.page.lines, Qt.Key.Key_Escape)
        self.assertIsNone(self.page.model.found)
        self.assertEqual(self.page.model.root, os.fsencode(self.work))

    def test_nothing_is_missing(self) -> None:
        self.wish("letters", missing=True)
        self.until(lambda: "Nothing is missing in letters" in self.page._count.text())

    def test_what_is_not_covered_is_covered_by_one_press(self) -> None:
        other = self.folder / "scores"
        other.mkdir()
        (other / "song.txt").write_text("la")
        self.wish(str(other / "song.txt"))
        self.until(lambda: "is not covered" in self.window.notice.text)
        self.assertIn(str(other), self.window.notice._detail.text())
        self.press(self.window.notice.act_button)
        self.until(lambda: str(other) in self.job().folders)
        self.until(lambda: "is covered from now on" in self.window.notice.text)

    def test_what_a_rule_leaves_out_is_taken_in_by_one_press(self) -> None:
        self.write("Drafts/a.txt", "draft")
        self.agent.keep_coverage(self.coverage("exclude path Drafts/"))
        self.wish("Drafts/a.txt")
        self.until(lambda: "is left out" in self.window.notice.text)
        self.press(self.window.notice.act_button)
        self.until(lambda: len(self.job().rules) == 2)
        self.assertEqual(self.job().rules, ("include path /Drafts/a.txt", "exclude path Drafts/"))

    def coverage(self, *rules: str) -> KeepCoverage:
        return KeepCoverage(self.job().id, self.job().folders, rules)

    def test_what_is_covered_and_in_no_snapshot_yet_and_what_never_was(self) -> None:
        self.write("letters/new.txt", "just now")
        self.wish("letters/new.txt")
        self.until(lambda: "No snapshot has" in self.window.notice.text)
        self.assertFalse(self.window.notice.act_button.isVisible())
        self.until(lambda: self.page.model.root == os.fsencode(self.work / "letters"))
        self.wish("letters/none/never.txt")
        self.until(lambda: "Nothing was ever called" in self.window.notice.text)

    def test_the_folder_above_all_shows_all(self) -> None:
        self.page.enter(os.fsencode(self.work / "letters"))
        self.wish("..")
        self.until(lambda: "Covered folders lie in" in self.window.notice.text)
        self.until(lambda: self.page.model.root == b"")

    def test_a_second_window_hands_its_wish_to_the_first(self) -> None:
        socket = agent_socket(self.folder / "run" / "good-tide", self.settings)
        self.assertFalse(hand_over(socket, Wish()))
        SingleInstance(socket, self.window.show_wish, self.window)
        odd = os.fsencode(self.work) + b"/letters/b\xff"
        self.assertTrue(hand_over(socket, Wish(path=odd, token="abc")))
        self.until(lambda: "Nothing was ever called" in self.window.notice.text)
        self.assertEqual(os.environ.pop("XDG_ACTIVATION_TOKEN"), "abc")


class LockedTest(WindowTest):
    passphrase = PASSPHRASE
    begins_as = StoreState.LOCKED

    def test_the_path_is_shown_when_the_store_is_open(self) -> None:
        self.window.show_wish(Wish(path=os.fsencode(self.work / "plan.txt")))
        page = self.views.timeline
        state = self.window.views[self.window.current].state  # type: ignore[attr-defined]
        self.until(lambda: self.window._offered is not None)
        state._passphrase.setText(PASSPHRASE)
        self.press(state.open)
        self.until(lambda: page.model.selected == os.fsencode(self.work / "plan.txt"))
