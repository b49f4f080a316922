"""What fifty machines ask of one server in an hour: ``python -m benchmarks.fleet [KIND…]``. One machine's
runs are measured over loopback, unchanged ones and ones in which 30 files of 10 KB changed; the fifty are
spread as their rhythms spread them. Needs the servers of ``benchmarks.servers``."""

from __future__ import annotations

import contextlib
import os
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import msgspec
import numpy as np
from tests.support.servers import free_port

from benchmarks.servers import KINDS
from good_tide.core.clock import SECOND
from good_tide.core.rhythm import spread_share

_MACHINES = 50
_SPREAD_SECONDS = 240
"""What a job to a server is spread over, if nothing else is chosen."""


class CountingRelay:
    """Leads from a port to another, and counts the bytes of each direction."""

    def __init__(self, port: int, to: int) -> None:
        self.up = self.down = 0
        self._to = to
        self._listening = socket.create_server(("127.0.0.1", port))
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                near, _ = self._listening.accept()
                far = socket.create_connection(("127.0.0.1", self._to))
                for source, target, sent in ((near, far, True), (far, near, False)):
                    threading.Thread(target=self._carry, args=(source, target, sent), daemon=True).start()

    def _carry(self, source: socket.socket, target: socket.socket, sent: bool) -> None:
        with contextlib.suppress(OSError):
            while part := source.recv(1 << 16):
                target.sendall(part)
                if sent:
                    self.up += len(part)
                else:
                    self.down += len(part)
        with contextlib.suppress(OSError):
            target.shutdown(socket.SHUT_RDWR)

    def end(self) -> None:
        """Listen no more."""
        self._listening.close()


def run(counts: Path, *words: str) -> tuple[int, float]:
    """How many calls a command asks of servers, and how many seconds it takes."""
    began = time.perf_counter()
    command = [sys.executable, "-m", "benchmarks.counted", str(counts), *words]
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stdin=subprocess.DEVNULL)
    return int(counts.read_text()), time.perf_counter() - began


def at_once(seconds: float) -> int:
    """How many of the machines are at it at the same moment at most, when a run takes so long."""
    begins = np.array(
        [spread_share(f"machine {number}", "Office", _SPREAD_SECONDS) / SECOND for number in range(_MACHINES)]
    )
    return max(int(((begins <= moment) & (moment < begins + seconds)).sum()) for moment in begins)


def measure(kind: str, top: Path, settings: Path, source: Path) -> None:
    """Print the figures of one kind of server."""
    server = KINDS[kind](top / kind)
    relay = CountingRelay(port := free_port(), server.port)
    try:
        server.let_in(settings, port)
        store = str(msgspec.structs.replace(server.address, port=port).inside("store"))
        counts = top / "counts"
        run(counts, "store", "create", store, "--unencrypted")
        words = ("snapshot", "--store", store, "--folder", str(source))
        run(counts, *words)
        for name, changed in (("unchanged", 0), ("30 files of 10 KB", 30)):
            for number in range(changed):
                (source / "folder 1" / f"new {number}").write_bytes(os.urandom(10_000))
            relay.up = relay.down = 0
            calls, seconds = run(counts, *words)
            print(
                f"{kind:<5}{name:<19}{calls:4} calls {relay.up / 1000:7.0f} KB up {relay.down / 1000:7.0f}"
                f" KB down  {seconds:4.1f} s; fifty in an hour: {calls * _MACHINES:5} calls,"
                f" {relay.up * _MACHINES / 1e6:5.1f} MB up, {relay.down * _MACHINES / 1e6:5.1f} MB down,"
                f" {at_once(seconds)} at once at most",
                flush=True,
            )
    finally:
        relay.end()
        server.end()


def main() -> None:
    """Print figures."""
    with tempfile.TemporaryDirectory(prefix="good-tide-bench-") as folder:
        top = Path(folder)
        settings, source = top / "settings", top / "source"
        os.environ.update(GOOD_TIDE_SETTINGS=str(settings), XDG_STATE_HOME=f"{top}/state")
        os.environ.update(XDG_CACHE_HOME=f"{top}/cache")
        for number in range(2000):
            (source / f"folder {number // 50}").mkdir(parents=True, exist_ok=True)
            (source / f"folder {number // 50}" / f"{number}.txt").write_text(f"{number} " * 300)
        for kind in sys.argv[1:] or list(KINDS):
            measure(kind, top, settings, source)


if __name__ == "__main__":
    main()
