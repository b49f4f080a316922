"""Run by ``test_languages`` in a process of its own, whose environment says language, size of type and theme:
every place of the window with words that are longer by a third."""

from __future__ import annotations

import os

from PySide6.QtCore import QSize
from PySide6.QtTest import QTest

from good_tide.desktop.shell.views import VIEWS
from tests.support.fit import SIZES, cut_texts, out_of_reach, untranslated
from tests.support.windows import WindowTest

_DATA = ("Office", "Pier", "desk", "plan.txt", "work", "store", "Good Tide", "exclude", "include", "marker")
"""Made-up names, and the words that rules are written in."""


class LongWindowTest(WindowTest):
    maxDiff = None

    def test_every_place(self) -> None:
        scale = float(os.environ.get("QT_SCALE_FACTOR", "1"))
        translated = "en@long" in os.environ.get("LANGUAGE", "")
        wrong = []
        for size in SIZES:
            self.window.resize(QSize(round(size.width() / scale), round(size.height() / scale)))
            for kind in VIEWS:
                self.window.show_view(kind)
                QTest.qWait(350)
                page = self.window.views[kind]
                found = out_of_reach(page) + cut_texts(self.window)
                if translated:
                    found += untranslated(self.window, _DATA)
                wrong += [f"{kind.icon} {size.toTuple()}: {one}" for one in found]
                folder = os.environ.get("GOOD_TIDE_TEST_PICTURES")
                if folder:
                    self.window.grab().save(f"{folder}/{kind.icon}-{size.width()}-{scale:g}.png")
        self.assertEqual(sorted(set(wrong)), [])
