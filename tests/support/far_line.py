"""A line with delay that loses packets, to a server on this machine, in a network of the test's own:
``python -m tests.support.far_line MILLISECONDS ONE_IN``.

Packets that are sent to ``FAR`` come into this process (a TUN device) and go back to ``127.0.0.1``, from
which they came, with the two addresses exchanged: who listens there is reached at ``FAR``, and its answers
find the way back. To exchange them leaves all checksums as they are. On standard input, each line is answered
with the number of connections that were begun so far.
"""

from __future__ import annotations

import fcntl
import os
import random
import select
import struct
import subprocess
import sys
import time
from collections import deque
from pathlib import Path

FAR = "10.99.0.2"
_SET_INTERFACE = 0x400454CA
"""``TUNSETIFF``, with ``IFF_TUN | IFF_NO_PI`` (linux/if_tun.h): packets of IP and nothing before them."""
_PLAIN_PACKETS = 0x1001
_LARGEST = 65536
_TCP, _SYN, _ACK = 6, 2, 16


class FarLine:
    """The process of a line, and the device that leads into it.

    :param milliseconds: that a question and its answer take longer.
    :param one_in: of so many packets one is lost.
    """

    def __init__(self, milliseconds: float, one_in: int) -> None:
        words = [sys.executable, "-m", "tests.support.far_line", str(milliseconds), str(one_in)]
        root = Path(__file__).resolve().parents[2]
        self._process = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, cwd=root)
        self._said()

    def connections(self) -> int:
        """How many were begun over it so far."""
        assert self._process.stdin is not None
        self._process.stdin.write(b"\n")
        self._process.stdin.flush()
        return self._said()

    def _said(self) -> int:
        assert self._process.stdout is not None
        return int(self._process.stdout.readline())

    def end(self) -> None:
        """Cut it; its device goes with it."""
        self._process.kill()
        self._process.communicate()


def _is_new_connection(packet: bytes) -> bool:
    if packet[0] >> 4 != 4 or packet[9] != _TCP:
        return False
    flags = packet[4 * (packet[0] & 15) + 13]
    return bool(flags & _SYN) and not flags & _ACK


def _carry(device: int, delay: float, one_in: int) -> None:
    """Give packets back as late as the line makes them."""
    chance, waiting = random.Random(1), deque[tuple[float, bytes]]()
    begun: set[bytes] = set()
    print(0, flush=True)
    while True:
        left = max(0.0, waiting[0][0] - time.monotonic()) if waiting else None
        ready, _, _ = select.select([device, 0], [], [], left)
        if device in ready:
            packet = os.read(device, _LARGEST)
            if _is_new_connection(packet):
                begun.add(packet[4 * (packet[0] & 15) :][:2])
            if chance.randrange(one_in):
                waiting.append((time.monotonic() + delay, packet))
        if 0 in ready:
            if not os.read(0, _LARGEST):
                return
            print(len(begun), flush=True)
        now = time.monotonic()
        while waiting and waiting[0][0] <= now:
            packet = waiting.popleft()[1]
            source, target = packet[12:16], packet[16:20]
            os.write(device, packet[:12] + target + source + packet[20:])


def main() -> None:
    """Make the device, and carry."""
    device = os.open("/dev/net/tun", os.O_RDWR)
    fcntl.ioctl(device, _SET_INTERFACE, struct.pack("16sH22x", b"far0", _PLAIN_PACKETS))
    settings = Path("/proc/sys/net/ipv4")
    (settings / "conf/far0/route_localnet").write_text("1")
    (settings / "tcp_congestion_control").write_text("reno")  # takes each loss for a line that is full
    subprocess.run(["ip", "link", "set", "far0", "up", "mtu", "1500"], check=True)
    subprocess.run(["ip", "route", "add", FAR, "dev", "far0", "src", "127.0.0.1"], check=True)
    _carry(device, float(sys.argv[1]) / 2000, int(sys.argv[2]))


if __name__ == "__main__":
    main()
