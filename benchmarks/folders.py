"""Earlier versions as folders, against the folder on the disk, in turn in the same run: ``python -m
benchmarks.folders [FILES]``. What the system keeps of the mount is new in each round, the disk's is warm."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

_ROUNDS = 3


def make(root: Path, files: int) -> None:
    """Small files in folders of 100, and a mixed folder: 0.5 GB of large ones, 0.1 GB of others."""
    rng = np.random.default_rng(4)
    small, mixed = root / "small", root / "mixed"
    for number in range(files):
        here = small / f"part {number // 100}"
        here.mkdir(parents=True, exist_ok=True)
        (here / f"note {number % 100:02}.txt").write_bytes(rng.bytes(200).hex().encode())
    mixed.mkdir()
    for number in range(60):
        words = rng.bytes(4_000_000)
        (mixed / f"book {number}.bin").write_bytes(words + words[:500_000].hex().encode() * 4)
    for number in range(3000):
        here = mixed / f"letters {number // 50}"
        here.mkdir(exist_ok=True)
        (here / f"{number}.txt").write_bytes(rng.bytes(int(rng.integers(500, 90_000))))


def timed(*command: object) -> float:
    """Seconds of a command."""
    begin = time.perf_counter()
    subprocess.run([str(one) for one in command], check=False, stdout=subprocess.DEVNULL)
    return time.perf_counter() - begin


def good_tide(*words: object) -> None:
    """Run a command of ours."""
    command = [sys.executable, "-m", "good_tide", *map(str, words)]
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)


def main() -> None:
    """Measure and print."""
    files = int(sys.argv[1]) if len(sys.argv) > 1 else 30_000
    base = Path(tempfile.mkdtemp(prefix="good-tide-bench-"))
    (base / "run").mkdir(mode=0o700)
    os.environ |= {"HOME": str(base / "home"), "XDG_RUNTIME_DIR": str(base / "run")}
    past, store = base / "past", base / "store"
    try:
        make(base / "data", files)
        good_tide("store", "create", store, "--unencrypted")
        for _ in range(2):  # the second fills the catalog
            good_tide("snapshot", "--store", store, "--folder", base / "data")
        commands: dict[str, Callable[[Path], float]] = {
            f"ls -lR, {files:,} files in folders of 100": lambda top: timed("ls", "-lR", top / "small"),
            f"find, {files:,} files": lambda top: timed("find", top / "small", "-size", "+1M"),
            "grep -r, mixed, 0.6 GB": lambda top: timed("grep", "-r", "never to be found", top / "mixed"),
            "cp -a, the same": lambda top: copied(top / "mixed", base / "copy"),
        }
        for words, run in commands.items():
            ours: list[float] = []
            disk: list[float] = []
            for _ in range(_ROUNDS):
                good_tide("mount", store, past)
                ours.append(run(newest(past) / str(base)[1:] / "data"))
                good_tide("unmount", past)
                disk.append(run(base / "data"))
            a, b = statistics.median(ours), statistics.median(disk)
            print(f"{words:44} {a:7.2f} s   disk {b:6.2f} s   {a / b:5.1f} times", flush=True)
        good_tide("mount", store, past)
        begin = time.perf_counter()
        os.listdir(newest(past) / str(base)[1:] / "data" / "small" / "part 7")
        print(f"first look into a folder: {(time.perf_counter() - begin) * 1000:.0f} ms")
        good_tide("unmount", past)
    finally:
        subprocess.run(["fusermount3", "-u", "-z", past], check=False, stderr=subprocess.DEVNULL)
        shutil.rmtree(base, ignore_errors=True)


def newest(past: Path) -> Path:
    """The newest moment by its own name: programs that follow a link ask where it leads each time."""
    return past / "moments" / os.readlink(past / "moments" / "latest")


def copied(top: Path, target: Path) -> float:
    """Seconds of copying with all that belongs to it."""
    shutil.rmtree(target, ignore_errors=True)
    return timed("cp", "-a", top, target)


if __name__ == "__main__":
    main()
