"""The sweep of a great store: ``python -m benchmarks.sweep [CHUNKS] [SNAPSHOTS]``. Prints its time as a
multiple of reading the metadata once."""

from __future__ import annotations

import resource
import secrets
import sys
import tempfile
import time
from pathlib import Path

from good_tide.core.entries import Entry, Extent, Kind, Stat
from good_tide.core.identifiers import ChunkId, ContentDigest, MachineId
from good_tide.core.pages import encode_page
from good_tide.core.progress import Silent
from good_tide.core.records import Machine, SnapshotRecord
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.header import create_store
from good_tide.storage.needs import all_snapshots, needed_keys
from good_tide.storage.store import Store, open_store
from good_tide.storage.sweep import Sweep, Watched
from good_tide.storage.writer import Ticket, WriteSession

_MACHINE = Machine(MachineId("aa" * 16), "bench")


def build(root: Path, chunks: int, snapshots: int) -> Store:
    """A store with so many chunks: each snapshot brings one folder, which stays for a quarter of history."""
    create_store(FolderPlace(root), None)
    store = open_store(FolderPlace(root), None)
    folders: list[tuple[int, ChunkId]] = []
    per_snapshot = max(1, chunks // snapshots)
    with WriteSession(store, "bench-") as session:
        for number in range(snapshots):
            entries = []
            for file in range(per_snapshot):
                content = secrets.token_bytes(48)
                ticket = Ticket()
                ticket.chunk = store.keys.chunk_id(content)
                session.put(content, ticket=ticket)
                entries.append(
                    Entry(
                        b"%06d" % file,
                        Kind.FILE,
                        Stat(size=48),
                        ContentDigest(content[:32]),
                        (Extent(ticket.chunk, 0, 48),),
                    )
                )
            page = session.put_page(encode_page(entries))
            folders = [*folders[-(snapshots // 4) + 1 :], (number, page)]
            inner = [
                Entry(b"%06d" % born, Kind.FOLDER, extents=(Extent(one, 0, 0),)) for born, one in folders
            ]
            top = session.put_page(encode_page(inner))
            roots = encode_page([Entry(b"/home", Kind.FOLDER, extents=(Extent(top, 0, 0),))])
            record = SnapshotRecord(time=number + 1, machine=_MACHINE, roots=roots)
            session.publish(lambda new, stored, record=record: record)  # type: ignore[misc]
    return open_store(FolderPlace(root), None)


def main() -> None:
    """Build, release half, sweep, and print ratios."""
    chunks, snapshots = (int(word) for word in (*sys.argv[1:], *("1000000", "1000")[len(sys.argv) - 1 :]))
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder) / "store"
        began = time.perf_counter()
        build(root, chunks, snapshots)
        print(f"built {chunks:,} chunks, {snapshots:,} snapshots in {time.perf_counter() - began:.0f} s")
        store = open_store(FolderPlace(root), None)
        began = time.perf_counter()
        needed_keys(store, all_snapshots(store), Silent())
        len(store.index)
        once = time.perf_counter() - began
        for name in [snapshot.id for snapshot in all_snapshots(store)][: snapshots // 2]:
            store.place.remove(f"{SNAPSHOT_FOLDER}/{name}")
        store = open_store(FolderPlace(root), None)
        began = time.perf_counter()
        report = Sweep(store, "bench-", Watched(), 1, Silent()).run()
        took = time.perf_counter() - began
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(
            f"metadata read once: {once:.2f} s; sweep: {took:.2f} s = {took / once:.1f} times; freed"
            f" {report.freed:,} B; peak memory {peak:.0f} MiB"
        )


if __name__ == "__main__":
    main()
