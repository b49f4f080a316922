"""The afternoon of noise: plain work of all kinds does not ring; whatever destroys files does, and nothing is
released until a person has looked."""

from __future__ import annotations

import base64
import json
import os
import random
import shutil
import sysconfig
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

import msgspec

from good_tide.core.alarm import Alarm
from good_tide.core.clock import SetClock
from good_tide.core.errors import PlaceError
from good_tide.core.identifiers import Nanoseconds, SnapshotId
from good_tide.core.ladder import Ladder, parse_rung
from good_tide.core.progress import Silent
from good_tide.core.settings import StoreRef
from good_tide.core.status import Mood, State
from good_tide.operations.alarm.watch import dismiss
from good_tide.operations.context import Context
from good_tide.operations.retention.by_hand import plan_by_hand, release_by_hand
from good_tide.operations.schedule.run import run_job
from good_tide.operations.schedule.standing import Standings
from good_tide.operations.snapshot.taking import Steps
from good_tide.operations.stores.job_stores import JobStores, NobodyToAsk
from good_tide.operations.workplace import find_job, save_job
from good_tide.storage.pins import read_pins
from good_tide.system.jobs import SETTINGS_VARIABLE
from tests.support.base import HOUR, OFFICE, T0, GoodTideTest, open_store, program

WORDS = [
    "the",
    "a",
    "of",
    "and",
    "to",
    "rehearsal",
    "stage",
    "light",
    "cue",
    "props",
    "budget",
    "letter",
    "ticket",
    "tour",
    "house",
    "seat",
    "box",
    "office",
    "crew",
    "call",
    "costume",
    "fitting",
    "contract",
    "invoice",
    "premiere",
    "matinee",
    "director",
    "notes",
    "act",
    "scene",
    "prompt",
    "ladder",
    "rope",
    "sound",
    "desk",
]


LADDER = Ladder((parse_rung("1d every"), parse_rung("30d day")))


def key_stream(data: bytes, rng: random.Random) -> bytes:
    """What encrypting makes of bytes, as far as anybody can see."""
    return rng.randbytes(len(data))


class Alarming(GoodTideTest):
    """A person's folder, and a job that takes snapshots of it."""

    def setUp(self) -> None:
        super().setUp()
        self.rng = random.Random(7)
        self.hour = 0
        self.settings = self.folder / "settings"
        self.store_folder = self.folder / "store"
        self.new_store("store", None)
        self.save_office(self.settings, (StoreRef(path=str(self.folder / "store"), name="Pier"),), LADDER)

    def text(self, size: int) -> bytes:
        return " ".join(self.rng.choices(WORDS, k=size // 3 + 1)).encode()[:size]

    def photo(self) -> bytes:
        return b"\xff\xd8\xff\xe0" + self.rng.randbytes(self.rng.randrange(9_000, 40_000))

    def office_file(self) -> bytes:
        return b"PK\x03\x04" + zlib.compress(self.text(9_000)) + self.rng.randbytes(3_000)

    def fill(self) -> None:
        for number in range(60):
            self.write(f"letters/letter {number}.txt", self.text(self.rng.randrange(200, 6_000)))
        for number in range(30):
            self.write(f"plans/plan {number}.odt", self.office_file())
            self.write(f"photos/{number}.jpg", self.photo())
        self.write("accounts/books.db", b"SQLite format 3\0" + self.text(90_000))
        self.write("accounts/table.csv", b"\n".join(self.text(60) for _ in range(900)))

    def context_now(self) -> Context:
        return self.context(SetClock(Nanoseconds(T0 + self.hour * HOUR)))

    def run_it(self, hours: int = 1) -> Alarm | None:
        self.hour += hours
        context = self.context_now()
        stores = JobStores(context, find_job(self.settings, "Office"), NobodyToAsk())
        run_job(context, stores, Steps(control=Silent()))
        return context.alarms.of(OFFICE)

    def files(self, folder: str = "") -> list[Path]:
        return sorted(path for path in (self.work / folder).rglob("*") if path.is_file())


class PlainWorkTest(Alarming):
    def test_two_years_of_plain_work_do_not_ring(self) -> None:
        self.fill()
        self.assertIsNone(self.run_it())
        for week in range(104):
            self.week(week)
            self.assertIsNone(self.run_it(7 * 24), f"in week {week}")

    def week(self, week: int) -> None:
        rng = self.rng
        for path in rng.sample(self.files("letters"), 3):
            path.write_bytes(path.read_bytes() + self.text(200))
        for path in rng.sample(self.files("plans"), 4):
            path.write_bytes(self.office_file())
        self.write(f"letters/{week} new.txt", self.text(900))
        db = self.work / "accounts" / "books.db"
        data = bytearray(db.read_bytes())
        at = rng.randrange(100, len(data) - 400)
        data[at : at + 300] = rng.randbytes(300)
        db.write_bytes(data)
        if week % 9 == 0:  # a night of photos
            for number in range(150):
                self.write(f"photos/tour {week}/{number}.jpg", self.photo())
        if week % 13 == 5:  # a project is renamed, an old one deleted
            (self.work / "plans").rename(self.work / "plans before")
            (self.work / "plans before").rename(self.work / "plans")
            (self.work / "photos" / f"tour {week // 9 * 9}").rename(self.work / "photos" / f"premiere {week}")
        if week % 26 == 20:
            oldest = sorted((self.work / "photos").glob("premiere *"))[0]
            shutil.rmtree(oldest)
        if week % 4 == 1:  # logs are rotated, and compressed
            self.write("logs/box.log", self.text(20_000))
            if (self.work / "logs" / "box.log.1").exists():
                old = self.work / "logs" / "box.log.1"
                (self.work / "logs" / f"box.log.{week}.gz").write_bytes(
                    b"\x1f\x8b" + zlib.compress(old.read_bytes())
                )
                old.unlink()
            (self.work / "logs" / "box.log").rename(self.work / "logs" / "box.log.1")
        if week % 10 == 3:  # a download whose room was reserved before
            self.write(f"downloads/film {week}.part", bytes(60_000))
        if week % 10 == 4:
            part = self.work / "downloads" / f"film {week - 1}.part"
            part.write_bytes(b"\0\0\0\x20ftypisom" + rng.randbytes(60_000))
        if week in (30, 60):  # somebody protects two documents with a password
            for path in rng.sample(self.files("letters"), 2):
                path.write_bytes(rng.randbytes(path.stat().st_size))
        if week == 40:  # all photos are scaled down
            for path in self.files("photos")[:80]:
                path.write_bytes(self.photo())

    def test_the_upgrade_of_a_program_tree_does_not_ring(self) -> None:
        source = Path(sysconfig.get_paths()["stdlib"])
        names = [
            path
            for part in ("json", "email", "asyncio", "unittest")
            for path in (source / part).rglob("*.py*")
        ]
        for path in names:
            self.write(f"program/{path.relative_to(source)}", path.read_bytes())
        self.assertIsNone(self.run_it())
        for path in self.files("program"):
            data = path.read_bytes()
            if path.suffix == ".pyc":
                path.write_bytes(data[:16] + self.rng.randbytes(40) + data[16:])
            else:
                path.write_bytes(data.replace(b"self", b"this") + b"\n# 2.0\n")
        for path in self.rng.sample(self.files("program"), 20):
            path.unlink()
        self.assertIsNone(self.run_it())

    def test_moving_everything_does_not_ring(self) -> None:
        self.fill()
        self.run_it()
        (self.work / "2026").mkdir()
        for name in ("letters", "plans", "photos", "accounts"):
            (self.work / name).rename(self.work / "2026" / name)
        self.assertIsNone(self.run_it())


Attack = Callable[["AttackTest", int], None]


def _each(test: AttackTest, paths: list[Path], change: Callable[[bytes], bytes], ending: str = "") -> None:
    for path in paths:
        info = path.stat()
        path.write_bytes(change(path.read_bytes()))
        if ending:
            path = path.rename(path.with_name(path.name + ending))
        os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns + 1))


def _encrypted(test: AttackTest) -> Callable[[bytes], bytes]:
    return lambda data: key_stream(data, test.rng)


class AttackTest(Alarming):
    def attacks(self) -> dict[str, Attack]:
        """Twenty ways to lose one's files: what happens between two snapshots, by the number of the
        snapshot."""
        share = self.files

        def slowly(count: int) -> Attack:
            return lambda test, turn: _each(
                test, share()[turn * count : (turn + 1) * count], _encrypted(test)
            )

        def at_once(change: Attack) -> Attack:
            return lambda test, turn: change(test, turn) if not turn else None

        def renamed_to_anything(test: AttackTest, turn: int) -> None:
            for path in share("letters"):
                path.with_name(test.rng.randbytes(8).hex()).write_bytes(
                    key_stream(path.read_bytes(), test.rng)
                )
                path.unlink()

        def into_one_archive(test: AttackTest, turn: int) -> None:
            everything = b"".join(path.read_bytes() for path in share())
            for path in share():
                path.unlink()
            test.write("YOUR FILES", key_stream(everything, test.rng))

        def without(folders: tuple[str, ...]) -> Attack:
            def delete(test: AttackTest, turn: int) -> None:
                for one in folders:
                    shutil.rmtree(test.work / one)

            return at_once(delete)

        def coded(test: AttackTest) -> Callable[[bytes], bytes]:
            return lambda data: base64.b64encode(key_stream(data, test.rng))

        def head_kept(test: AttackTest) -> Callable[[bytes], bytes]:
            return lambda data: data[:4096] + key_stream(data[4096:], test.rng)

        def middles(test: AttackTest, turn: int) -> None:
            for number in range(12):
                path = test.work / "books" / f"{number}.txt"
                data = path.read_bytes()
                path.write_bytes(data[:70_000] + key_stream(data[70_000:], test.rng))

        return {
            "in place": at_once(lambda test, turn: _each(test, share(), _encrypted(test))),
            "with an ending": at_once(lambda test, turn: _each(test, share(), _encrypted(test), ".locked")),
            "with a dotted ending": at_once(
                lambda test, turn: _each(
                    test, share("letters"), _encrypted(test), ".id-42.[us@example.org].x"
                )
            ),
            "under names drawn by lot": at_once(renamed_to_anything),
            "letters only": at_once(lambda test, turn: _each(test, share("letters")[:12], _encrypted(test))),
            "documents only": at_once(lambda test, turn: _each(test, share("plans"), _encrypted(test))),
            "photos only": at_once(lambda test, turn: _each(test, share("photos"), _encrypted(test))),
            "as text": at_once(lambda test, turn: _each(test, share(), coded(test))),
            "in hexadecimal digits": at_once(
                lambda test, turn: _each(
                    test, share(), lambda data: key_stream(data, test.rng).hex().encode()
                )
            ),
            "all but the first bytes of letters": at_once(
                lambda test, turn: _each(
                    test, share("letters"), lambda data: data[:40] + key_stream(data, test.rng)
                )
            ),
            "only the middles of long files": at_once(middles),
            "longer than before": at_once(
                lambda test, turn: _each(test, share(), lambda data: key_stream(data + bytes(512), test.rng))
            ),
            "overwritten with zeros": at_once(
                lambda test, turn: _each(test, share(), lambda data: bytes(len(data)))
            ),
            "emptied": at_once(lambda test, turn: _each(test, share(), lambda data: b"")),
            "overwritten with one note": at_once(
                lambda test, turn: _each(test, share(), lambda data: b"Pay up. " * 20)
            ),
            "deleted": at_once(without(("letters", "plans", "photos"))),
            "half of it deleted": at_once(without(("letters",))),
            "into one archive": at_once(into_one_archive),
            "ten at a time": slowly(10),
            "five at a time, over days": slowly(5),
        }

    def test_each_of_twenty_attacks_rings_within_two_snapshots(self) -> None:
        names = list(self.attacks())
        self.assertEqual(len(names), 20)
        for name in names:
            with self.subTest(name):
                self.start_again()
                attack, good = self.attacks()[name], self.newest()
                alarm = None
                for turn in range(2):
                    attack(self, turn)
                    alarm = self.run_it(9)
                    if alarm is not None:
                        break
                assert alarm is not None, f"it does not ring: {name}"
                self.assertEqual(alarm.before, good, alarm.words(0))

    def start_again(self) -> None:
        """Everything anew: the files, the store, and what is remembered."""
        context = self.context_now()
        context.alarms.dismiss(OFFICE)
        shutil.rmtree(self.work)
        self.work.mkdir()
        name = f"store {self.hour}"
        self.new_store(name, None)
        job, ref = find_job(self.settings, "Office"), StoreRef(path=str(self.folder / name), name="Pier")
        save_job(self.settings, msgspec.structs.replace(job, stores=(ref,)))
        self.store_folder = self.folder / name
        self.fill()
        for number in range(12):
            self.write(f"books/{number}.txt", self.text(120_000))
        self.run_it()

    def newest(self) -> SnapshotId:
        return open_store(self.store_folder, None).snapshots()[0][-1].id


class HoldTest(Alarming):
    def ring(self) -> Alarm:
        self.fill()
        for _ in range(4):
            self.write("letters/letter 0.txt", self.text(300))
            self.run_it(30)
        for path in self.files("letters"):
            path.write_bytes(self.rng.randbytes(800))
        alarm = self.run_it(30)
        assert alarm is not None
        return alarm

    def test_nothing_is_released_until_somebody_has_looked(self) -> None:
        alarm = self.ring()
        store = open_store(self.folder / "store", None)
        count = len(store.snapshot_ids())
        self.assertEqual([pin.snapshot for pin in read_pins(store).values()], [alarm.before])
        for _ in range(3):
            self.run_it(24 * 40)
        self.assertEqual(len(open_store(self.folder / "store", None).snapshot_ids()), count + 3)
        context, job = self.context_now(), find_job(self.settings, "Office")
        oldest = store.snapshots()[0][0].id
        plan = plan_by_hand(context, job, store, [oldest], Silent(), False)
        with self.assertRaisesRegex(PlaceError, "60 files became noise"):
            release_by_hand(context, job, store, plan, Silent())
        dismiss(context, job, open_store(self.folder / "store", None))
        self.assertEqual(read_pins(open_store(self.folder / "store", None)), {})
        self.run_it(24)
        self.assertLess(len(open_store(self.folder / "store", None).snapshot_ids()), count + 3)

    def test_it_is_harm_in_status_and_said_once_in_the_journal(self) -> None:
        alarm = self.ring()
        self.run_it()
        context = self.context_now()
        status = Standings(context).standing(find_job(self.settings, "Office")).status
        self.assertEqual((status.state, status.mood, status.well), (State.ALARM, Mood.HARM, False))
        self.assertTrue(status.sentence.startswith("Harm: 60 files became noise"), status.sentence)
        self.assertEqual(self.context_now().alarms.of(OFFICE), alarm)

    def test_by_command(self) -> None:
        alarm = self.ring()
        shown = program_json(self, "alarm", "show")
        self.assertEqual(shown[0], 1)
        self.assertEqual(shown[1]["alarms"][0]["before"], alarm.before)
        code, found = program_json(self, "alarm", "dismiss", "Office")
        self.assertEqual((code, found), (0, {"dismissed": True}))
        self.assertEqual(program_json(self, "alarm", "show"), (0, {"alarms": []}))


def program_json(test: Alarming, *words: str) -> tuple[int, dict[str, Any]]:
    """Run a command on the test's settings, and read what it prints."""
    with mock.patch.dict(os.environ, {SETTINGS_VARIABLE: str(test.settings)}):
        ran = program(*words, "--json")
    return ran.returncode, json.loads(ran.stdout)
