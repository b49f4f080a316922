"""Files that are made to do harm cost whoever looks at them a moment, and nothing else."""

from __future__ import annotations

import threading
import time
import zlib

from good_tide.viewing.apart import Viewer
from good_tide.viewing.content import Content
from good_tide.viewing.requests import Answer, Compare, Failed, Show, Shown
from tests.support.base import GoodTideTest

TEXT = Content("letter.txt", 14, b"The fee\nis 120")


class HostileFilesTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.viewer = Viewer()
        self.addCleanup(self.viewer.close)

    def test_a_bomb_that_only_unpacks_comes_to_its_end(self) -> None:
        """Packed twice: 1 GiB of nothing in a tar archive of a few kilobytes."""
        inner = zlib.compressobj(9, wbits=31)
        data = b"".join(inner.compress(bytes(1 << 20)) for _ in range(1024)) + inner.flush()
        begun = time.monotonic()
        found = self.viewer.ask(Show(Content("bomb.tgz", len(data), data)))
        self.assertLess(time.monotonic() - begun, 12)
        self.assertIsInstance(found, (Shown, Failed))

    def test_a_hostile_comparison_is_cut_off_and_the_next_file_is_read(self) -> None:
        lines = [f"{number % 7}{'x' * (number % 3)}" for number in range(4000)]
        mine = Content("a.txt", 10, "\n".join(lines).encode())
        theirs = Content("b.txt", 10, "\n".join(reversed(lines)).encode())
        answers: list[Answer] = []
        slow = threading.Thread(target=lambda: answers.append(self.viewer.ask(Compare(mine, theirs))))
        slow.start()
        self.assertIsInstance(self.viewer.ask(Show(TEXT)), Shown, "another file is read meanwhile")
        slow.join(20)
        self.assertEqual(len(answers), 1)
        self.assertIsInstance(self.viewer.ask(Show(TEXT)), Shown)
