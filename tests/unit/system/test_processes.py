"""Which process it is: neither a number given anew nor a clock that was set is taken for another."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from good_tide.system.processes import began, this_process
from tests.support.base import GoodTideTest


class ProcessesTest(GoodTideTest):
    def stand_in(self, boot: str, stat: str) -> Path:
        """What the system says of process 7, in a folder of our own."""
        (self.folder / "7").mkdir(exist_ok=True)
        (self.folder / "7" / "stat").write_text(stat)
        kernel = self.folder / "sys" / "kernel" / "random"
        kernel.mkdir(parents=True, exist_ok=True)
        (kernel / "boot_id").write_text(boot + "\n")
        return self.folder

    def test_this_process_is_found_by_another(self) -> None:
        number, when = this_process()
        self.assertEqual(number, os.getpid())
        code = f"from good_tide.system.processes import began; print(began({number}) == {when!r})"
        said = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(said.stdout.strip(), "True")

    def test_a_name_may_hold_what_it_likes(self) -> None:
        words = " ".join(str(number) for number in range(4, 53))
        self.assertEqual(began(7, self.stand_in("one", f"7 (a) S b (c)) S {words}")), ("one", 22))

    def test_the_same_number_after_another_start_of_the_machine_is_another(self) -> None:
        stat = "7 (a) S " + " ".join(str(number) for number in range(4, 53))
        before = began(7, self.stand_in("one", stat))
        self.assertNotEqual(before, began(7, self.stand_in("two", stat)))

    def test_one_that_ended_does_not_run(self) -> None:
        ended = subprocess.Popen([sys.executable, "-c", ""], stdout=subprocess.PIPE)
        assert ended.stdout is not None
        with ended.stdout:
            ended.stdout.read()  # at its end; it may be waited for, and was not
        os.waitid(os.P_PID, ended.pid, os.WEXITED | os.WNOWAIT)
        self.assertIsNone(began(ended.pid), "a zombie")
        ended.wait()
        self.assertIsNone(began(ended.pid))
