"""What the program asks of a desktop session, on a private bus with stand-ins; and the panel's icon on a
virtual screen."""

from __future__ import annotations

import json

from tests.support.base import GoodTideTest
from tests.support.private_bus import on_a_private_bus


class BusTest(GoodTideTest):
    def test_surroundings_power_notices_and_ejecting(self) -> None:
        done = on_a_private_bus("from tests.support.stand_in_bus import main; main()")
        self.assertEqual(done.returncode, 0, done.stderr)
        found = json.loads(done.stdout)
        self.assertEqual(found["calm"], [None, False, False])
        self.assertEqual(found["hindered"], [17.0, True, True])
        self.assertEqual(found["presenting"], [None, False, True])
        self.assertEqual(
            (found["held"], found["let go"], found["never longer than stated"]),
            ([True, True], [False, False], False),
        )
        self.assertEqual((found["told"], found["acted"]), (True, True))
        self.assertIn("switched off", found["ejected"])
        self.assertIn("still used", found["busy"])
        self.assertIn("system's own disk", found["system disk"])
        self.assertEqual(
            found["asked"],
            [
                "Inhibit sleep:shutdown delay",
                "Inhibit sleep:shutdown delay",
                "Suspend login1",
                "PowerOff login1",
                "Notify Office: failing",
                "Unmount sdb1",
                "PowerOff Buoy",
                "OpenFile as it was True",
            ],
        )
        pier, attic = "smb://pier.local/", "davs://attic.local:8443/remote%20files"
        self.assertEqual(found["announced"], [[attic, pier]] * 2)
        self.assertEqual((found["browsers ended"], found["nothing announced"]), (6, []))
        self.assertIn("does not ask which program", found["without a portal"])
        self.assertEqual(found["without a bus"], [None, False, False, False, False])
        self.assertIn("could not suspend", found["without a bus, asked"])
        self.assertTrue(found["nobody"])
