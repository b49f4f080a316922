"""What is remembered between runs: passphrases in the key ring, notes, how a store is opened; and stores read
without the program."""

from __future__ import annotations

import os
import subprocess
import sys

from tests.support.base import GoodTideTest


class SecretServiceTest(GoodTideTest):
    """A real key ring on a bus of its own."""

    CODE = (
        "from good_tide.system.keyrings import DesktopKeyRing\nring = DesktopKeyRing()\ntry:\n   "
        " ring.remember('aa', 'harbour words'); print(ring.recall('aa')); ring.forget('aa');"
        " print(ring.recall('aa')); ring.forget('bb')\nexcept Exception as error:\n   "
        " print(type(error).__name__, error)\n"
    )

    def talk(self, script: str) -> str:
        run = self.folder / "run"
        environment = {**os.environ, "XDG_RUNTIME_DIR": str(run), "HOME": str(self.folder / "home")}
        environment.pop("DBUS_SESSION_BUS_ADDRESS", None)
        (self.folder / "home").mkdir(exist_ok=True)
        done = subprocess.run(
            ["sh", "-c", script], env=environment, capture_output=True, text=True, timeout=600, check=False
        )
        return done.stdout.strip()

    def test_a_real_key_ring_remembers_forgets_and_says_what_keeps_it_from_it(self) -> None:
        (self.folder / "talk.py").write_text(self.CODE)
        python = f"{sys.executable} {self.folder / 'talk.py'}"
        unlocked = "printf pw | gnome-keyring-daemon --unlock --components=secrets > /dev/null 2>&1"
        self.assertEqual(
            self.talk(f"dbus-run-session -- sh -c '{unlocked}; {python}'"), "harbour words\nNone"
        )
        self.assertIn("no key ring", self.talk(python))
        self.assertIn("PlaceError The key ring is locked", self.talk(f"dbus-run-session -- sh -c '{python}'"))
