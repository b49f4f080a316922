"""What has just been done is told above every place: news go, trouble stays."""

from __future__ import annotations

import unittest
from unittest import mock

from tools.window_driver import wait_until

from good_tide.desktop.shell import strips
from good_tide.desktop.shell.application import make_application


class NoticeTest(unittest.TestCase):
    def test_plain_news_go_by_themselves_and_the_rest_stays(self) -> None:
        _, look = make_application("light")
        with mock.patch.object(strips, "NEWS_MS", 20):
            notice = strips.NoticeStrip(look)
        under = mock.patch.object(notice, "underMouse", return_value=True).start()
        self.addCleanup(mock.patch.stopall)
        notice.tell("Snapshot taken: 0 changed files")
        wait_until(lambda: under.call_count > 1)
        self.assertFalse(notice.isHidden(), "it is being read")
        under.return_value = False
        wait_until(notice.isHidden)
        notice.tell("Part of the store is damaged", trouble=True)
        self.assertFalse(notice._leave.isActive())
        notice.tell("Restored", place="/tmp")
        self.assertFalse(notice._leave.isActive())
        notice.tell("Put away", undo=("a",))
        self.assertFalse(notice._leave.isActive())
        notice.tell("Mended")
        self.assertTrue(notice._leave.isActive())
