"""Lines that lose packets."""

from __future__ import annotations

import socket
import unittest
from pathlib import Path

from good_tide.servers.lossy import expect_loss

_ALLOWED = Path("/proc/sys/net/ipv4/tcp_allowed_congestion_control")


class LossTest(unittest.TestCase):
    def test_a_connection_takes_the_way_that_stands_loss_where_there_is_one(self) -> None:
        with socket.socket() as made:
            before = made.getsockopt(socket.IPPROTO_TCP, socket.TCP_CONGESTION, 16)
            expect_loss(made)
            after = made.getsockopt(socket.IPPROTO_TCP, socket.TCP_CONGESTION, 16)
        allowed = "bbr" in _ALLOWED.read_text().split()
        self.assertIn(after.rstrip(b"\0"), (b"bbr",) if allowed else (b"bbr", before.rstrip(b"\0")))

    def test_what_knows_no_such_way_is_left_as_it_is(self) -> None:
        one, other = socket.socketpair()
        with one, other:
            expect_loss(one)
            one.sendall(b"x")
            self.assertEqual(other.recv(1), b"x")


if __name__ == "__main__":
    unittest.main()
