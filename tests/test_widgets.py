"""The window's pieces for set-up and coverage, each on its own."""

from __future__ import annotations

import os
import unittest
from itertools import pairwise

os.environ["QT_QPA_PLATFORM"] = "offscreen"

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QWidget

from good_tide.core.coverage import Covered
from good_tide.core.identifiers import StoreId
from good_tide.core.places import Check, DiskFacts, Level
from good_tide.core.rules import parse_rule
from good_tide.desktop.coverage.area_picture import AreaPicture
from good_tide.desktop.coverage.rule_editor import RuleEditor
from good_tide.desktop.painting.palette import DARK, LIGHT
from good_tide.desktop.setup.disk_rows import DiskRow
from good_tide.desktop.setup.secrecy import SecrecyPanel
from good_tide.desktop.setup.verdicts import CheckList, LevelSign
from good_tide.desktop.shell.application import make_application
from good_tide.desktop.stores.room_picture import RoomPicture
from good_tide.protocol.agent_calls import StoreView
from good_tide.protocol.coverage_calls import FolderShare, RuleView
from good_tide.protocol.setup_calls import DiskView

GIB = 1 << 30


def share(path: str, size: int, out: int = 0) -> FolderShare:
    return FolderShare(
        path.encode(),
        1 if size else 0,
        size,
        1 if out else 0,
        out,
        0,
        Covered.IN if size else Covered.OUT,
        False,
    )


class WidgetTest(unittest.TestCase):
    def setUp(self) -> None:
        _, self.look = make_application("light")

    def shown(self, widget: QWidget, wide: int = 600, high: int = 300) -> QWidget:
        widget.resize(wide, high)
        widget.show()
        self.addCleanup(widget.close)
        widget.grab()
        return widget


class AreaTest(WidgetTest):
    def test_areas_are_as_large_as_their_shares_and_lie_within_each_other(self) -> None:
        picture = AreaPicture(self.look)
        picture.show_folders(
            [
                share("/a", 600),
                share("/b", 300),
                share("/c", 100),
                share("/b/inside", 150),
                share("/empty", 0),
            ]
        )
        self.shown(picture)
        boxes = {folder.path: box for box, folder in picture.boxes}
        self.assertEqual(set(boxes), {b"/a", b"/b", b"/c", b"/b/inside"})
        whole = sum(boxes[name].width() * boxes[name].height() for name in (b"/a", b"/b", b"/c"))
        for name, part in ((b"/a", 0.6), (b"/b", 0.3), (b"/c", 0.1)):
            self.assertAlmostEqual(boxes[name].width() * boxes[name].height() / whole, part, delta=0.04)
        self.assertTrue(boxes[b"/b"].contains(boxes[b"/b/inside"]))
        tops = [boxes[name] for name in (b"/a", b"/b", b"/c")]
        for one, other in [(one, other) for one in tops for other in tops if one is not other]:
            self.assertFalse(one.adjusted(1, 1, -1, -1).intersects(other.adjusted(1, 1, -1, -1)))

    def test_a_click_leads_to_the_innermost_folder_and_what_is_out_is_hatched(self) -> None:
        picture = AreaPicture(self.look)
        picture.show_folders([share("/a", 500), share("/b", 0, 500), share("/a/in", 400)])
        self.shown(picture)
        clicked: list[bytes] = []
        picture.chosen.connect(clicked.append)
        boxes = {folder.path: box for box, folder in picture.boxes}
        for path in (b"/a/in", b"/b"):
            QTest.mouseClick(picture, Qt.MouseButton.LeftButton, pos=boxes[path].center().toPoint())
        self.assertEqual(clicked, [b"/a/in", b"/b"])
        image = picture.grab().toImage()
        colors = {
            path: {
                image.pixelColor(int(box.center().x()) + step, int(box.center().y())).name()
                for step in range(20)
            }
            for path, box in boxes.items()
        }
        self.assertEqual(len(colors[b"/a/in"]), 1, "what is in is plain")
        self.assertGreater(len(colors[b"/b"]), 2, "what is out is hatched")
        self.assertIn("500 B out", picture.accessibleDescription())
        self.assertIsNone(picture.folder_at(QPointF(-5, -5)))

    def test_files_of_a_folder_itself_that_are_out_are_hatched_beside_its_folders(self) -> None:
        picture = AreaPicture(self.look)
        picture.show_folders([share("/a", 0, 900), share("/a/in", 0, 100)])
        self.shown(picture)
        image = picture.grab().toImage()
        box = next(box for box, folder in picture.boxes if folder.path == b"/a")
        beside = {
            image.pixelColor(int(box.right()) - 60 + step, int(box.center().y())).name() for step in range(20)
        }
        self.assertGreater(len(beside), 2)

    def test_many_and_strange_folders_are_painted(self) -> None:
        picture = AreaPicture(self.look)
        picture.show_folders(
            [
                FolderShare(
                    b"/x\xff\n" + bytes([65 + number % 26]) * number,
                    1,
                    1 << number,
                    0,
                    0,
                    0,
                    Covered.IN,
                    False,
                )
                for number in range(1, 60)
            ]
        )
        self.shown(picture)
        self.assertTrue(picture.boxes)
        picture.show_folders([])
        self.shown(picture)
        self.assertEqual(picture.boxes, [])


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


class PlacePiecesTest(WidgetTest):
    def test_levels_are_told_by_shape_and_words(self) -> None:
        images = []
        for level in Level:
            sign = LevelSign(self.look, level)
            self.shown(sign, 16, 18)
            images.append(
                sign.grab().toImage().convertToFormat(sign.grab().toImage().Format.Format_Grayscale8)
            )
        for one, other in pairwise(images):
            self.assertNotEqual(one, other)
        checks = CheckList(self.look)
        checks.show_checks(
            (
                Check(Level.BAD, "It is full", "Free some room"),
                Check(Level.GOOD, "It can be written", "nothing"),
            )
        )
        self.shown(checks)
        names = [
            widget.accessibleName() for widget in checks.findChildren(QWidget) if widget.accessibleName()
        ]
        self.assertEqual(names, ["bad: It is full", "good: It can be written"])
        self.assertIs(checks.level, Level.BAD)
        checks.show_checks(())
        self.assertIs(checks.level, Level.GOOD)

    def test_disk_rows_say_what_is_so(self) -> None:
        facts = DiskFacts(
            id="x",
            name="Pier",
            kind="external",
            file_system="ext4",
            path="/m",
            total=100 * GIB,
            free=25 * GIB,
        )
        for changed, words in (
            (facts, "25.0 GiB free of 100.0 GiB"),
            (
                DiskFacts(id="x", name="Net", kind="network", file_system="nfs4", path="/n", answers=False),
                "does not answer",
            ),
            (
                DiskFacts(
                    id="x", name="New", kind="external", file_system="", path="", total=GIB, mounted=False
                ),
                "1.0 GiB, not mounted",
            ),
        ):
            row = DiskRow(
                self.look, DiskView(changed, (Check(Level.BAD, "what", "way"),), "/m/s", True), 10 * GIB
            )
            self.shown(row)
            self.assertIn(words, row.facts.text())
            self.assertEqual(row.radio.isEnabled(), changed.mounted)
            self.assertIn("(proposed)", row.radio.text())

    def test_the_room_on_a_disk_adds_up(self) -> None:
        picture = RoomPicture(self.look)
        picture.show_store(
            StoreView(
                StoreId("one"),
                "/s",
                "Pier",
                True,
                True,
                stored=25 * GIB,
                disk_total=100 * GIB,
                disk_free=50 * GIB,
            )
        )
        self.shown(picture, 400, 58)
        image = picture.grab().toImage()
        kelp = QColor(self.look.kelp).name()
        row = [image.pixelColor(x, 13).name() for x in range(400)]
        self.assertAlmostEqual(row.count(kelp) / 400, 0.25, delta=0.02)
        self.assertEqual(set(row[210:398]), {QColor(self.look.kelp_soft).name()})

    def test_a_store_that_is_there_is_asked_for_its_passphrase_once(self) -> None:
        panel = SecrecyPanel(self.look, key_ring=False)
        self.shown(panel, 320, 400)
        self.assertFalse(panel.remember.isEnabled())
        self.assertIn("No key ring", panel.remember.text())
        panel.holds(True, "by the sea")
        self.assertFalse(panel.again.isVisible())
        self.assertIn("by the sea", panel.sentence.text())
        self.assertIn("passphrase of the store", panel.missing())
        panel.passphrase.setText("words")
        self.assertEqual((panel.missing(), panel.value()), ("", "words"))
        panel.holds(True, None)
        self.assertEqual((panel.missing(), panel.value()), ("", None))
        panel.holds(False, None)
        self.assertTrue(panel.again.isVisible())
        self.assertIn("again", panel.missing())

    def test_text_has_contrast_in_both_themes(self) -> None:
        def luminance(color: str) -> float:
            seen = QColor(color)
            parts = [
                float(part / 12.92 if part <= 0.03928 else ((part + 0.055) / 1.055) ** 2.4)
                for part in (seen.redF(), seen.greenF(), seen.blueF())
            ]
            return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]

        def contrast(one: str, other: str) -> float:
            lighter, darker = sorted((luminance(one), luminance(other)), reverse=True)
            return (lighter + 0.05) / (darker + 0.05)

        for look in (LIGHT, DARK):
            for text in (look.ink, look.quiet_text, look.coral, look.sand, look.kelp):
                for ground in (look.paper, look.ground):
                    self.assertGreaterEqual(contrast(text, ground), 4.5, (look.dark, text, ground))
            self.assertGreaterEqual(contrast(look.ink, look.sand_soft), 4.5)
            self.assertGreaterEqual(contrast(look.on_kelp, look.kelp), 4.5)
