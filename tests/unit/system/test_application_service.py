"""The program as a service of the session's bus."""

from __future__ import annotations

import shutil
import unittest

from dbus_fast import Variant

from good_tide.system.application_service import Asked, asked_for
from tests.support.private_bus import on_a_private_bus

_OWNS = """
import threading
from good_tide.system.application_service import ApplicationService, BUS_NAME
from good_tide.system.bus import Bus, BusError
heard = []
print(ApplicationService(heard.append).begin(), ApplicationService(heard.append).begin())
bus = Bus("session")
path, name = "/org/goodtide/GoodTide", "org.freedesktop.Application"
print(bus.call(BUS_NAME, path, name, "Open", "asa{sv}", [["file:///home/ada/a%20%C3%A4"], {}]))
print(bus.call(BUS_NAME, path, name, "Activate", "a{sv}", [{}]))
try:
    bus.call(BUS_NAME, path, name, "Explode")
except BusError as error:
    print(error.name)
print(heard)
"""


class AskedTest(unittest.TestCase):
    def test_addresses_become_paths_byte_for_byte(self) -> None:
        uris = ["file:///home/ada/Ordner%20f%C3%BCr", "file://localhost/a%FFb/", "file:///x/../y"]
        paths = [one.path for one in asked_for("Open", "asa{sv}", [uris, {}]) or []]
        self.assertEqual(paths, ["/home/ada/Ordner für".encode(), b"/a\xffb", b"/y"])

    def test_what_is_no_file_of_this_machine_opens_only_the_window(self) -> None:
        for uri in ("sftp://harbour/a", "file://harbour/a", "file:relative", "file:///a%00b", ""):
            self.assertEqual(asked_for("Open", "asa{sv}", [[uri], {}]), [Asked()], uri)

    def test_the_token_comes_with_it_whatever_else_does(self) -> None:
        data = {"activation-token": Variant("s", "abc"), "other": Variant("i", 3)}
        self.assertEqual(asked_for("Activate", "a{sv}", [data]), [Asked(token="abc")])
        x11 = {"desktop-startup-id": Variant("s", "x"), "activation-token": Variant("i", 3)}
        self.assertEqual(
            asked_for("ActivateAction", "sava{sv}", ["snapshot", [], x11]),
            [Asked(action="snapshot", token="x")],
        )

    def test_other_calls_and_other_signatures_are_none(self) -> None:
        self.assertIsNone(asked_for("Open", "s", ["file:///a"]))
        self.assertIsNone(asked_for("Quit", "", []))


@unittest.skipUnless(shutil.which("dbus-run-session"), "needs dbus-run-session")
class ServiceTest(unittest.TestCase):
    def test_it_is_asked_by_its_name_and_only_one_has_it(self) -> None:
        done = on_a_private_bus(_OWNS)
        self.assertEqual(done.returncode, 0, done.stderr)
        said = done.stdout.splitlines()
        self.assertEqual(said[:4], ["True False", "[]", "[]", "org.freedesktop.DBus.Error.UnknownMethod"])
        self.assertIn("b'/home/ada/a \\xc3\\xa4'", said[4])
