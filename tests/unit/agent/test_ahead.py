"""An agent that a window began makes what that window asks for first while it is still being drawn."""

from __future__ import annotations

import threading
from unittest import mock

from good_tide.agent.history_handlers import HistoryHandlers
from good_tide.agent.service import Agent
from good_tide.core.clock import SetClock
from good_tide.core.history import known_parts
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.settings import StoreRef
from good_tide.operations.workplace import Workplace
from good_tide.protocol.agent_calls import Overview, ReadOverview
from tests.support.agents import serve
from tests.support.base import HOUR, MACHINE, OFFICE, SOUND, T0, GoodTideTest
from tests.support.stand_ins import quiet


class AheadTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "first")
        self.store = self.new_store(passphrase=None)
        self.snap(self.store)
        settings = self.folder / "settings"
        self.save_office(settings, (StoreRef(path=str(self.folder / "store")),))
        here = Workplace(self.cache, self.state, self.folder, settings, self.folder / "run", MACHINE)
        self.clock = SetClock(Nanoseconds(T0 + 5 * HOUR))
        self.history = serve(self, Agent(here, self.clock, environment=quiet(settings))).history
        self.begun, self.may_go, self.made = threading.Event(), threading.Event(), 0
        self.may_go.set()
        real = HistoryHandlers._made

        def made(handlers: HistoryHandlers, wanted: ReadOverview) -> Overview:
            self.made += 1
            if threading.current_thread().name == "ahead":
                self.begun.set()
                self.may_go.wait()
            return real(handlers, wanted)

        self.enterContext(mock.patch.object(HistoryHandlers, "_made", made))
        # A busy machine may take its time between making it and giving it.
        self.enterContext(mock.patch("good_tide.agent.history_handlers._AHEAD_SECONDS", 600.0))

    def done_ahead(self) -> None:
        """Make it, and wait until it is there."""
        self.history.begin_ahead()
        assert self.history._coming is not None
        self.history._coming.ahead.result()

    def test_who_asks_meanwhile_waits_for_it(self) -> None:
        self.may_go.clear()
        self.history.begin_ahead()
        found: list[Overview] = []
        asks = threading.Thread(target=lambda: found.append(self.history.overview(ReadOverview(OFFICE))))
        asks.start()
        asks.join(0.2)
        self.assertEqual((found, self.made), ([], 1))
        self.may_go.set()
        asks.join()
        self.assertEqual((len(found[0].tide), self.made), (1, 1))
        self.assertEqual(self.history.overview(ReadOverview(OFFICE)).tide, found[0].tide)
        self.assertEqual(self.made, 2, "it is for one who asks")

    def test_who_asks_for_another_job_does_not_wait_for_it(self) -> None:
        self.may_go.clear()
        self.history.begin_ahead()
        self.begun.wait()
        self.assertEqual(self.history.overview(ReadOverview(SOUND)).job, OFFICE)
        self.assertEqual(self.made, 2)
        self.may_go.set()

    def test_it_says_what_the_time_is_when_it_is_given(self) -> None:
        self.done_ahead()
        self.clock.set(Nanoseconds(T0 + 6 * HOUR))
        self.assertEqual(self.history.overview(ReadOverview(OFFICE)).now, T0 + 6 * HOUR)
        self.assertEqual(self.made, 1)

    def test_one_that_is_old_or_of_another_history_or_for_one_who_knows_some_is_not_given(self) -> None:
        self.done_ahead()
        with mock.patch("good_tide.agent.history_handlers._AHEAD_SECONDS", 0.0):
            first = self.history.overview(ReadOverview(OFFICE))
        self.assertEqual(self.made, 2)
        self.done_ahead()
        again = self.history.overview(ReadOverview(OFFICE, known_parts(first.tide.name)))
        self.assertEqual((again.kept, len(again.tide), self.made), (1, 0, 4))
        self.done_ahead()
        self.snap(self.store, 1)
        self.history._sessions.of(OFFICE).sync()
        self.assertEqual((len(self.history.overview(ReadOverview(OFFICE)).tide), self.made), (2, 6))

    def test_what_is_wrong_is_said_to_who_asks(self) -> None:
        with mock.patch.object(HistoryHandlers, "_made", side_effect=OSError("no room")):
            self.done_ahead()
        self.assertEqual(len(self.history.overview(ReadOverview(OFFICE)).tide), 1)
