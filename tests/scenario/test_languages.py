"""Every place of the window in a language whose words are longer by a third, with type of every size, light
and dark: nothing is out of reach, nothing is cut without dots, and nothing is said that was not given to
translation."""

from __future__ import annotations

import os
import subprocess
import sys
import unittest

from tests.support.base import REPOSITORY


class LanguagesTest(unittest.TestCase):
    """Language and size of type hold for a whole process: each is a window of its own."""

    def test_long_words_fit_at_every_size_of_type(self) -> None:
        everything, places = "", ".LongWindowTest.test_every_place"
        for language, size, theme, part in (
            ("en@long", "1", "light", everything),
            ("en@long", "1.25", "dark", places),
            ("en@long", "1.5", "light", places),
            ("en@long", "2", "dark", everything),
            ("en", "2", "light", everything),
        ):
            with self.subTest(language=language, size=size, theme=theme):
                looked = subprocess.run(
                    [sys.executable, "-m", "unittest", f"tests.support.long_window{part}"],
                    cwd=REPOSITORY,
                    env={
                        **os.environ,
                        "LANGUAGE": language,
                        "QT_SCALE_FACTOR": size,
                        "GOOD_TIDE_TEST_THEME": theme,
                        "QT_QPA_PLATFORM": "offscreen",
                    },
                    capture_output=True,
                    text=True,
                    check=False,
                )
                self.assertEqual(looked.returncode, 0, looked.stderr[-3000:])
