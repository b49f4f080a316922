"""Reading a store back by itself: a portion at a time, what was read longest ago first, so that every stored
byte is read once in the time that is set."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import msgspec
import numpy as np

from good_tide.core.clock import SECOND
from good_tide.core.health import ReadingBack, StoreHealth
from good_tide.core.identifiers import StoreId, local_name
from good_tide.core.progress import Control, Progress
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.integrity.pack_check import check_pack
from good_tide.operations.records.kept_file import KeptFile
from good_tide.storage.copies_check import put_copies_right
from good_tide.storage.missing_packs import notice_missing
from good_tide.storage.needs import harmful
from good_tide.storage.packs import PackTable
from good_tide.storage.store import Store

_DAY = 86400 * SECOND
_MOST_DAYS_AT_ONCE = 3
"""After a longer pause no more is read at once than this; it takes longer until all is read."""
_FOLDER = "read-back"


class PacksRead(msgspec.Struct, omit_defaults=True):
    """Of each pack, by its name, when it was last read back; since when it is known here; and when it was put
    right. Seconds since 1970 UTC."""

    packs: dict[str, int] = {}
    seen: dict[str, int] = {}
    mended: dict[str, int] = {}


class Portion(msgspec.Struct):
    """What reading one portion back came to. ``whole``: all of the store has been read by now."""

    packs: int = 0
    bytes: int = 0
    damaged: int = 0
    mended: int = 0
    whole: bool = False
    new_harm: bool = False


def packs_read(records: Path, store: StoreId) -> KeptFile[PacksRead]:
    """When the packs of a store were last read back."""
    return KeptFile(records / _FOLDER / f"{local_name(store)}.json", PacksRead)


def portion_due(health: StoreHealth, days: int, now: int) -> bool:
    """Whether a portion is to be read: once a day, a little earlier if it so happens."""
    return days > 0 and not 0 <= now - health.reading.last < _DAY * 5 // 6


def read_portion(
    context: Context, store: Store, days: int, control: Control, everything: bool = False
) -> Portion:
    """Read back as much of a store as is due by now.

    :param days: within so many all is to be read. :param everything: read all of it at once.

    Raises:
        PlaceError: the disk cannot be read. StoppedError: it was stopped; what was read counts.
    """
    now, health = context.clock.now(), context.health.of(store.header.store)
    portion, kept = Portion(), packs_read(context.here.records, store.header.store)
    store.refresh()
    notice_missing(store)
    put_copies_right(store)
    tables = list(store.index.packs())
    known = kept.read().packs
    sizes = {table.pack.hex(): _size(table) for table in tables}
    total = sum(sizes.values())
    began = health.reading.began or now
    done = sum(size for name, size in sizes.items() if known.get(name, 0) * SECOND >= began)
    budget = total if everything else _budget(total, done, now - began, days)
    read_now: dict[str, int] = {}
    ended = False
    try:
        for table in sorted(tables, key=lambda one: known.get(one.pack.hex(), 0)):
            name = table.pack.hex()
            fresh = known.get(name, 0) * SECOND >= began
            if (portion.packs and portion.bytes >= budget) or (fresh and not everything):
                break
            control.checkpoint()
            control.report(
                Progress(tr("Reading back"), portion.packs, len(tables), portion.bytes, min(budget, total))
            )
            with store.read_back():
                found = check_pack(store, table, control)
            for number, error in found.damage:
                store.damage.note(error, number)
            portion.packs += 1
            portion.bytes += sizes[name]
            portion.damaged += bool(found.damage)
            read_now[name] = now // SECOND
        ended = True
    finally:
        with kept.changing() as record:
            right = {file.rpartition("/")[2]: now // SECOND for file in store.mending.files}
            record.packs = _present({**record.packs, **read_now}, sizes)
            record.seen = {**dict.fromkeys(sizes, now // SECOND), **_present(record.seen, sizes)}
            record.mended = _present({**record.mended, **right}, sizes)
            times = dict(record.packs)
        store.damage.keep()
        portion.mended = len(store.mending.files)
        done = sum(size for name, size in sizes.items() if times.get(name, 0) >= began // SECOND)
        portion.whole = all(times.get(name, 0) >= began // SECOND for name in sizes)
        last = now if ended or portion.whole else health.reading.last  # what was stopped is due again today
        portion.new_harm = _keep(context, store, portion, ReadingBack(began, done, total, last))
    return portion


def _budget(total: int, done: int, passed: int, days: int) -> int:
    """How many bytes are to be read today.

    :param done: bytes read since the round began, ``passed`` nanoseconds ago; it is to take so many ``days``.
    """
    daily = total // max(days, 1)
    due = daily * (max(passed, 0) // _DAY + 1) - done
    return max(0, min(due, _MOST_DAYS_AT_ONCE * daily))


def _present(times: Mapping[str, int], sizes: Mapping[str, int]) -> dict[str, int]:
    """Times of packs that are still there."""
    return {name: time for name, time in times.items() if name in sizes}


def _keep(context: Context, store: Store, portion: Portion, reading: ReadingBack) -> bool:
    """Keep with the store's health how far reading back has come; whether there is damage that nobody has
    judged."""
    harm = harmful(store)

    def read(known: StoreHealth) -> StoreHealth:
        whole, whole_bytes = known.reading.whole, known.reading.whole_bytes
        began = reading.began
        if portion.whole:
            began, whole, whole_bytes = 0, reading.last, reading.total
        made = msgspec.structs.replace(reading, began=began, whole=whole, whole_bytes=whole_bytes)
        mended = known.mended + portion.mended
        mended_at = reading.last if portion.mended else known.mended_at
        return msgspec.structs.replace(known, reading=made, mended=mended, mended_at=mended_at)

    known = context.health.change(store.header.store, read)
    store.mending.files.clear()
    return any(file not in known.judged and file not in known.damage for file in harm)


def _size(table: PackTable) -> int:
    """Bytes of a pack's file, or nearly."""
    return table.size or int(np.frombuffer(table.stored, dtype="<u4").sum(dtype=np.int64))
