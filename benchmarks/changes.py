"""What changed is what it costs: ``python -m benchmarks.changes [CASE…] [--releases FOLDER…]``.

For files of the kinds that people change a little at a time: bytes that a snapshot takes in the store, beside
the bytes that truly changed. ``allowed`` is twice those and 64 KiB for each changed file (for what is only
appended to 1.3 times those, and 64 KiB). Every version is restored and compared with what it was.

``--releases``: folders whose sub-folders, in order of their names, are the releases of one thing; each is put
in the place of the one before, as unpacking does, and the whole is compared with one solid archive of all.
"""

from __future__ import annotations

import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import numpy as np

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.identifiers import MachineId, Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Machine, Snapshot
from good_tide.core.restoring import Existing
from good_tide.crypto.slots import Cost
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.opening import open_catalog, take_into_catalog
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.folders import PACK_FOLDER, SNAPSHOT_FOLDER
from good_tide.storage.header import create_store
from good_tide.storage.store import Store, open_store
from good_tide.storage.sweep import Sweep, Watched

MACHINE = Machine(MachineId("be" * 16), "bench")
T0, HOUR = 1_790_000_000, 3600
_CHEAP = Cost(memory_kib=64, passes=1, lanes=1)
A_FILE = 64 * 1024
"""Bytes that each changed file may cost besides."""


class Case(NamedTuple):
    """A kind of change. ``make`` makes the files; ``change`` changes them and says how many bytes of them
    truly changed, compressed as the file is; ``factor``: how many times the changed bytes may be stored. It
    changes all files."""

    name: str
    make: Callable[[Path, float], None]
    change: Callable[[Path, int], int]
    factor: float = 2.0


def prose(rng: np.random.Generator, size: int) -> bytes:
    """Text of made-up words, which shrinks to about a third."""
    words = [
        bytes(rng.integers(97, 123, size=int(length), dtype=np.uint8))
        for length in rng.integers(2, 10, size=3000)
    ]
    weights = 1 / np.arange(1, 3001)
    picks = rng.choice(3000, size=size // 3, p=weights / weights.sum())
    return b" ".join([words[pick] for pick in picks.tolist()])[:size]


def _database(folder: Path, scale: float) -> None:
    rng = np.random.default_rng(1)
    with sqlite3.connect(folder / "messages.db") as base:
        base.execute("create table message (id integer primary key, sender text, body text)")
        base.execute("create index by_sender on message (sender)")
        text = prose(rng, 4_000_000).decode()
        places = rng.integers(0, 3_990_000, size=int(100e6 * scale / 700)).tolist()
        rows = ((f"person {at % 977}", text[at : at + 600 + at % 80]) for at in places)
        base.executemany("insert into message (sender, body) values (?, ?)", rows)
    base.close()


def _rows(folder: Path, number: int) -> int:
    rng, file = np.random.default_rng(number), folder / "messages.db"
    before = np.fromfile(file, dtype=np.uint8)
    with sqlite3.connect(file) as base:
        count = base.execute("select count(*) from message").fetchone()[0]
        for row in rng.integers(1, count, size=60).tolist():
            base.execute(
                "update message set body = upper(substr(body, 1, 200)) || substr(body, 201) where id = ?",
                (row,),
            )
    base.close()
    after = np.fromfile(file, dtype=np.uint8)
    return int((before != after[: len(before)]).sum()) // 3 + max(0, len(after) - len(before)) // 3


def _machine(folder: Path, scale: float) -> None:
    rng = np.random.default_rng(2)
    with (folder / "machine.img").open("wb") as file:
        for part in range(int(2000 * scale / 8)):
            file.seek(part * 8_000_000)
            file.write(rng.bytes(2_000_000) + prose(rng, 2_000_000))
        file.truncate(int(2000 * scale / 8) * 8_000_000)


def _blocks(folder: Path, number: int) -> int:
    rng = np.random.default_rng(number)
    with (folder / "machine.img").open("r+b") as file:
        size = file.seek(0, os.SEEK_END)
        for block in rng.integers(0, size // 4096, size=100).tolist():
            file.seek(block * 4096)
            file.write(rng.bytes(4096))
    return 100 * 4096


def _mailbox(folder: Path, scale: float) -> None:
    rng = np.random.default_rng(3)
    text = prose(rng, 3_000_000)
    with (folder / "inbox.mbox").open("wb") as file:
        for at in rng.integers(0, 2_900_000, size=int(37e6 * scale / 8000)).tolist():
            file.write(b"From someone@playhouse.example\nSubject: %d\n\n" % at)
            file.write(text[at : at + 4000 + at % 8000] + rng.bytes(200).hex().encode() + b"\n\n")


def _delete_mails(folder: Path, number: int) -> int:
    rng, file = np.random.default_rng(number), folder / "inbox.mbox"
    mails = file.read_bytes().split(b"From someone@")
    for at in sorted(rng.integers(1, len(mails), size=3).tolist(), reverse=True):
        del mails[at]
    file.write_bytes(b"From someone@".join(mails))
    return 200


def _photos(folder: Path, scale: float) -> None:
    rng = np.random.default_rng(4)
    for number in range(max(1, int(30 * scale))):
        (folder / f"rehearsal {number:02d}.jpg").write_bytes(b"\xff\xd8" + bytes(300) + rng.bytes(6_000_000))


def _tag(folder: Path, number: int) -> int:
    rng = np.random.default_rng(number)
    for file in sorted(folder.iterdir()):
        content = file.read_bytes()
        file.write_bytes(content[:200] + rng.bytes(400 // 30) + content[200:])
    return 400


def _table(folder: Path, scale: float) -> None:
    rng = np.random.default_rng(5)
    lines = [
        b"%d;%d;%s" % (at, at * 37 % 9973, rng.bytes(12).hex().encode()) for at in range(int(140_000 * scale))
    ]
    (folder / "takings.csv").write_bytes(b"\n".join(lines))


def _lines(folder: Path, number: int) -> int:
    rng, file = np.random.default_rng(number), folder / "takings.csv"
    lines = file.read_bytes().split(b"\n")
    for at in rng.integers(0, len(lines), size=3).tolist():
        lines[at] = b"%d;%s;corrected" % (at, rng.bytes(8).hex().encode())
    file.write_bytes(b"\n".join(lines))
    return 120


def _presentation(folder: Path, scale: float) -> None:
    rng = np.random.default_rng(6)
    _zip(folder, {f"media/image{at}.png": rng.bytes(47_000) for at in range(int(420 * scale))})


def _zip(folder: Path, members: dict[str, bytes]) -> None:
    fresh = folder / ".season.odp.new"
    with zipfile.ZipFile(fresh, "w", zipfile.ZIP_STORED) as file:
        for name, content in members.items():
            file.writestr(zipfile.ZipInfo(name), content)
    fresh.rename(folder / "season.odp")


def _pictures(folder: Path, number: int) -> int:
    rng = np.random.default_rng(number)
    with zipfile.ZipFile(folder / "season.odp") as file:
        members = {name: file.read(name) for name in file.namelist()}
    for name in rng.choice(sorted(members), size=3, replace=False).tolist():
        members[name] = rng.bytes(47_000)
    _zip(folder, members)
    return 3 * 47_000


def _protocol(folder: Path, scale: float) -> None:
    (folder / "lights.log").write_bytes(prose(np.random.default_rng(7), int(30e6 * scale)))


def _append(folder: Path, number: int) -> int:
    more = prose(np.random.default_rng(number), 400_000)
    with (folder / "lights.log").open("ab") as file:
        file.write(more)
    return len(more) // 3


CASES = (
    Case("database", _database, _rows),
    Case("machine image", _machine, _blocks),
    Case("mailbox", _mailbox, _delete_mails),
    Case("photos", _photos, _tag),
    Case("table", _table, _lines),
    Case("presentation", _presentation, _pictures),
    Case("appended", _protocol, _append, factor=1.3),
)


class Bench:
    """A store, and what is taken into it."""

    def __init__(self, folder: Path) -> None:
        self.work, self.root, self.state = folder / "work", folder / "store", folder / "state"
        self.work.mkdir()
        create_store(FolderPlace(self.root), "bench", cost=_CHEAP)
        self.hour = 0

    def open(self) -> Store:
        return open_store(FolderPlace(self.root), "bench")

    def snap(self) -> Snapshot:
        """One more snapshot, an hour later."""
        self.hour += 1
        clock = SetClock(Nanoseconds((T0 + self.hour * HOUR) * SECOND))
        store, request = self.open(), CaptureRequest((self.work,), MACHINE)
        catalog = open_catalog(store, self.state / "cache")
        try:
            known = catalog.stored_small if catalog.names() else None
            taken = capture(store, request, clock, Silent(), self.state, known)
            take_into_catalog(store, catalog)
        finally:
            catalog.close()
        return taken

    def stored(self) -> int:
        """Bytes of all files of the store."""
        return sum(file.stat().st_size for file in self.root.rglob("*") if file.is_file())

    def packs(self) -> int:
        """Bytes of its packs."""
        return sum(file.stat().st_size for file in (self.root / PACK_FOLDER).rglob("*") if file.is_file())

    def restore(self, snapshot: Snapshot, into: Path) -> None:
        """Bring a whole snapshot into a folder."""
        store = self.open()
        plan = plan_restore(
            store, [Wish(snapshot, os.fsencode(self.work))], into, Existing.SET_ASIDE, Silent()
        )
        carry_out(store, plan, SetClock(Nanoseconds(T0 * SECOND)), Silent())


def measure(case: Case, scale: float, rounds: int) -> tuple[int, int]:
    """Bytes that snapshots of some changes took, and those that they may take.

    Raises:
        AssertionError: a version came back other than it was.
    """
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        bench = Bench(folder)
        case.make(bench.work, scale)
        began = time.process_time()
        bench.snap()
        first, taken = time.process_time() - began, []
        stored = allowed = 0
        began, spent = bench.stored(), 0.0
        for number in range(rounds):
            changed = case.change(bench.work, 100 + number)
            allowed += int(changed * case.factor) + A_FILE * len(os.listdir(bench.work))
            shutil.copytree(bench.work, folder / f"copy {number}")
            mark = time.process_time()
            taken.append(bench.snap())
            spent += time.process_time() - mark
        stored = bench.stored() - began
        for number, snapshot in enumerate(taken):
            bench.restore(snapshot, folder / f"back {number}")
            subprocess.run(
                ["diff", "-r", folder / f"copy {number}", folder / f"back {number}" / "work"], check=True
            )
        print(
            f"{case.name:14} stored {stored // rounds:>10,} B a snapshot, allowed {allowed // rounds:>10,}:"
            f" {stored / allowed:.2f} of it; first {first:.2f} s, others {spent / rounds:.2f} s of processor"
        )
    return stored, allowed


class Stays(NamedTuple):
    """Bytes of the packs with every version of a file, with the last alone, and of a fresh copy of that."""

    every: int
    last: int
    fresh: int


def what_stays(size: int, rounds: int, blocks: int, block: int) -> Stays:
    """How much more a file takes whose other versions have all gone than a fresh copy of it: what is left of
    old chunks, of which it has only a part. The sweep is a thorough one.

    :param size: its bytes. Each round ``blocks`` pieces of ``block`` bytes are written, most of them in the
        first tenth.

    Raises:
        AssertionError: it came back other than it was.
    """
    with tempfile.TemporaryDirectory() as name:
        rng = np.random.default_rng(3)
        bench, image = Bench(Path(name)), Path(name) / "work" / "image"
        image.write_bytes(rng.bytes(size))
        bench.snap()
        for _ in range(rounds):
            with image.open("r+b") as file:
                for place in np.minimum(np.abs(rng.normal(0, 0.1, blocks)), 0.99).tolist():
                    file.seek(int(place * (size // block)) * block)
                    file.write(rng.bytes(block))
            last = bench.snap()
        every = bench.packs()
        store = bench.open()
        for one in store.snapshots()[0]:
            if one.id != last.id:
                store.place.remove(f"{SNAPSHOT_FOLDER}/{one.id}")
        assert [one.id for one in bench.open().snapshots()[0]] == [last.id]
        for days in (40, 80):  # a sweep dooms, and deletes what an earlier one has doomed
            now = (T0 + bench.hour * HOUR + days * 24 * HOUR) * SECOND
            Sweep(bench.open(), "sweeper-", Watched(), now, Silent(), thorough=True).run()
        bench.restore(last, Path(name) / "back")
        subprocess.run(["diff", "-r", bench.work, Path(name) / "back" / "work"], check=True)
        left = bench.packs()
        (Path(name) / "fresh").mkdir()
        fresh = Bench(Path(name) / "fresh")
        shutil.copytree(bench.work, fresh.work, dirs_exist_ok=True)
        fresh.snap()
        found = Stays(every, left, fresh.packs())
        print(
            f"{size:,} B, {rounds} times {blocks} of {block:,} B: all versions {every:,} B, the last"
            f" {left:,}, a fresh copy {found.fresh:,}: {left / found.fresh:.2f} times"
        )
        return found


def releases(folder: Path) -> None:
    """The whole history of one thing, beside one solid archive of it."""
    with tempfile.TemporaryDirectory() as name:
        bench = Bench(Path(name))
        whole = subprocess.run(
            f"tar -C '{folder}' --sort=name -cf - . | zstd -q -19 --long=31 -T2 | wc -c",
            shell=True,
            check=True,
            capture_output=True,
        )
        solid, spent, parts = int(whole.stdout), time.process_time(), []
        for release in sorted(folder.iterdir()):
            shutil.rmtree(bench.work)
            shutil.copytree(release, bench.work)
            before = bench.stored()
            last = bench.snap()
            parts.append(bench.stored() - before)
        spent = time.process_time() - spent
        bench.restore(last, Path(name) / "back")
        subprocess.run(["diff", "-r", bench.work, Path(name) / "back" / "work"], check=True)
        print(
            f"{folder.name}: {len(parts)} releases, {bench.stored():,} B stored (the first {parts[0]:,}),"
            f" one solid archive {solid:,}: {bench.stored() / solid:.2f} times; {spent:.1f} s"
        )


def main() -> None:
    """Measure what was asked for, or everything."""
    words = sys.argv[1:]
    at = words.index("--releases") if "--releases" in words else len(words)
    for case in CASES:
        if not words[:at] or case.name in words[:at]:
            measure(case, 1.0, 5)
    if not words or "stays" in words[:at]:
        for rounds, blocks, block in ((150, 8, 4096), (500, 8, 4096), (500, 100, 400)):
            what_stays(16 << 20, rounds, blocks, block)
    for folder in words[at + 1 :]:
        releases(Path(folder))


if __name__ == "__main__":
    main()
