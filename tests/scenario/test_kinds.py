"""Kinds of files in the window: what each catches here, further endings, kinds of one's own."""

from __future__ import annotations

from PySide6.QtTest import QTest

from good_tide.desktop.coverage.kinds_dialog import KindsDialog
from good_tide.desktop.shell.views import VIEWS
from good_tide.operations.workplace import load_jobs
from good_tide.storage.store import Store
from tests.support.windows import WindowTest, row_of


class KindsTest(WindowTest):
    def make_history(self, store: Store) -> None:
        self.write("overture.musx", "notes")
        self.write("plan.txt", "plan")
        self.write("take.wav", "sound")
        self.snap(store, 0)

    def open_kinds(self) -> KindsDialog:
        self.window.show_view(VIEWS[1])
        page = self.views.coverage
        self.until(lambda: page.survey is not None and page.survey.done)
        page.rules.condition.setCurrentIndex(1)
        self.press(page.rules.kinds)
        assert page.kinds is not None
        dialog = page.kinds
        self.until(lambda: dialog.tree.topLevelItemCount() >= 7)
        return dialog

    def rows(self, dialog: KindsDialog) -> dict[str, str]:
        found = {}
        for number in range(dialog.tree.topLevelItemCount()):
            row = dialog.tree.topLevelItem(number)
            assert row is not None
            found[row.text(0)] = row.text(1)
        return found

    def test_each_kind_says_what_it_catches_here_and_one_is_added_and_used(self) -> None:
        dialog = self.open_kinds()
        self.assertEqual((self.rows(dialog)["documents"], self.rows(dialog)["sound"]), ("1", "1"))
        QTest.keyClicks(dialog.name, "scores")
        QTest.keyClicks(dialog.endings, "*.musx, .mscz")
        self.press(dialog.add)
        self.assertIn("scores", self.rows(dialog))
        self.assertEqual(dialog.whole.text(), "Catches .mscz, .musx.")
        self.press(dialog.keep)
        self.until(lambda: load_jobs(self.settings)[0].kinds == {"scores": ("musx", "mscz")})
        rules = self.views.coverage.rules
        self.until(lambda: rules.choice.findText("scores") >= 0)
        rules.choice.setCurrentText("scores")
        self.press(rules.add)
        survey = self.views.coverage
        self.until(lambda: survey.survey is not None and survey.survey.done and survey.survey.out_files == 1)
        self.press(survey.keep)
        self.until(lambda: load_jobs(self.settings)[0].rules == ("exclude kind scores",))
        again = self.open_kinds()
        self.assertEqual(self.rows(again)["scores"], "1")
        again.tree.setCurrentItem(row_of(again.tree, again.tree.topLevelItemCount() - 1))
        self.press(again.remove)
        self.press(again.keep)
        self.until(lambda: "needs the kind" in again.trouble.text())

    def test_further_endings_and_what_is_none(self) -> None:
        dialog = self.open_kinds()
        QTest.keyClicks(dialog.more, "musx")
        self.assertIn(".musx", dialog.whole.text())
        self.press(dialog.add)
        self.assertIn("cannot name a kind", dialog.trouble.text())
        self.press(dialog.keep)
        self.until(lambda: load_jobs(self.settings)[0].kinds == {"documents": ("musx",)})
