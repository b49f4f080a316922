"""What long histories cost: ``python -m benchmarks.growth [SNAPSHOTS]`` (10,000 if not given).

A store with a hundred snapshots and one with many more of the same 300 files, of which one changes each time:
processor time of what people and runs ask for, and the exponent by which it grows with the number of
snapshots (0: not at all, 1: in proportion). What reads all of history once is given for each snapshot.
"""

from __future__ import annotations

import math
import os
import resource
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import numpy as np

from good_tide.core.clock import SECOND, SystemClock
from good_tide.core.entries import Entry, Extent, Kind, Stat, page_extents
from good_tide.core.identifiers import ContentDigest, MachineId, PageId
from good_tide.core.pages import encode_page
from good_tide.core.progress import Silent
from good_tide.core.records import Machine, SnapshotRecord, Tally
from good_tide.operations.retention.thinning import sweep
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.opening import open_catalog
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.gathering import gather_index
from good_tide.storage.header import create_store
from good_tide.storage.store import Store, open_store
from good_tide.storage.summaries import known_snapshots, summarise
from good_tide.storage.writer import WriteSession

MACHINE = Machine(MachineId("be" * 16), "bench")
_T0, _HOUR = 1_700_000_000 * SECOND, 3600 * SECOND
_FOLDERS, _FILES, _OWNER = 30, 10, "bench-"
_PATH = b"/home/ada/office"


def build(root: Path, count: int) -> None:
    """A store with so many snapshots, as hourly runs leave it: packs, an index file and a snapshot each. The
    disk is not waited for."""
    create_store(FolderPlace(root), None)
    rng = np.random.default_rng(1)
    with (
        mock.patch("os.fsync", lambda handle: None),
        mock.patch.object(WriteSession, "_adopt", lambda session, files: None),
        mock.patch("good_tide.storage.writer.notice_missing", lambda store, files: None),
    ):
        store = open_store(FolderPlace(root), None)
        contents: dict[tuple[int, int], Entry] = {}
        pages: dict[int, PageId] = {}
        for number in range(count):
            time_taken = _T0 + number * _HOUR
            changed = range(_FOLDERS) if not number else [int(rng.integers(_FOLDERS))]
            with WriteSession(store, _OWNER) as session:
                for folder in changed:
                    for file in range(_FILES) if not number else [int(rng.integers(_FILES))]:
                        contents[folder, file] = _file(store, session, file, rng.bytes(300), time_taken)
                    entries = [contents[folder, file] for file in range(_FILES)]
                    pages[folder] = PageId(session.put_page(encode_page(entries, stamped=False)))
                inner = [_folder(b"folder %02d" % folder, pages[folder]) for folder in range(_FOLDERS)]
                top = PageId(session.put_page(encode_page(inner, stamped=False)))
                roots = encode_page([_folder(_PATH, top)], stamped=False)
                tally = Tally(_FOLDERS * _FILES, _FOLDERS + 1, 90_000, 1, 300)
                record = SnapshotRecord(time_taken, MACHINE, roots, tally)
                session.publish(lambda new, stored, record=record: record)  # type: ignore[misc]
            if number % 128 == 127:
                gather_index(store, _OWNER)
                known_snapshots(store)
                summarise(store, _OWNER)


def _file(store: Store, session: WriteSession, number: int, content: bytes, modified: int) -> Entry:
    ticket = session.put(content)
    session.settle()
    stat = Stat(0o644, 1000, 1000, len(content), modified, modified)
    digest = ContentDigest(store.keys.digest(content))
    return Entry(b"file %02d.txt" % number, Kind.FILE, stat, digest, (Extent(ticket.chunk, 0, len(content)),))


def _folder(name: bytes, page: PageId) -> Entry:
    return Entry(name, Kind.FOLDER, Stat(0o755, 1000, 1000, 4096, _T0), extents=page_extents((page,)))


def measure(root: Path, folder: Path) -> dict[str, float]:
    """Seconds of processor time, by what was asked.

    :param folder: where files, caches and records may lie.
    """
    work, found = folder / "work", {}
    for number in range(_FOLDERS * _FILES):
        file = work / f"{number // _FILES}" / f"{number % _FILES}.txt"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(f"made up {number}")

    def run(store: Store) -> None:
        request = CaptureRequest((work,), MACHINE)
        capture(store, request, SystemClock(), Silent(), folder / "state")

    run(open_store(FolderPlace(root), None))
    found["a run, the store opened for it"] = _spent(lambda: run(open_store(FolderPlace(root), None)))
    open_already = open_store(FolderPlace(root), None)
    run(open_already)
    found["a run, the store open already"] = _spent(lambda: run(open_already))
    found["its history, the store opened for it"] = _spent(
        lambda: known_snapshots(open_store(FolderPlace(root), None))
    )
    store = open_store(FolderPlace(root), None)
    catalog = open_catalog(store, folder / "cache")
    count = len(store.snapshot_ids())
    found["reading all of it into the catalog, for each snapshot"] = (
        _spent(lambda: catalog.sync(store), 1) / count
    )
    inside = catalog.folder(MACHINE.id, _PATH + b"/folder 03")
    assert inside is not None
    found["the versions of a file"] = _spent(lambda: catalog.spans(inside, b"file 03.txt"))
    found["whether there is anything new"] = _spent(lambda: catalog.sync(store))
    catalog.close()
    for _ in range(2):  # the second deletes what the first copied
        sweep(open_store(FolderPlace(root), None), folder / "state", SystemClock(), Silent())
    run(open_store(FolderPlace(root), None))
    found["a run after a sweep, the store opened for it"] = _spent(
        lambda: run(open_store(FolderPlace(root), None))
    )
    return found


def _spent(work: Callable[[], object], rounds: int = 7) -> float:
    times = []
    for _ in range(rounds):
        began = time.process_time()
        work()
        times.append(time.process_time() - began)
    return min(times)


def compare(few: int, many: int) -> list[tuple[str, float, float, float]]:
    """What each costs with few and with many snapshots, and its exponent."""
    found = []
    for count in (few, many):
        with tempfile.TemporaryDirectory() as name:
            build(Path(name) / "store", count)
            found.append(measure(Path(name) / "store", Path(name)))
    small, large = found
    times = math.log(many / few)
    return [
        (what, small[what], large[what], math.log(max(large[what], 1e-6) / max(small[what], 1e-6)) / times)
        for what in small
    ]


def main() -> None:
    """Build, measure and print."""
    many = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    print(f"processor time in ms, with 100 and with {many:,} snapshots, and the exponent of growth")
    for what, small, large, exponent in compare(100, many):
        print(f"{what:55} {small * 1000:9.2f} {large * 1000:9.2f} {exponent:6.2f}")
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    print(f"peak memory, the building included: {peak} MiB; {os.cpu_count()} cores")


if __name__ == "__main__":
    main()
