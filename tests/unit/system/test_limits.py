"""What belongs to people is not touched, and nobody is led astray: half-made stores, links of others, powers,
sockets, deep folders."""

from __future__ import annotations

import subprocess
import sys

from tests.support.base import GoodTideTest


class EndTest(GoodTideTest):
    """A signal to end ends a command, whatever holds it up."""

    def test_a_command_that_hangs_is_ended(self) -> None:
        code = (
            "import sys, threading; from good_tide.cli import output\n"
            "output._STOPPING_SECONDS = 0.3\n"
            "with output.steered(None, True):\n"
            "    print('hanging', flush=True); threading.Event().wait()\n"
        )
        child = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
        assert child.stdout is not None
        child.stdout.readline()
        child.terminate()
        self.assertEqual(child.wait(300), 5)
        child.stdout.close()

    def test_no_picture_of_the_memory_is_left(self) -> None:
        code = (
            "from good_tide.system.limits import set_process_limits; set_process_limits(); import resource;"
            " print(resource.getrlimit(resource.RLIMIT_CORE))"
        )
        ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(ended.stdout.strip(), "(0, 0)")
