"""Each file manager that can be had, driven on a screen of its own: what is chosen in its menu opens the
window at the path. And the session's bus, which starts the window when somebody asks for it."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
import time
import unittest
from pathlib import Path

from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.wishes import window_door
from good_tide.system import service
from good_tide.system.desktop_entry import install
from good_tide.system.file_managers import MANAGERS, FileManagers
from good_tide.system.jobs import own_settings_folder
from tests.support.base import GoodTideTest, program

_NEEDED = ("Xvfb", "xdotool", "openbox", "dbus-run-session")
_FOLDER = "Ordner für Gäste"
_SECONDS = 90.0

_UPS = {"Dolphin": (2, 3), "PCManFM-Qt": (4, 3)}
"""How often Up is pressed, from the end of the menu of a folder, to “Earlier versions” and “What is missing
here”; in the others three times and twice."""
_STARTED = {
    "Nautilus": ("--new-window",),
    "Nemo": ("--no-desktop",),
    "Caja": ("--no-desktop",),
}

_LOADS_SECONDS = {"Nautilus": 2.5}
"""So long some take to show a folder, while clicks in it disturb them."""

_ASKS = """
import sys, time
from good_tide.system.bus import Bus
bus = Bus("session")
where = "org.goodtide.GoodTide", "/org/goodtide/GoodTide", "org.freedesktop.Application"
if sys.argv[1] == "open":
    bus.call(*where, "Open", "asa{sv}", [[sys.argv[2]], {}], seconds=30)
else:
    bus.call(*where, "ActivateAction", "sava{sv}", [sys.argv[2], [], {}], seconds=30)
print(bus.call("org.freedesktop.DBus", "/org/freedesktop/DBus", "org.freedesktop.DBus",
    "GetConnectionUnixProcessID", "s", ["org.goodtide.GoodTide"])[0], flush=True)
sys.stdin.read()
"""


class ScreenTest(GoodTideTest):
    """A screen with a bus and a window manager, and a program that notes how it was called."""

    patience = 1.0
    """How much longer than at first something is waited for: each try that fails says that the machine is
    busy."""

    def setUp(self) -> None:
        super().setUp()
        Path(os.environ["HOME"]).mkdir()
        self.screen = self.begin_screen()
        self.environment = {
            **os.environ,
            "DISPLAY": self.screen,
            "PATH": "/usr/local/bin:/usr/bin:/bin",
            "XDG_CURRENT_DESKTOP": "X",
            "LC_ALL": "C.UTF-8",
            "GSK_RENDERER": "cairo",  # on a screen without a graphics card
        }
        for name in ("PYTHONHOME", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
            self.environment.pop(name, None)
        self.called = self.folder / "called"
        self.program = self.folder / "good-tide"
        self.program.write_text(
            f"#!/bin/sh\nprintf '%s\\n' \"$@\" > {self.called}.new\nmv {self.called}.new {self.called}\n"
        )
        self.program.chmod(0o755)

    def begin_screen(self) -> str:
        ends, begins = os.pipe()
        screen = subprocess.Popen(
            ["Xvfb", "-displayfd", str(begins), "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
            pass_fds=[begins],
            stderr=subprocess.DEVNULL,
        )
        self.addCleanup(screen.wait)
        self.addCleanup(screen.kill)
        os.close(begins)
        with open(ends) as said:
            return f":{said.readline().strip()}"

    def begin(self, *words: str | Path) -> subprocess.Popen[bytes]:
        """Begin something that is ended, with all that it began, when the test ends."""
        begun = subprocess.Popen(
            [*map(str, words)],
            env=self.environment,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )

        def end() -> None:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(begun.pid, 9)
            begun.wait()

        self.addCleanup(end)
        return begun

    def tool(self, *words: str) -> str:
        found = subprocess.run(
            ["xdotool", *words], env=self.environment, capture_output=True, text=True, check=False
        )
        return found.stdout.strip()

    def keys(self, *names: str) -> None:
        for name in names:
            self.tool("key", name)
            time.sleep(0.08 * self.patience)


@unittest.skipUnless(all(map(shutil.which, _NEEDED)), f"needs {', '.join(_NEEDED)}")
class MenusTest(ScreenTest):
    def drive(self, name: str) -> None:
        manager = next(one for one in MANAGERS if one.name == name)
        if not manager.there or not manager.loads:
            self.skipTest(f"{name} is not installed, or not what loads its extensions")
        shown = self.folder / "shown here"
        (shown / _FOLDER).mkdir(parents=True)
        FileManagers(self.folder / "shared.json").install(str(self.program), [str(shown)])
        words = " ".join([manager.program, *_STARTED.get(name, ()), f"'{shown}'"])
        self.begin("dbus-run-session", "--", "sh", "-c", f"openbox & {words}")
        ups = _UPS.get(name, (3, 2))
        self.assertEqual(self.chosen(name, ups[0], shown), ["window", "--", str(shown / _FOLDER)])
        missing = ["window", "--missing", "--", str(shown / _FOLDER)]
        self.assertEqual(self.chosen(name, ups[1], shown), missing)

    def chosen(self, name: str, ups: int, shown: Path) -> list[str]:
        """Choose something in the menu; how the program was called. While the folder in it is not shown yet,
        the menu is of the one that is shown: Escape ended its loading where the machine was busy, and it is
        loaded anew."""
        words, ends = [str(shown)], time.monotonic() + _SECONDS
        while words[-1] == str(shown) and time.monotonic() < ends:
            self.choose(name, ups)
            words = self.called.read_text().splitlines()
            self.called.unlink()
            time.sleep(0.5 * self.patience)
            if words[-1] == str(shown):
                self.wait_longer()
                self.keys("F5")
        return words

    def choose(self, name: str, ups: int) -> None:
        """Choose something in the menu of the one folder that is shown; again, while the manager is not
        ready."""
        ends = time.monotonic() + _SECONDS
        while not self.called.exists():
            if time.monotonic() > ends:
                self.fail(f"{name} did not call the program")
            window = self.tool("search", "--onlyvisible", "--name", "shown here").split()
            if not window:
                time.sleep(0.2)
                continue
            time.sleep(_LOADS_SECONDS.get(name, 0.7) * self.patience)
            self.tool("windowactivate", window[-1])
            if name == "Nautilus":  # takes keys only after a click, and Escape stops its loading
                self.tool("mousemove", "--window", window[-1], "337", "125", "click", "3")
            else:
                self.keys("Escape", "Escape", "ctrl+a", "Menu")
            time.sleep(0.6 * self.patience)
            self.keys(*["Up"] * ups, "Return")
            self.wait_called(1.5 * self.patience)
            if not self.called.exists():
                self.wait_longer()

    def wait_longer(self) -> None:
        self.patience = min(6.0, self.patience * 1.3)

    def wait_called(self, seconds: float) -> None:
        ends = time.monotonic() + seconds
        while not self.called.exists() and time.monotonic() < ends:
            time.sleep(0.05)

    def test_nautilus(self) -> None:
        self.drive("Nautilus")

    def test_nemo(self) -> None:
        self.drive("Nemo")

    def test_caja(self) -> None:
        self.drive("Caja")

    def test_dolphin(self) -> None:
        self.drive("Dolphin")

    def test_thunar(self) -> None:
        self.drive("Thunar")

    def test_pcmanfm_qt(self) -> None:
        self.drive("PCManFM-Qt")


@unittest.skipUnless(all(map(shutil.which, (*_NEEDED, "thunar"))), f"needs {', '.join(_NEEDED)}, thunar")
class DragTest(ScreenTest):
    """Two windows beside each other: our own, and a file manager's."""

    def test_a_row_is_dragged_into_a_folder_and_a_file_onto_the_timeline(self) -> None:
        self.write("letter.txt", "as it was")
        store, target = self.folder / "store", self.folder / "shown here"
        target.mkdir()
        made = program("job", "add", "Office", "--folder", self.work, "--store", store, "--unencrypted")
        self.assertEqual(made.returncode, 0, made.stderr)
        self.assertEqual(program("rhythm", "Office", "--by-hand").returncode, 0)
        self.assertEqual(program("snapshot", "Office").returncode, 0)
        self.write("letter.txt", "as it is now")
        own = " ".join(service.own_command("window", f"'{self.work}/letter.txt'"))
        manager = f"thunar '{target}'"
        self.begin("dbus-run-session", "--", "sh", "-c", f"openbox & {own} & {manager}")
        ours = self.window_called("Good Tide")
        theirs = self.window_called("shown here")
        ends = time.monotonic() + _SECONDS
        while not list(target.iterdir()):
            self.assertLess(time.monotonic(), ends, "nothing was dropped")
            self.tool("windowsize", ours, "900", "600", "windowmove", ours, "0", "0")
            self.tool("windowsize", theirs, "380", "400", "windowmove", theirs, "895", "200")
            self.tool("windowactivate", ours)
            time.sleep(0.7)
            self.drag((140, 352), (1160, 480))
        (copy,) = target.iterdir()
        self.assertEqual(copy.read_text(), "as it was")
        self.assertRegex(copy.name, r"^letter \(.*\)\.txt$")

    def window_called(self, name: str) -> str:
        ends = time.monotonic() + _SECONDS
        while not (found := self.tool("search", "--onlyvisible", "--name", name).split()):
            self.assertLess(time.monotonic(), ends, f"no window {name}")
            time.sleep(0.2)
        time.sleep(1)
        return found[-1]

    def drag(self, begin: tuple[int, int], end: tuple[int, int]) -> None:
        self.tool("mousemove", *map(str, begin), "mousedown", "1")
        for _ in range(6):
            self.tool("mousemove_relative", "--", "6", "4")
            time.sleep(0.05)
        time.sleep(0.8)
        for part in range(1, 9):
            at = [round(one + (other - one) * part / 8) for one, other in zip(begin, end, strict=True)]
            self.tool("mousemove", *map(str, at))
            time.sleep(0.1)
        for _ in range(4):  # whoever takes it asks for more of it each time
            self.tool("mousemove_relative", "4", "4")
            time.sleep(0.15)
        self.tool("mouseup", "1")
        time.sleep(1)


@unittest.skipUnless(shutil.which("dbus-run-session"), "needs dbus-run-session")
class ActivationTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        install(service.own_command()[0], {})
        self.door = window_door(agent_socket(self.folder / "run" / "good-tide", own_settings_folder()))

    def ask(self, how: str, what: str) -> tuple[subprocess.Popen[str], int]:
        """Ask by the bus; whoever asks, and the process that has the program's name then."""
        asking = subprocess.Popen(
            ["dbus-run-session", "--", sys.executable, "-c", _ASKS, how, what],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
        )
        assert asking.stdin is not None and asking.stdout is not None
        self.addCleanup(asking.wait)
        self.addCleanup(asking.stdin.close)
        self.addCleanup(asking.stdout.close)
        return asking, int(asking.stdout.readline())

    def test_the_bus_starts_the_window_and_it_shows_what_is_asked_for(self) -> None:
        _, process = self.ask("open", self.work.as_uri())
        command = Path(f"/proc/{process}/cmdline").read_bytes()
        self.addCleanup(os.kill, process, 15)
        self.assertIn(b"--activated", command)
        ends = time.monotonic() + _SECONDS
        while not self.door.exists() and time.monotonic() < ends:
            time.sleep(0.1)
        self.assertTrue(self.door.exists())

    def test_an_action_needs_no_window(self) -> None:
        self.write("plan.txt", "plan")
        store = self.folder / "store"
        made = program("job", "add", "Office", "--folder", self.work, "--store", store, "--unencrypted")
        self.assertEqual(made.returncode, 0, made.stderr)
        self.assertEqual(program("rhythm", "Office", "--by-hand").returncode, 0)
        before = set((store / "snapshots").glob("*"))
        _, process = self.ask("act", "snapshot")
        ends = time.monotonic() + _SECONDS
        while set((store / "snapshots").glob("*")) == before and time.monotonic() < ends:
            time.sleep(0.1)
        self.assertNotEqual(set((store / "snapshots").glob("*")), before)
        self.assertFalse(self.door.exists())
        os.kill(process, 15)
