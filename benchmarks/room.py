"""What takes the room of a great store: ``python -m benchmarks.room [CHUNKS] [SNAPSHOTS]``. Prints seconds of
each answer."""

from __future__ import annotations

import resource
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import get_args

from benchmarks.sweep import build
from good_tide.core.parts import By
from good_tide.core.progress import Silent
from good_tide.operations.retention.room import taking
from good_tide.operations.retention.thinning import plan_release
from good_tide.operations.stores.opening import open_ledger
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.needs import all_snapshots, needed_keys
from good_tide.storage.store import open_store


def main() -> None:
    """Build, make the ledger, ask."""
    chunks, snapshots = (int(word) for word in (*sys.argv[1:], *("1000000", "5000")[len(sys.argv) - 1 :]))
    with tempfile.TemporaryDirectory() as folder:
        root, cache = Path(folder) / "store", Path(folder) / "cache"
        build(root, chunks, snapshots)
        store = open_store(FolderPlace(root), None)
        names = [snapshot.id for snapshot in all_snapshots(store)]

        def timed(title: str, ask: Callable[[], object]) -> float:
            began = time.perf_counter()
            ask()
            took = time.perf_counter() - began
            print(
                f"{title}: {took:.2f} s; peak memory"
                f" {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MiB",
                flush=True,
            )
            return took

        once = timed(
            "metadata read once",
            lambda: (needed_keys(store, all_snapshots(store), Silent()), len(store.index)),
        )
        first = timed("ledger made", lambda: open_ledger(store, cache, Silent()))
        print(f"that is {first / once:.1f} times reading the metadata once")
        for by in get_args(By):
            timed(f"by {by}", lambda by=by: taking(store, by, Silent(), cache))  # type: ignore[misc]
        timed("releasing every third", lambda: plan_release(store, names[:-1:3], Silent(), cache))


if __name__ == "__main__":
    main()
