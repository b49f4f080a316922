"""Ours against the operating system's own tools, in turn in the same run; medians and ratios.

``BENCH=full`` measures the large sizes. Data are seeded and made anew in a temporary folder.
"""

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

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.coverage import Coverage
from good_tide.core.identifiers import MachineId, Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Machine
from good_tide.core.rules import parse_rule
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.coverage.survey import Survey, Weighing
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.opening import create_at, open_at, synced_catalog
from good_tide.operations.workplace import save_job
from good_tide.storage.chunker import Chunker
from good_tide.storage.folder_place import FolderPlace

FULL = os.environ.get("BENCH") == "full"
LARGE_MB = 3000 if FULL else 1000
SMALL_FILES = 300_000 if FULL else 30_000
SNAPSHOTS = 5000 if FULL else 500
ROUNDS = 3
PEAKS: list[float] = []
"""MiB of memory that each command of ours took at most."""
_MEASURED = (
    "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True, stdout=subprocess.DEVNULL);"
    " print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
)
MACHINE = Machine(MachineId("be" * 16), "bench")
SEAL = "openssl enc -aes-256-ctr -pass pass:x -pbkdf2"


def make_large(root: Path) -> None:
    """Files of 100 MB: half text, half noise, each tenth a copy of an earlier one."""
    rng = np.random.default_rng(5)
    words = [
        bytes(rng.integers(97, 123, size=int(length), dtype=np.uint8))
        for length in rng.integers(2, 10, size=5000)
    ]
    weights = 1 / np.arange(1, 5001)
    root.mkdir()
    for number in range(LARGE_MB // 100):
        target = root / f"file {number:02d}.bin"
        if number % 10 == 9:
            shutil.copy(root / f"file {number - 5:02d}.bin", target)
            continue
        half = 50_000_000
        picks = rng.choice(5000, size=half // 4, p=weights / weights.sum())
        target.write_bytes(b" ".join([words[pick] for pick in picks.tolist()])[:half] + rng.bytes(half))


def make_small(root: Path, each: int) -> None:
    """Files of about 250 bytes of text, so many in a folder."""
    rng = np.random.default_rng(3)
    words = [
        bytes(rng.integers(97, 123, size=int(length), dtype=np.uint8))
        for length in rng.integers(2, 10, size=5000)
    ]
    for folder in range(SMALL_FILES // each):
        here = root / f"part {folder % 50}" / f"folder {folder}"
        here.mkdir(parents=True)
        for number in range(each):
            picks = rng.integers(0, 5000, size=int(rng.integers(10, 70)))
            (here / f"note {number}.txt").write_bytes(b" ".join([words[pick] for pick in picks.tolist()]))


def shell(command: str) -> None:
    """Run a pipeline, failing loudly."""
    subprocess.run(["bash", "-c", f"set -o pipefail; {command}"], check=True)


def program(*words: str | Path) -> None:
    """Run the command line in a process of its own, started by a small one so that only its own memory is
    counted."""
    command = [sys.executable, "-c", _MEASURED, sys.executable, "-m", "good_tide", *map(str, words)]
    PEAKS.append(int(subprocess.run(command, check=True, capture_output=True).stdout) / 1024)


def timed(act: Callable[[], object]) -> float:
    """Seconds of one call."""
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def pair(
    ours: Callable[[], None],
    reference: Callable[[], None],
    before: Callable[[], None] = lambda: None,
    rounds: int = ROUNDS,
) -> tuple[float, float]:
    """Median seconds of ours and of the reference, taken in turn."""
    mine, theirs = [], []
    for _ in range(rounds):
        before()
        mine.append(timed(ours))
        theirs.append(timed(reference))
    return statistics.median(mine), statistics.median(theirs)


def show(work: str, ours: str, reference: str, ratio: float | None, reach: str) -> None:
    """One line of the table."""
    print(
        f"| {work} | {ours} | {reference} | {'' if ratio is None else f'{ratio:.2f}'} | {reach} |", flush=True
    )


def first_snapshot(base: Path, source: Path, work: str, reach: str) -> Path:
    """First encrypted snapshot against tar, zstd and openssl. Returns the store."""
    store, secret, archive = base / f"store {source.name}", base / "secret", base / f"{source.name}.archive"
    secret.write_text("bench passphrase")

    def fresh() -> None:
        shutil.rmtree(store, ignore_errors=True)
        program("store", "create", store, "--passphrase-file", secret)
        shell(f"tar c -C '{source}' . > /dev/null")

    ours, theirs = pair(
        lambda: program("snapshot", "--store", store, "--folder", source, "--passphrase-file", secret),
        lambda: shell(
            f"tar c -C '{source}' . | zstd -3 -T2 -q | {SEAL} -out '{archive}' && sync '{archive}'"
        ),
        fresh,
    )
    show(work, f"{ours:.1f} s", f"{theirs:.1f} s", ours / theirs, reach)
    mine = sum(path.stat().st_size for path in store.rglob("*") if path.is_file())
    show(
        f"{work}: size",
        f"{mine / 1e6:.1f} MB",
        f"{archive.stat().st_size / 1e6:.1f} MB",
        mine / archive.stat().st_size,
        reach,
    )
    return store


def restore_all(base: Path, source: Path, store: Path) -> None:
    """Full verified restore against openssl, zstd and tar."""
    out, other, archive = base / "out", base / "other", base / f"{source.name}.archive"

    def fresh() -> None:
        shutil.rmtree(out, ignore_errors=True)
        shutil.rmtree(other, ignore_errors=True)
        other.mkdir()

    ours, theirs = pair(
        lambda: program(
            "restore",
            "--store",
            store,
            "--snapshot",
            "latest",
            "--path",
            source,
            "--into",
            out,
            "--passphrase-file",
            base / "secret",
        ),
        lambda: shell(f"{SEAL} -d -in '{archive}' | zstd -d -q | tar x -C '{other}' && sync -f '{other}'"),
        fresh,
    )
    show("full restore, verified", f"{ours:.1f} s", f"{theirs:.1f} s", ours / theirs, "1.3")
    fresh()


def unchanged(source: Path, base: Path, store: Path) -> None:
    """A snapshot of unchanged small files against find. The first of these keeps what it saw."""
    ours, theirs = pair(
        lambda: program(
            "snapshot", "--store", store, "--folder", source, "--passphrase-file", base / "secret"
        ),
        lambda: shell(f"find '{source}' -printf '%s %T@ %i\\n' > /dev/null"),
    )
    show(
        "unchanged re-snapshot of those",
        f"{ours:.2f} s",
        f"{theirs:.2f} s",
        ours / theirs,
        "4",
    )


def survey(source: Path) -> None:
    """A survey of small files under fifty rules against find."""
    lines = [f"exclude path *.e{number}" for number in range(30)] + [
        f"exclude path name{number}" for number in range(8)
    ]
    lines += [f"exclude path ~/x/y{number}/" for number in range(4)]
    lines += [
        "exclude path **/build/*.o",
        "exclude path cache?.d",
        "exclude kind temporary",
        "exclude kind video larger 2 GiB",
    ]
    lines += [
        "exclude larger 10 GiB",
        "exclude older 9 years",
        "exclude marker cachedir",
        "exclude path /part/z*",
    ]
    coverage, now = (
        Coverage([parse_rule(line) for line in lines], str(Path.home()), time.time_ns()),
        time.time_ns(),
    )

    def look() -> None:
        seen = Survey([source])
        seen.look(float("inf"))
        Weighing(seen, coverage, now).weigh(float("inf"))

    ours, theirs = pair(look, lambda: shell(f"find '{source}' -printf '%s %T@ %i\\n' > /dev/null"))
    show(
        f"{SMALL_FILES:,} files surveyed under {len(lines)} rules",
        f"{ours:.2f} s",
        f"{theirs:.2f} s",
        ours / theirs,
        "6",
    )


def insertion(base: Path) -> None:
    """1 MB inserted at the front of a large file; and chunking alone."""
    size = 1_000_000_000 if FULL else 200_000_000
    folder = base / "one"
    folder.mkdir()
    content = np.random.default_rng(1).bytes(size)
    (folder / "large").write_bytes(content)
    create_at(FolderPlace(base / "one store"), None)
    store = open_at(FolderPlace(base / "one store"), None)
    for hour, data in enumerate((content, os.urandom(1_000_000) + content)):
        (folder / "large").write_bytes(data)
        clock = SetClock(Nanoseconds((1_790_000_000 + hour * 3600) * SECOND))
        taken = capture(store, CaptureRequest((folder,), MACHINE), clock, Silent(), base / "state")
    share = 100 * taken.record.tally.new_bytes / size
    show(f"1 MB inserted into {size / 1e6:.0f} MB", f"{share:.2f} % new", "", None, "1 % at 1 GB")
    array = np.frombuffer(content, dtype=np.uint8)
    chunker = Chunker(b"k" * 32)
    rate = (
        size
        / 1e6
        / statistics.median(timed(lambda: [*chunker.lengths(array, True)] and None) for _ in range(ROUNDS))
    )
    show("chunking, one core", f"{rate:.0f} MB/s", "", None, "at least 400")


def lifelines(base: Path) -> None:
    """Lifelines of a folder with 500 entries over many snapshots."""
    folder = base / "desk"
    folder.mkdir()
    for number in range(500):
        (folder / f"file {number:03d}.txt").write_text(f"{number}")
    create_at(FolderPlace(base / "long store"), None)
    store = open_at(FolderPlace(base / "long store"), None)
    for hour in range(SNAPSHOTS):
        for change in range(3):
            (folder / f"file {(hour * 7 + change * 131) % 500:03d}.txt").write_text(f"{hour}")
        clock = SetClock(Nanoseconds((1_700_000_000 + hour * 3600) * SECOND))
        capture(store, CaptureRequest((folder,), MACHINE), clock, Silent(), base / "state")
    catalog, _ = synced_catalog(store, base / "cache home" / "good-tide")
    desk = catalog.folder(MACHINE.id, os.fsencode(folder))
    assert desk is not None
    times = [timed(lambda: [*catalog.lifelines(desk)] and None) for _ in range(7)]
    show(
        f"lifelines, 500 entries over {SNAPSHOTS:,} snapshots",
        f"{statistics.median(times) * 1000:.0f} ms",
        "",
        None,
        "150 ms",
    )
    catalog.close()
    settings = base / "settings"
    save_job(
        settings,
        Job(
            name="Desk",
            folders=(str(folder),),
            stores=(StoreRef(path=str(base / "long store")),),
            machine=MACHINE,
        ),
    )
    environment = {
        **os.environ,
        "QT_QPA_PLATFORM": "offscreen",
        "XDG_RUNTIME_DIR": str(base),
        "XDG_CACHE_HOME": str(base / "cache home"),
    }
    code = Path(__file__).with_name("first_paint.py")
    paints = [
        float(
            subprocess.run(
                [sys.executable, str(code), str(settings), str(time.time())],
                env=environment,
                check=True,
                capture_output=True,
            ).stdout
        )
        for _ in range(ROUNDS + 1)
    ][1:]
    show(
        "window on that store, to the first full paint", f"{statistics.median(paints):.2f} s", "", None, "2 s"
    )


def main() -> None:
    """Print the table."""
    base = Path(tempfile.mkdtemp(prefix="good-tide-bench-"))
    for name in ("XDG_CACHE_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME", "XDG_CONFIG_HOME"):
        os.environ[name] = str(base / name.lower())
    try:
        print("| work | ours | reference | ratio | reach |\n|---|---|---|---|---|")
        make_large(base / "large")
        store = first_snapshot(base, base / "large", f"first snapshot, {LARGE_MB / 1000:.1f} GB mixed", "1.0")
        restore_all(base, base / "large", store)
        shutil.rmtree(store)
        shutil.rmtree(base / "large")
        for each in (5, 100):
            source = base / f"small files, {each} in a folder"
            make_small(source, each)
            work = f"first snapshot, {SMALL_FILES:,} small files, {each} in a folder"
            store = first_snapshot(base, source, work, "2.0; size 1.1")
            unchanged(source, base, store)
            restore_all(base, source, store)
            shutil.rmtree(store)
        survey(source)
        insertion(base)
        lifelines(base)
        show("peak memory of any command above", f"{max(PEAKS):.0f} MiB", "", None, "400 MB")
    finally:
        shutil.rmtree(base, ignore_errors=True)


if __name__ == "__main__":
    main()
