"""The window meets an agent that was started before the program was renewed."""

from __future__ import annotations

import os
import threading
from unittest import mock

import msgspec
from tools.window_driver import Views, settle, wait_until

from good_tide.agent.service import Agent
from good_tide.core.clock import SystemClock
from good_tide.core.job_facts import StoreState
from good_tide.desktop.shell.application import make_application
from good_tide.desktop.shell.window import MainWindow
from good_tide.operations.workplace import Workplace
from good_tide.protocol.agent_calls import AgentFacts, Hello
from good_tide.protocol.contract import PROTOCOL_VERSION, Call
from good_tide.protocol.server import Server
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.starting import restart_agent
from tests.support.agents import serve
from tests.support.base import MACHINE, GoodTideTest
from tests.support.stand_ins import quiet
from tests.support.windows import put_away, tell_faults


class _OldAnswer(msgspec.Struct):
    """What the overview was in another version."""

    tide: list[list[int]]


class ReadOverview(Call[_OldAnswer], frozen=True):
    """The call of that name, which is answered in another way."""

    job: str = ""


class OtherVersionTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        tell_faults(self)
        self.settings = self.folder / "settings"
        run = self.folder / "run" / "good-tide"
        self.here = Workplace(self.cache, self.state, self.folder, self.settings, run, MACHINE)
        self.socket = agent_socket(run, self.settings)
        _, look = make_application("light")
        self.window = MainWindow(look, self.socket, self.settings)
        self.addCleanup(put_away, self.window)
        self.window.show()

    def serve_old(self) -> Server:
        """An agent of yesterday: says hello, answers one call otherwise, and knows no other."""
        facts = AgentFacts("0.0.1", PROTOCOL_VERSION - 1, os.getpid())
        old = ReadOverview.by(lambda call: _OldAnswer([[1, 2]])), Hello.by(lambda call: facts)
        server = Server(self.socket, old, lambda count: None)
        thread = threading.Thread(target=server.serve)
        thread.start()
        self.addCleanup(thread.join)
        self.addCleanup(server.close)
        return server

    def test_it_is_said_and_the_agent_is_started_anew_at_a_click(self) -> None:
        server = self.serve_old()
        self.window.start()
        notice = self.window.notice
        wait_until(notice.isVisible)
        self.assertIn("another version", notice.text)
        settle(300)
        self.assertFalse(Views(self.window).state_page.look_again.isVisible(), "nothing is known yet")
        self.assertEqual(notice.act_button.text(), "Start the agent anew")

        def restart(settings: object) -> None:
            self.assertEqual(settings, self.settings)
            server.close()
            for client in list(server._clients):
                client.end()

        def start(settings: object) -> None:
            serve(self, Agent(self.here, SystemClock(), environment=quiet(self.settings)))

        with (
            mock.patch("good_tide.desktop.shell.other_version.restart_agent", restart),
            mock.patch("good_tide.desktop.link.start_agent", start),
        ):
            notice.act_button.click()
            wait_until(lambda: self.window.overview.state is StoreState.NO_JOB)
        wait_until(lambda: not notice.isVisible())
        self.assertEqual(self.window.overview.machine, MACHINE.name)

    def test_starting_it_anew_is_a_command_of_its_own(self) -> None:
        with mock.patch("subprocess.Popen") as begun:
            restart_agent(self.settings)
        command = begun.call_args.args[0]
        self.assertEqual(command[-4:], ["--settings", str(self.settings), "agent", "restart"])

    def test_what_makes_no_sense_is_of_another_version(self) -> None:
        for line in (b'{"id": 1, "result": []}', b"what?", b'{"method": "standings-changed", "params": 7}'):
            with self.subTest(line):
                told = mock.Mock()
                self.window.link.foreign.connect(told)
                self.window.link._waiting[1] = (Hello(), lambda facts: None, None)
                self.window.link._buffer = bytearray(line + b"\n")
                with mock.patch.object(self.window.link, "_socket") as socket:
                    socket.readAll.return_value.data.return_value = b"\n"
                    self.window.link._on_ready()
                told.assert_called()
                self.window.link.foreign.disconnect(told)
