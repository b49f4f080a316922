"""What belongs to people is not touched, and nobody is led astray: half-made stores, links of others, powers,
sockets, deep folders."""

from __future__ import annotations

import os
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Progress, Silent
from good_tide.core.restoring import Existing
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Wish, plan_restore
from tests.support.base import T0, GoodTideTest


class LinearTest(GoodTideTest):
    """Restoring takes as much for the last file as for the first."""

    def test_nothing_is_summed_anew_for_each_file(self) -> None:
        for number in range(300):
            self.write(f"letters/{number}.txt", f"letter {number}")
        store = self.new_store(passphrase=None)
        plan = plan_restore(
            store,
            [Wish(self.snap(store), os.fsencode(self.work))],
            self.folder / "into",
            Existing.SET_ASIDE,
            Silent(),
        )
        seen: list[Progress] = []
        control = mock.Mock()
        control.report = seen.append
        with mock.patch.object(type(plan.steps[0]), "payload", mock.PropertyMock(return_value=1)) as asked:
            report = carry_out(store, plan, SetClock(Nanoseconds(T0)), control)
        self.assertEqual(report.created, 302)
        self.assertLess(asked.call_count, 3 * len(plan.steps))
        self.assertGreaterEqual(len(seen), 300)
