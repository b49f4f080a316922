"""What the program asks of a desktop session, on a private bus with stand-ins; and the panel's icon on a
virtual screen."""

from __future__ import annotations

import json
import shutil
import unittest
from typing import Any

from good_tide.core.identifiers import JobId, StoreId
from good_tide.core.standing import JobStanding
from good_tide.core.status import Action, Mood, State, Status
from good_tide.desktop.painting.signs import panel_icon
from good_tide.desktop.shell.application import make_application
from good_tide.desktop.shell.panel import PanelIcon, worst
from good_tide.protocol.contract import Call
from good_tide.protocol.schedule_calls import EjectableDisk, PanelView, PauseRhythm, TakeSnapshot
from good_tide.protocol.store_calls import EjectDisk
from tests.support.base import HOUR, OFFICE, T0, GoodTideTest
from tests.support.private_bus import on_a_private_bus

_TRAY = """
import json, sys
from pathlib import Path
from tests.support.stand_in_bus import StandInServices
import os
services = StandInServices(os.environ["DBUS_SESSION_BUS_ADDRESS"])
from PySide6.QtWidgets import QSystemTrayIcon
from good_tide.desktop.shell.application import make_application
from tools.window_driver import settle
from good_tide.desktop.shell.panel import PanelIcon
application, _ = make_application("light")
icon = PanelIcon(Path("/nonexistent/agent.sock"), Path("/nonexistent"))
icon.icon.show()
for _ in range(20):
    settle()
    if services.items:
        break
print(json.dumps([QSystemTrayIcon.isSystemTrayAvailable(), len(services.items), icon.icon.isVisible()]))
"""


class PanelTest(GoodTideTest):
    def standing(self, name: str, mood: Mood) -> JobStanding:
        return JobStanding(
            JobId(name), name, Status(State.CURRENT, f"{name} is {mood}.", mood=mood), T0, T0 + HOUR
        )

    def test_the_menu_says_and_offers_what_is_so(self) -> None:
        make_application("light")
        icon = PanelIcon(self.folder / "none.sock", self.folder)
        asked: list[Call[Any]] = []
        icon.link.ask = lambda call, *more: asked.append(call)  # type: ignore[method-assign]
        shown: list[str] = []
        icon._show = lambda place, job="": shown.append(place)  # type: ignore[method-assign, misc]
        two = (self.standing("Office", Mood.WELL), self.standing("Sound", Mood.APART))
        pier = EjectableDisk("Pier", OFFICE, StoreId("5a" * 16))
        icon._take(PanelView(two, T0, False, 0, (pier,)))
        words = [action.text() for action in icon.menu.actions() if action.text()]
        for wanted in (
            "Take snapshot of Office",
            "Take snapshot of Sound",
            "Pause for an hour",
            "Pause until tomorrow",
            "Look at the timeline",
            "Eject Pier",
        ):
            self.assertIn(wanted, words)
        self.assertTrue(
            any(one.strip().startswith("Last:") for one in words)
            and any(one.strip().startswith("Next:") for one in words)
        )
        for action in icon.menu.actions():
            if action.text() in (
                "Take snapshot of Sound",
                "Pause for an hour",
                "Look at the timeline",
                "Eject Pier",
            ):
                action.trigger()
        wanted_calls = [TakeSnapshot(JobId("Sound")), PauseRhythm(T0 + HOUR), EjectDisk(OFFICE, pier.store)]
        self.assertEqual((asked, shown), (wanted_calls, ["timeline"]))
        self.assertIn("Sound is apart.", icon.icon.toolTip())
        icon._take(PanelView(two[:1], T0, True, T0 + HOUR))
        words = [action.text() for action in icon.menu.actions() if action.text()]
        self.assertIn("Stop what is being done", words)
        self.assertTrue(any(one.startswith("Go on (paused until") for one in words))

    def test_a_job_whose_store_nobody_can_open_asks_for_its_passphrase(self) -> None:
        make_application("light")
        icon = PanelIcon(self.folder / "none.sock", self.folder)
        opened: list[JobId] = []
        icon._unlock = lambda job: opened.append(job)  # type: ignore[method-assign]
        locked = Status(State.LOCKED, "The store on Pier is locked.", action=Action.UNLOCK)
        icon._take(PanelView((JobStanding(JobId("Office"), "Office", locked),), T0, False, 0))
        for action in icon.menu.actions():
            if action.text() == "Give the passphrase of Office…":
                action.trigger()
        self.assertEqual(opened, ["Office"])

    def test_the_worst_of_several_jobs_is_shown_and_shapes_differ_without_colour(self) -> None:
        make_application("light")
        order = [Mood.HARM, Mood.ATTENTION, Mood.APART, Mood.PAUSED, Mood.WORKING, Mood.WELL]
        for number, mood in enumerate(order):
            status = worst(tuple(self.standing(f"job {one}", one) for one in reversed(order[number:])))
            assert status is not None
            self.assertIs(status.mood, mood)
        shapes = set()
        for mood in Mood:
            image = panel_icon(mood, 32).pixmap(32, 32).toImage()
            ground = image.pixelColor(16, 2)
            shapes.add(tuple(image.pixelColor(x, y) != ground for y in range(4, 28) for x in range(4, 28)))
        self.assertEqual(len(shapes), len(Mood))

    @unittest.skipUnless(shutil.which("Xvfb"), "Xvfb is not installed")
    def test_it_registers_with_the_panel_of_a_desktop(self) -> None:
        run = ["xvfb-run", "-a"] if shutil.which("xvfb-run") else []
        done = on_a_private_bus(
            _TRAY, *run, QT_QPA_PLATFORM="xcb", XDG_CURRENT_DESKTOP="KDE", HOME=str(self.folder)
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(json.loads(done.stdout.splitlines()[-1])[1:], [1, True], done.stdout + done.stderr)
