"""How large type is: as the person chose, or as the desktop says."""

from __future__ import annotations

import os
import subprocess
import sys
from typing import Any, cast
from unittest import mock

from good_tide.desktop.shell import type_size
from good_tide.system.bus import Bus, BusError
from good_tide.system.type_size import desktop_type
from tests.support.base import GoodTideTest


class _Portal:
    """A settings portal that answers, or does not."""

    def __init__(self, answer: object) -> None:
        self._answer = answer

    def call(self, *asked: Any) -> list[Any]:
        if isinstance(self._answer, Exception):
            raise self._answer
        return [mock.Mock(value=self._answer)]


class TypeSizeTest(GoodTideTest):
    def test_what_the_desktop_says_is_taken_on_wayland_and_left_to_qt_elsewhere(self) -> None:
        for answer, wayland, size in (
            (1.5, "wayland-0", 1.5),
            (1.5, "", 1.0),
            ("large", "wayland-0", 1.0),
            (BusError("There is no session bus"), "wayland-0", 1.0),
        ):
            with mock.patch.dict(os.environ, {"WAYLAND_DISPLAY": wayland, "QT_QPA_PLATFORM": ""}):
                self.assertEqual(desktop_type(cast(Bus, _Portal(answer))), size)

    def test_everything_is_enlarged_once(self) -> None:
        with mock.patch.dict(os.environ, {"QT_SCALE_FACTOR": "2"}):
            os.environ.pop("GOOD_TIDE_TYPE", None)
            type_size.enlarge(1.5)
            self.assertEqual(os.environ["QT_SCALE_FACTOR"], "3")
            type_size.enlarge(1.5)
            self.assertEqual(os.environ["QT_SCALE_FACTOR"], "3", "a process that it starts is as large")

    def test_a_choice_is_remembered_and_a_resolution_for_fonts_enlarges_all(self) -> None:
        self.assertEqual(type_size.chosen_type(), 0.0)
        type_size.choose_type(1.25)
        self.assertEqual(type_size.chosen_type(), 1.25)
        type_size.choose_type(0.0)
        self.assertEqual(type_size.chosen_type(), 0.0)
        code = (
            "from PySide6.QtWidgets import QApplication; made = QApplication([]);"
            " print(made.primaryScreen().devicePixelRatio())"
        )
        told = subprocess.run(
            [sys.executable, "-c", code],
            env={**os.environ, "QT_FONT_DPI": "144", "QT_QPA_PLATFORM": "offscreen"},
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertEqual(float(told.stdout), 1.5)
