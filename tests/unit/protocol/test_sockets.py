"""What belongs to people is not touched, and nobody is led astray: half-made stores, links of others, powers,
sockets, deep folders."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import threading
from unittest import mock

from good_tide.core.errors import PlaceError
from good_tide.core.progress import WorkKind
from good_tide.protocol.agent_calls import AgentFacts, Hello, WorkEnded
from good_tide.protocol.client import agent_client
from good_tide.protocol.contract import Listen, Topic
from good_tide.protocol.server import Server
from good_tide.protocol.wire import call_line
from tests.support.base import GoodTideTest


class SocketTest(GoodTideTest):
    """Passphrases go over the socket: only to and from one's own processes, in a folder of one's own."""

    def test_a_folder_that_others_can_enter_is_refused_by_both_ends(self) -> None:
        folder = self.folder / "open"
        folder.mkdir(mode=0o777)
        folder.chmod(0o777)
        linked = self.folder / "linked"
        (self.folder / "private").mkdir(mode=0o700)
        linked.symlink_to(self.folder / "private")
        for place in (folder, linked):
            with self.subTest(place.name):
                with self.assertRaisesRegex(PlaceError, "your own"):
                    Server(place / "a.sock", (), lambda count: None)
                with self.assertRaisesRegex(PlaceError, "your own"), agent_client(place / "a.sock"):
                    pass

    def test_who_does_not_read_holds_nobody_up(self) -> None:
        path = self.folder / "own" / "a.sock"
        server = Server(path, [Hello.by(lambda wanted: AgentFacts("the agent", 5, 1))], lambda count: None)
        self.addCleanup(server.close)
        threading.Thread(target=server.serve, daemon=True).start()
        with socket.socket(socket.AF_UNIX) as stopped:
            stopped.connect(str(path))
            stopped.settimeout(600)
            stopped.sendall(call_line(Listen(frozenset(Topic)), 1))
            self.assertIn(b"null", stopped.recv(200))

            def tell() -> None:
                for _ in range(400):
                    server.tell(WorkEnded(WorkKind.CARRY, words="x" * 100_000))

            telling = threading.Thread(
                target=tell,
                daemon=True,
            )
            telling.start()
            telling.join(60)
            self.assertFalse(
                telling.is_alive(), "whoever tells something waits for a client that stands still"
            )
            with agent_client(path) as client:
                assert client is not None
                self.assertEqual(client.ask(Hello()).version, "the agent")
            while stopped.recv(1 << 20):
                pass  # what was sent until it was let go

    def test_somebody_elses_folder_is_refused_by_command_and_window(self) -> None:
        planted = self.folder / "tmp" / f"good-tide-{os.getuid()}"
        planted.mkdir(parents=True)
        planted.chmod(0o755)
        environment = {name: value for name, value in os.environ.items() if name != "XDG_RUNTIME_DIR"}
        environment.update(TMPDIR=str(self.folder / "tmp"), QT_QPA_PLATFORM="offscreen")
        for words in (("agent", "status"), ("window",)):
            ended = subprocess.run(
                [sys.executable, "-m", "good_tide", *words],
                env=environment,
                capture_output=True,
                text=True,
                timeout=600,
                check=False,
            )
            self.assertEqual(ended.returncode, 3, ended.stderr)
            self.assertIn("your own", ended.stderr)

    def test_a_peer_of_another_user_is_sent_nothing(self) -> None:
        private = self.folder / "private"
        private.mkdir(mode=0o700)
        with socket.socket(socket.AF_UNIX) as listening:
            listening.bind(str(private / "a.sock"))
            listening.listen()
            strange = mock.patch("good_tide.protocol.client.is_own_process", return_value=False)
            with (
                strange,
                self.assertRaisesRegex(PlaceError, "somebody else"),
                agent_client(private / "a.sock"),
            ):
                pass
            heard, _ = listening.accept()
            with heard:
                self.assertEqual(heard.recv(100), b"")
