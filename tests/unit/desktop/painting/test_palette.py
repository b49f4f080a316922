"""The real window, offscreen, with a real agent process and the demo's history behind it."""

from __future__ import annotations

import unittest

from good_tide.desktop.painting.palette import DARK, LIGHT


class ContrastTest(unittest.TestCase):
    def test_text_stands_out_from_its_ground(self) -> None:
        def light(color: str) -> float:
            parts = [int(color[at : at + 2], 16) / 255 for at in (1, 3, 5)]
            red, green, blue = (
                part / 12.92 if part <= 0.03928 else ((part + 0.055) / 1.055) ** 2.4 for part in parts
            )
            return 0.2126 * red + 0.7152 * green + 0.0722 * blue

        for look in (LIGHT, DARK):
            pairs = [
                (look.ink, look.ground),
                (look.quiet_text, look.ground),
                (look.quiet_text, look.paper),
                (look.kelp, look.paper),
                (look.coral, look.paper),
                (look.coral, look.coral_soft),
                (look.sand, look.paper),
                (look.head_text, look.head),
                (look.head_quiet, look.head),
                (look.on_kelp, look.kelp),
                (look.kelp, look.kelp_soft),
                (look.quiet_text, look.rail),
            ]
            for text, ground in pairs:
                ratio = (max(light(text), light(ground)) + 0.05) / (min(light(text), light(ground)) + 0.05)
                with self.subTest(dark=look.dark, text=text, ground=ground):
                    self.assertGreaterEqual(ratio, 4.5)
