"""The window's pieces for set-up and coverage, each on its own."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from good_tide.core.rules import parse_rule
from good_tide.desktop.coverage.rule_editor import RuleEditor
from good_tide.protocol.coverage_calls import RuleView
from tests.support.widgets import WidgetTest


class RuleEditorTest(WidgetTest):
    def setUp(self) -> None:
        super().setUp()
        self.editor = RuleEditor(self.look)
        self.changes: list[tuple[str, ...]] = []
        self.editor.changed.connect(self.changes.append)
        self.shown(self.editor, 480, 600)

    def choose(self, condition: str, value: str) -> None:
        self.editor.condition.setCurrentIndex(self.editor.condition.findData(condition))
        if self.editor.choice.count():
            self.editor.choice.setCurrentText(value)
        else:
            self.editor.value.setText(value)
        QTest.mouseClick(self.editor.add, Qt.MouseButton.LeftButton)

    def test_every_condition_can_be_built_and_is_read_as_meant(self) -> None:
        for condition, value in (
            ("path", "Old drafts/"),
            ("kind", "video"),
            ("marker", "trash"),
            ("larger", "2 GiB"),
            ("smaller", "1 KiB"),
            ("older", "2 years"),
            ("newer", "3 hours"),
        ):
            with self.subTest(condition):
                self.choose(condition, value)
                rule = parse_rule(self.editor.rules[0])
                self.assertFalse(rule.include)
                self.assertIsNotNone(getattr(rule, condition))
        self.assertEqual(self.editor.rules[-1], 'exclude path "Old drafts/"')
        self.assertEqual(len(self.changes), 7)
        self.editor.verb.setCurrentText("include")
        self.choose("path", "\\#odd name")
        self.assertEqual(parse_rule(self.editor.rules[0]).path, "\\#odd name")

    def test_a_kind_says_exactly_what_it_catches(self) -> None:
        self.editor.condition.setCurrentIndex(self.editor.condition.findData("kind"))
        self.editor.choice.setCurrentText("temporary")
        for words in (".tmp", "*~", ".cache"):
            self.assertIn(words, self.editor.help.text())

    def test_what_is_no_rule_is_said_and_changes_nothing(self) -> None:
        for condition, value, words in (
            ("larger", "big", "not a size"),
            ("older", "", "nothing comes after"),
            ("path", "!a", "include rule"),
        ):
            self.choose(condition, value)
            self.assertIn(words, self.editor.trouble.text())
            self.assertTrue(self.editor.trouble.isVisible())
        self.assertEqual((self.editor.rules, self.changes), ([], []))

    def test_order_by_keyboard_and_removal(self) -> None:
        self.editor.show_rules(["exclude path a", "exclude path b", "exclude path c"])
        self.editor.tree.setFocus()
        self.editor._move(1)
        self.assertEqual([rule[-1] for rule in self.editor.rules], ["b", "a", "c"])
        self.assertEqual(self.editor._row(), 1)
        self.editor._move(1)
        self.editor._move(1)
        self.assertEqual([rule[-1] for rule in self.editor.rules], ["b", "c", "a"])
        self.assertFalse(self.editor.down.isEnabled())
        self.editor._remove()
        self.assertEqual([rule[-1] for rule in self.editor.rules], ["b", "c"])
        self.assertEqual(self.changes[-1], ("exclude path b", "exclude path c"))

    def test_idle_and_hidden_rules_are_marked_and_answers_to_older_rules_are_passed_over(self) -> None:
        self.editor.show_rules(["exclude path a", "exclude path b"])
        views = (
            RuleView("exclude path a", 3, 4096, ((2048, b"/x/large.bin"),)),
            RuleView("exclude path b", 0, 0, (), "is hidden by rule 1, which decides first", 0),
        )
        self.editor.show_catches(views, True)
        first, second = (self.editor.tree.topLevelItem(number) for number in range(2))
        assert first is not None and second is not None
        self.assertEqual(
            ([first.text(2), first.text(3)], [second.text(2), second.text(3)]),
            (["3", "4.0 KiB"], ["0", "hidden by 1"]),
        )
        self.assertIn("large.bin 2.0 KiB", self.editor.facts.text())
        self.editor.show_rules(["exclude path c"])
        self.editor.show_catches(views, True)
        item = self.editor.tree.topLevelItem(0)
        assert item is not None
        self.assertEqual(item.text(2), "")
