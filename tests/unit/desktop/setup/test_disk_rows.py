"""The window's pieces for set-up and coverage, each on its own."""

from __future__ import annotations

from itertools import pairwise

from PySide6.QtGui import QColor
from PySide6.QtWidgets import QWidget

from good_tide.core.identifiers import StoreId
from good_tide.core.places import Check, DiskFacts, Level
from good_tide.desktop.painting.palette import DARK, LIGHT
from good_tide.desktop.setup.disk_rows import DiskRow
from good_tide.desktop.setup.secrecy import SecrecyPanel
from good_tide.desktop.setup.verdicts import CheckList, LevelSign
from good_tide.desktop.stores.room_picture import RoomPicture
from good_tide.protocol.agent_calls import StoreView
from good_tide.protocol.setup_calls import DiskView
from tests.support.disk_facts import GIB
from tests.support.widgets import WidgetTest


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
