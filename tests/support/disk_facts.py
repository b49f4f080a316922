"""Facts of a disk that is good for a store."""

from __future__ import annotations

from good_tide.core.places import DiskFacts, Wanted

GIB = 1 << 30


GOOD = DiskFacts(
    id="uuid:1",
    name="Pier",
    kind="external",
    file_system="ext4",
    path="/media/pier",
    total=100 * GIB,
    free=50 * GIB,
    writable=True,
    devices=frozenset(("sdb",)),
)


MINE = Wanted(bytes=10 * GIB, devices=frozenset(("sda",)))
