"""Stores on servers against the same on a disk: ``python -m benchmarks.servers [MB [KIND…]]`` (300, and all
kinds, if not given). First snapshot, unchanged snapshot and restore, on loopback and over a line of 80 ms and
100 Mbit/s; each ratio from a run on the disk in the same minutes. Needs OpenSSH's and Samba's servers."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
from tests.support.servers import ServedFolder, free_port
from tests.support.slow_line import SlowLine
from tests.support.smb_server import SmbServer
from tests.support.ssh_server import SshServer
from tests.support.web_servers import DavServer, ObjectServer

_LINE_MS, _LINE_RATE = 80.0, 12.5e6


def build(top: Path, megabytes: int) -> int:
    """Half of it noise in large files, a third text, the rest small files; how many bytes."""
    rng = np.random.default_rng(3)
    words = [f"{number:x}" for number in rng.integers(1 << 40, size=5000)]
    top.mkdir()
    for number in range(megabytes // 40):
        (top / f"noise {number}").write_bytes(rng.bytes(20_000_000))
    for number in range(megabytes // 30):
        (top / f"text {number}").write_text(" ".join(rng.choice(words, 950_000)))
    for number in range(megabytes * 10):
        folder = top / f"folder {number // 100}"
        folder.mkdir(exist_ok=True)
        (folder / f"{number}.txt").write_text(" ".join(rng.choice(words, 700)))
    return sum(path.stat().st_size for path in top.rglob("*") if path.is_file())


def run(*words: str) -> float:
    """Seconds that a command takes."""
    began = time.perf_counter()
    command = [sys.executable, "-m", "good_tide", *words]
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stdin=subprocess.DEVNULL)
    return time.perf_counter() - began


def measure(store: str, source: Path, out: Path) -> tuple[float, float, float]:
    """Seconds of a first snapshot, an unchanged one, and a restore."""
    run("store", "create", store, "--unencrypted")
    taken = [run("snapshot", "--store", store, "--folder", str(source)) for _ in range(2)]
    restored = run("restore", store, "--all", "--snapshot", "latest", "--into", str(out))
    return taken[0], taken[1], restored


KINDS: dict[str, Callable[[Path], ServedFolder]] = {
    "sftp": SshServer,
    "smb": SmbServer,
    "dav": DavServer,
    "s3": ObjectServer,
}


def compare(kind: str, top: Path, size: int, local: tuple[float, float, float], settings: Path) -> None:
    """Print the figures of one kind of server."""
    server = KINDS[kind](top / kind)
    port = free_port()
    line = SlowLine(port, server.port, _LINE_MS, _LINE_RATE)
    try:
        server.let_in(settings)
        server.let_in(settings, port)
        near = server.address
        far = msgspec.structs.replace(near, port=port)
        for name, where in ((f"{kind}, loopback", near), (f"{kind}, 80 ms", far)):
            out = top / f"out {where.port}"
            found = measure(str(where.inside(f"store {where.port}")), top / "source", out)
            shutil.rmtree(out)
            ratios = "  ".join(f"{one / base:.1f}" for one, base in zip(found, local))
            print(f"{name:<17}" + "".join(f"{one:7.1f}   " for one in found) + f"  of the disk: {ratios}")
        full = [100 * size / _LINE_RATE / one for one in (found[0], found[2])]
        print(
            f"  the line of 80 ms: {full[0]:.0f} % filled by the first, {full[1]:.0f} % by the restore",
            flush=True,
        )
    finally:
        line.end()
        server.end()


def main() -> None:
    """Print figures and ratios."""
    megabytes = int(sys.argv[1]) if len(sys.argv) > 1 else 300
    kinds = sys.argv[2:] or list(KINDS)
    with tempfile.TemporaryDirectory(prefix="good-tide-bench-") as folder:
        top = Path(folder)
        settings = top / "settings"
        os.environ.update(GOOD_TIDE_SETTINGS=str(settings), XDG_STATE_HOME=f"{top}/state")
        os.environ.update(XDG_CACHE_HOME=f"{top}/cache")
        size = build(top / "source", megabytes)
        print(f"{size / 1e6:.0f} MB            first  unchanged  restore   (seconds)")
        for kind in kinds:
            disk = top / f"disk {kind}"
            local = measure(str(disk), top / "source", top / "out")
            shutil.rmtree(top / "out")
            shutil.rmtree(disk)
            print("disk             " + "".join(f"{one:7.1f}   " for one in local))
            compare(kind, top, size, local, settings)


if __name__ == "__main__":
    main()
