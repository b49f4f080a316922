"""The developer's log says what the program did, never grows large, and tells nothing of people's files."""

from __future__ import annotations

import io
import os
import threading
from pathlib import Path
from unittest import mock

from good_tide.system import developer_log
from good_tide.system.developer_log import Private, end_log, logger, start_log
from tests.support.base import GoodTideTest, program


class DeveloperLogTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        for hook in ("sys.excepthook", "threading.excepthook"):
            patch = mock.patch(hook, lambda *given: None)
            patch.start()
            self.addCleanup(patch.stop)
        self.addCleanup(end_log)
        self.log = self.folder / "log"

    def go_wrong(self) -> None:
        """A thread in which something goes wrong with somebody's file."""

        def read() -> None:
            (self.work / "diary.txt").read_text()

        thread = threading.Thread(target=read)
        thread.start()
        thread.join()

    def test_names_and_what_errors_say_are_left_out_unless_asked_for(self) -> None:
        start_log(self.log, "agent", False)
        logger.info("looking at %s", Private(self.work / "diary.txt"))
        self.go_wrong()
        words = (self.log / "agent.log").read_text()
        self.assertNotIn("diary", words)
        self.assertIn("looking at …", words)
        self.assertRegex(words, r"test_developer_log.py:\d+ in read\n(.*\n)*FileNotFoundError 2")
        self.assertEqual((self.log / "agent.log").stat().st_mode & 0o777, 0o600)
        end_log()
        with mock.patch("sys.stderr", io.StringIO()) as said:
            start_log(self.log, "agent", True)
            logger.debug("looking at %s", Private(self.work / "diary.txt"))
            end_log()
        Private.shown = False
        self.assertIn("diary.txt", said.getvalue())

    def test_it_is_bounded_and_a_disk_that_does_not_take_it_stops_nothing(self) -> None:
        with mock.patch.object(developer_log, "_BYTES", 4000):
            start_log(self.log, "command", False)
            for number in range(2000):
                logger.info("line %d", number)
            end_log()
        self.assertEqual(len(list(self.log.iterdir())), 3)
        self.assertLess(sum(file.stat().st_size for file in self.log.iterdir()), 13_000)
        start_log(Path("/proc/none/log"), "command", False)
        logger.info("nowhere")

    def test_commands_leave_it_and_say_everything_when_asked(self) -> None:
        self.write("diary.txt", "secret")
        program("store", "create", self.folder / "store", "--unencrypted")
        program("snapshot", "--store", self.folder / "store", "--folder", self.work)
        missing = program("contents", "--store", self.folder / "store", "latest", self.work / "letter.txt")
        self.assertEqual(missing.returncode, 2)
        log = Path(os.environ["XDG_STATE_HOME"]) / "good-tide" / "log" / "command.log"
        words = log.read_text()
        for hidden in ("diary", "letter", str(self.folder)):
            self.assertNotIn(hidden, words)
        for wanted in ("good-tide 0.", "snapshot, Python", "PersonError: …", "ends with 2"):
            self.assertIn(wanted, words)
        told = program(
            "--verbose", "contents", "--store", self.folder / "store", "latest", self.work / "letter.txt"
        )
        self.assertIn("letter.txt", told.stderr.splitlines()[1])
