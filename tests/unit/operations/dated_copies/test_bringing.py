"""Dated copies become history: what a snapshot of each holds, and where it stands among others."""

from __future__ import annotations

import gzip
import os
import shutil
import subprocess
import tarfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

from good_tide.core.clock import SECOND
from good_tide.core.entries import Kind, Reason
from good_tide.core.errors import PersonError, PlaceError, PlaceFullError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.operations.dated_copies.bringing import Target, bring_in, history_of
from good_tide.operations.dated_copies.members import Content, members_of
from good_tide.operations.dated_copies.planning import Plan, planned
from good_tide.operations.history.browse import contents, entry_at
from good_tide.operations.integrity.verify import verify
from good_tide.storage.pins import read_pins
from good_tide.storage.writer import WriteSession
from tests.support.base import HOUR, MACHINE, PASSPHRASE, T0, GoodTideTest, open_store, tree
from tests.unit.operations.restore.test_archive import facts

NOW = T0 + 1000 * HOUR


class BringingTest(GoodTideTest):
    """Copies lie in ``self.copies``, and are copies of the work folder."""

    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store()
        self.copies = self.folder / "copies"
        self.copies.mkdir()

    def furnish(self, name: str, letter: str = "the first") -> Path:
        """A copy with some of everything."""
        copy = self.copies / name
        (copy / "sub" / "empty").mkdir(parents=True)
        (copy / "letter.txt").write_text(letter)
        (copy / "large.bin").write_bytes(bytes(range(256)) * 2000)
        (copy / "sub" / "Übersicht.csv").write_text("a;b")
        Path(os.fsdecode(os.fsencode(copy) + b"/sub/n\xff\xfe.txt")).write_text("no UTF-8")
        os.link(copy / "letter.txt", copy / "sub" / "again.txt")
        os.link(copy / "large.bin", copy / "large again.bin")
        (copy / "link").symlink_to("letter.txt")
        (copy / "letter.txt").chmod(0o640)
        os.utime(copy / "letter.txt", ns=(0, 1_500_000_000_123_456_789))
        os.setxattr(copy / "letter.txt", b"user.note", b"by \xffhand")
        with (copy / "disk.img").open("wb") as file:
            file.write(b"begin")
            file.seek(2_000_000)
            file.write(b"end")
        return copy

    def plan(self, *named: Path, said: Path | None = None, at: int | None = None) -> Plan:
        into = os.fsencode(said) if said is not None else None
        moment = Nanoseconds(at) if at is not None else None
        own = history_of(self.store, MACHINE)
        return planned(self.store, own, named or (self.copies,), into, moment, NOW, Silent())

    def bring(self, plan: Plan, pinned: bool = True) -> list[Snapshot]:
        target = Target(self.store, MACHINE, plan.into, pinned)
        return list(bring_in(self.context(), target, plan.new, Silent()))

    def brought(self, *named: Path, at: int | None = None) -> list[Snapshot]:
        return self.bring(self.plan(*named, said=self.work, at=at))

    def back(self, snapshot: Snapshot, name: str) -> Path:
        """The work folder as it was in a snapshot."""
        into = self.folder / name
        into.mkdir()
        self.restore(self.store, snapshot, self.work, into)
        return into / self.work.name

    def letter(self, snapshot: Snapshot) -> bytes:
        into = Path(str(self.folder / f"letter-{snapshot.id[:20]}"))
        into.mkdir()
        self.restore(self.store, snapshot, self.work / "letter.txt", into)
        return (into / "letter.txt").read_bytes()


class EachFormTest(BringingTest):
    """What was copied comes back fact by fact."""

    def test_access_lists_come_from_the_archives_of_others(self) -> None:
        copy = self.furnish("2026-09-01")
        subprocess.run(["setfacl", "-m", "u:1234:rw,g:77:r", copy / "letter.txt"], check=True)
        subprocess.run(["setfacl", "-d", "-m", "u:1234:rx", copy / "sub"], check=True)
        wanted = [
            os.getxattr(copy / name, f"system.posix_acl_{kind}")
            for name, kind in (("letter.txt", "access"), ("sub", "default"))
        ]
        for number, words in enumerate((["tar", "--acls"], ["bsdtar", "--acls", "--format=pax"])):
            packed = self.folder / f"2026-10-0{number + 1}.tar"
            subprocess.run([*words, "-cf", packed, "-C", copy, "."], check=True)
            back = self.back(self.brought(packed)[0], f"back {number}")
            found = [
                os.getxattr(back / name, f"system.posix_acl_{kind}")
                for name, kind in (("letter.txt", "access"), ("sub", "default"))
            ]
            self.assertEqual(found, wanted, words)

    def test_a_folder(self) -> None:
        copy = self.furnish("2024-03-01")
        (taken,) = self.brought()
        self.assertEqual(tree(self.back(taken, "back")), tree(copy))
        self.assertEqual(taken.label, "2024-03-01")
        self.assertEqual([one.label for one in read_pins(self.store).values()], ["2024-03-01"])

    def test_archives_of_the_system_s_tar(self) -> None:
        copy = self.furnish("made")
        for name, words in {
            "2024-03-01.tar": [],
            "2024-03-02.tar.gz": ["--gzip"],
            "2024-03-03.tar.bz2": ["--bzip2"],
            "2024-03-04.tar.xz": ["--xz"],
            "2024-03-05.tar.zst": ["--zstd"],
        }.items():
            pax = ["--format=posix", "--xattrs", "--sparse", *words]
            subprocess.run(["tar", *pax, "-C", copy, "-cf", self.copies / name, "."], check=True)
        shutil.rmtree(self.folder / "want", ignore_errors=True)
        copy.rename(self.folder / "want")
        taken = self.brought()
        self.assertEqual(len(taken), 5)
        for number, snapshot in enumerate(taken):
            back = self.back(snapshot, f"back{number}")
            self.assertEqual(facts(back), facts(self.folder / "want"))
            self.assertLess((back / "disk.img").stat().st_blocks * 512, 1_000_000, "its hole is one")
            self.assertEqual((back / "large.bin").stat().st_ino, (back / "large again.bin").stat().st_ino)
        self.assertEqual(taken[-1].tally.new_bytes, 0)

    def test_an_archive_of_the_library_s_with_the_folder_itself_in_it(self) -> None:
        copy = self.furnish("made")
        with tarfile.open(self.copies / "20240301.tgz", "w:gz", format=tarfile.PAX_FORMAT) as archive:
            archive.add(copy, "work")
        plan = self.plan(said=self.work)
        self.assertEqual([one.top for one in plan.copies], [b"work"])
        (taken,) = self.bring(plan)
        self.assertEqual((self.back(taken, "back") / "sub" / "again.txt").read_text(), "the first")

    def test_a_zip(self) -> None:
        copy = self.furnish("made")
        file = self.copies / "2024-03-01.zip"
        with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive:
            for path in sorted(copy.rglob("*")):
                if "\udcff" not in path.name and not path.is_symlink():
                    archive.write(path, path.relative_to(copy))
        (taken,) = self.brought()
        back = self.back(taken, "back")
        self.assertEqual((back / "large.bin").read_bytes(), (copy / "large.bin").read_bytes())
        self.assertEqual((back / "letter.txt").stat().st_mode & 0o777, 0o640)
        self.assertEqual(int((back / "letter.txt").stat().st_mtime), 1_500_000_000)
        self.assertTrue((back / "sub" / "empty").is_dir())

    def test_what_this_program_exported(self) -> None:
        copy = self.furnish("2024-03-01")
        (first,) = self.brought()
        from good_tide.operations.restore.archive import write_archive
        from good_tide.operations.restore.plan import Wish

        wish = Wish(first, os.fsencode(self.work))
        for name in ("2024-03-02.tar", "2024-03-03.tar.zst", "2024-03-04.zip"):
            with open(os.devnull, "wb") as nothing:
                write_archive(self.store, [wish], str(self.copies / name), nothing, Silent())
        plan = self.plan(said=self.work)
        whole = os.fsencode(self.work).strip(b"/")
        self.assertEqual([one.top for one in plan.new], [whole] * 3)
        taken = self.bring(plan)
        for number, snapshot in enumerate(taken[:2]):
            self.assertEqual(facts(self.back(snapshot, f"back{number}")), facts(copy))
        self.assertEqual((self.back(taken[2], "zip") / "letter.txt").read_text(), "the first")

    def test_names_of_owners_come_along(self) -> None:
        with tarfile.open(self.copies / "2024-03-01.tar", "w") as archive:
            info = tarfile.TarInfo("a")
            info.uid, info.uname, info.gid, info.gname = 4711, "rosa", 815, "stage"
            archive.addfile(info)
        (taken,) = self.brought()
        self.assertEqual(
            {taken.record.owners.get("u4711"), taken.record.owners.get("g815")}, {"rosa", "stage"}
        )
        self.assertEqual(entry_at(self.store, taken, os.fsencode(self.work / "a")).stat.uid, 4711)


class AmongOthersTest(BringingTest):
    """Older ones come before what is there already."""

    def test_older_copies_come_before_the_snapshots_that_are_there(self) -> None:
        self.write("letter.txt", "of today")
        newest = self.snap(self.store)
        for name, text in (("2024-06-01", "second"), ("2024-03-01", "first"), ("2024-09-01", "third")):
            self.furnish(name, text)
        taken = self.bring(self.plan())  # the only covered folder is meant
        own = history_of(self.store, MACHINE)
        self.assertEqual([one.id for one in own], [*(one.id for one in taken), newest.id])
        self.assertEqual([self.letter(one) for one in own], [b"first", b"second", b"third", b"of today"])

    def test_what_is_the_same_is_not_stored_again(self) -> None:
        copy = self.furnish("2024-03-01")
        shutil.copytree(copy, self.work, symlinks=True, dirs_exist_ok=True)
        self.snap(self.store)
        (taken,) = self.brought()
        self.assertEqual(taken.tally.new_bytes, 0)

    def test_a_second_time_nothing_is_left_to_do(self) -> None:
        self.furnish("2024-03-01")
        self.brought()
        plan = self.plan()
        self.assertEqual(([one.is_there for one in plan.copies], plan.new), ([True], ()))

    def test_a_snapshot_after_it_goes_on(self) -> None:
        self.furnish("2024-03-01")
        self.brought()
        self.write("letter.txt", "of today")
        newest = self.snap(self.store)
        self.assertEqual(self.letter(newest), b"of today")
        self.assertEqual(history_of(self.store, MACHINE)[-1].id, newest.id)

    def test_between_two_snapshots_the_rest_is_as_it_was_before(self) -> None:
        self.write("Office/letter.txt", "before")
        self.write("Office/Plans/plan.txt", "a plan")
        self.write("Music/song.txt", "la")
        self.snap(self.store, 0)
        self.write("Office/letter.txt", "after")
        self.snap(self.store, 2)
        copy = self.copies / "letters"
        copy.mkdir()
        (copy / "letter.txt").write_text("between")
        plan = self.plan(copy, said=self.work / "Office", at=T0 + HOUR)
        (taken,) = self.bring(plan)
        names = {
            os.path.relpath(os.fsdecode(path), self.work)
            for path, entry in contents(self.store, taken, None, deep=True)
            if entry.kind is Kind.FILE
        }
        self.assertEqual(names, {"Office/letter.txt", "Music/song.txt"})
        into = self.folder / "back"
        into.mkdir()
        self.restore(self.store, taken, self.work / "Office" / "letter.txt", into)
        self.assertEqual((into / "letter.txt").read_text(), "between")

    def test_before_everything_nothing_is_made_up(self) -> None:
        self.write("Office/letter.txt", "before")
        self.write("Music/song.txt", "la")
        self.snap(self.store, 0)
        copy = self.furnish("2024-03-01")
        (taken,) = self.bring(self.plan(copy, said=self.work / "Office"))
        found = [path for path, _ in contents(self.store, taken, os.fsencode(self.work), deep=False)]
        self.assertEqual(found, [os.fsencode(self.work / "Office")])

    def test_other_covered_folders_stay(self) -> None:
        other = self.folder / "other"
        other.mkdir()
        (other / "b.txt").write_text("b")
        self.write("a.txt", "a")
        self.snap(self.store, 0, MACHINE, None, self.work, other)
        with self.assertRaisesRegex(PersonError, "--as"):
            self.plan(self.furnish("2024-03-01"))
        (taken,) = self.brought(self.copies / "2024-03-01", at=T0 + HOUR)
        self.assertEqual(entry_at(self.store, taken, os.fsencode(other / "b.txt")).kind, Kind.FILE)

    def test_the_covered_folder_may_be_inside_what_is_copied(self) -> None:
        copy = self.furnish("x") / "sub"
        self.write("sub/Übersicht.csv", "c;d")
        self.snap(self.store, 0, MACHINE, None, self.work / "sub")
        (taken,) = self.bring(self.plan(copy.parent, said=self.work, at=T0 - HOUR))
        self.assertEqual(entry_at(self.store, taken, os.fsencode(self.work / "letter.txt")).kind, Kind.FILE)


class TroubleTest(BringingTest):
    def test_a_damaged_archive_leaves_nothing_behind(self) -> None:
        copy = self.furnish("made")
        whole = self.copies / "2024-03-01.tar"
        subprocess.run(["tar", "-C", copy, "-cf", whole, "."], check=True)
        data = whole.read_bytes()
        packed = gzip.compress(data, mtime=0)
        flipped = bytearray(packed)
        flipped[-6] ^= 1  # in the sum at its end
        header = bytearray(data)
        header[data.index(b"./sub") + 120] ^= 1
        for name, broken in {
            "2024-03-01.tar": data[: len(data) // 2],
            "2024-03-02.tar": data[:1024],
            "2024-03-03.tar": bytes(header),
            "2024-03-04.tar.gz": packed[: len(packed) // 2],
            "2024-03-05.tar.gz": bytes(flipped),
            "2024-03-06.tar.zst": b"\x28\xb5\x2f\xfd nonsense",
            "2024-03-07.zip": data,
            "2024-03-08.tar": b"",
            "2024-03-09.tar": b"no archive" * 100,
        }.items():
            with self.subTest(name):
                file = self.copies / name
                file.write_bytes(broken)
                with self.assertRaisesRegex(PersonError, f"{name} is damaged"):
                    self.brought(file)
                self.assertEqual(history_of(self.store, MACHINE), [])
                file.unlink()

    def test_an_archive_that_is_damaged_after_the_look(self) -> None:
        copy = self.furnish("2024-03-02")
        file = self.copies / "2024-03-01.tar"
        subprocess.run(["tar", "-C", copy, "-cf", file, "."], check=True)
        plan = self.plan(said=self.work)
        file.write_bytes(file.read_bytes()[:20_000])
        with self.assertRaisesRegex(PersonError, "damaged"):
            self.bring(plan)
        self.assertEqual(history_of(self.store, MACHINE), [])
        file.unlink()
        self.assertEqual(len(self.brought()), 1)

    def test_a_hostile_archive_leads_nowhere(self) -> None:
        with tarfile.open(self.copies / "2024-03-01.tar", "w") as archive:
            for name in ("../out.txt", "a/../../out.txt", "/etc/passwd", "./ok.txt", "x" * 300 + "/y"):
                archive.addfile(tarfile.TarInfo(name))
            pipe = tarfile.TarInfo("pipe")
            pipe.type = tarfile.FIFOTYPE
            archive.addfile(pipe)
            further = tarfile.TarInfo("further")
            further.type, further.linkname = tarfile.LNKTYPE, "../../secret"
            archive.addfile(further)
            nothing = tarfile.TarInfo("nothing")
            nothing.type, nothing.linkname = tarfile.LNKTYPE, "never there"
            archive.addfile(nothing)
            deep = tarfile.TarInfo("d/" * 5000 + "deep")
            archive.addfile(deep)
            for kind in (tarfile.DIRTYPE, tarfile.REGTYPE, tarfile.DIRTYPE):
                twice = tarfile.TarInfo("twice")
                twice.type = kind
                archive.addfile(twice)
        (taken,) = self.brought()
        names = {
            os.path.relpath(path, os.fsencode(self.work))
            for path, _ in contents(self.store, taken, None, True)
        }
        self.assertTrue({b"etc/passwd", b"ok.txt", b"twice", b"pipe"} <= names)
        self.assertFalse([name for name in names if b"out.txt" in name or b"deep" in name])
        reasons = {one.path.rpartition(b"/")[2]: one.reason for one in taken.record.left_out}
        self.assertEqual(
            reasons,
            {
                b"pipe": Reason.SPECIAL.value,
                b"further": Reason.UNREADABLE.value,
                b"nothing": Reason.UNREADABLE.value,
                b"deep": Reason.TOO_DEEP.value,
            },
        )
        self.assertEqual(entry_at(self.store, taken, os.fsencode(self.work / "twice")).kind, Kind.FOLDER)

    def test_numbers_and_names_that_cannot_be_do_not_get_into_the_store(self) -> None:
        with tarfile.open(self.copies / "2024-03-01.tar", "w", format=tarfile.PAX_FORMAT) as archive:
            for name, headers in {
                "huge": {"uid": "99999999999999999999", "gid": "-7", "mtime": "1e40"},
                "odd": {"uid": "4294967295", "mtime": "nan", "SCHILY.xattr.user.\0": "x"},
                "before": {"mtime": "-62135596800.5"},
                "name": {"path": "na\0me"},
            }.items():
                info = tarfile.TarInfo(name)
                info.pax_headers = headers
                archive.addfile(info)
            for name, target in {"nowhere": "", "zero": "a\0b"}.items():
                info = tarfile.TarInfo(name)
                info.type, info.linkname, info.pax_headers = tarfile.SYMTYPE, target, {"linkpath": target}
                archive.addfile(info)
        (taken,) = self.brought()
        fresh = open_store(self.folder / "store", PASSPHRASE)
        found = {os.path.basename(path): entry for path, entry in contents(fresh, taken, None, deep=True)}
        self.assertEqual({one.stat.uid for one in found.values()} - {0}, {os.getuid()} - {0})
        self.assertEqual(found[b"huge"].stat.modified, 0)
        self.assertEqual(found[b"before"].stat.modified, 0, "before what 64 bits hold, in nanoseconds")
        kinds = {name: found[name].kind for name in (b"nowhere", b"zero")}
        self.assertEqual(set(kinds.values()), {Kind.LEFT_OUT})
        self.assertTrue(verify(fresh, True, Silent()).ok)

    def test_a_zip_that_is_damaged_inside(self) -> None:
        file = self.copies / "2024-03-01.zip"
        with zipfile.ZipFile(file, "w") as archive:
            archive.writestr("a.txt", b"content of a file")
        data = bytearray(file.read_bytes())
        data[data.index(b"content")] ^= 1
        file.write_bytes(data)
        with self.assertRaisesRegex(PersonError, "damaged"):
            self.brought()
        self.assertEqual(history_of(self.store, MACHINE), [])

    def test_a_full_disk_in_the_middle_loses_nothing(self) -> None:
        self.furnish("2024-03-01")
        self.furnish("2024-06-01", "another")
        publish, calls = WriteSession.publish, []

        def full(session: WriteSession, record: object) -> Snapshot:
            calls.append(session)
            if len(calls) == 2:
                raise PlaceFullError("full")
            return publish(session, record)  # type: ignore[arg-type]

        with mock.patch.object(WriteSession, "publish", full), self.assertRaises(PlaceFullError):
            self.brought()
        self.assertEqual(len(history_of(self.store, MACHINE)), 1)
        self.store = open_store(self.folder / "store", PASSPHRASE)
        taken = self.bring(self.plan())
        self.assertEqual([self.letter(one) for one in taken], [b"another"])

    def test_two_at_once(self) -> None:
        self.furnish("2024-03-01")
        plan = self.plan(said=self.work)
        self.bring(plan)
        with self.assertRaisesRegex(PlaceError, "already"):
            self.bring(plan)

    def test_less_than_it_says_is_damage(self) -> None:
        path = self.write("short", "abc")
        with path.open("rb") as short, open(self.folder / "into", "w+b") as into:
            content = Content(path, short, 10)
            self.assertRaisesRegex(PersonError, "damaged", content.spooled, into)

    def test_a_file_that_is_one_hole_is_one_again(self) -> None:
        path = self.write("nothing", b"")
        with path.open("rb") as nothing, open(self.folder / "into", "w+b") as into:
            Content(path, nothing, 5_000_000, ()).spooled(into)
            info = os.fstat(into.fileno())
        self.assertEqual((info.st_size, info.st_blocks), (5_000_000, 0))

    def test_copies_of_everything_leave_no_folder_twice(self) -> None:
        self.write("a.txt", "a")
        self.snap(self.store, 0)
        (taken,) = self.bring(self.plan(self.furnish("2024-03-01"), said=Path("/"), at=T0 + HOUR))
        self.assertEqual([root.name for root in self.store.roots(taken.record)], [b"/"])

    def test_what_cannot_be_read_is_said(self) -> None:
        with self.assertRaisesRegex(PersonError, "cannot be read"):
            list(members_of(self.folder / "nowhere.tar"))


class PlanTest(BringingTest):
    def test_what_has_no_date_is_named(self) -> None:
        self.furnish("2024-03-01")
        (self.copies / "old things").mkdir()
        (self.copies / "readme.txt").write_text("")
        (self.copies / "2024-04-01").symlink_to(self.copies / "2024-03-01")
        plan = self.plan(said=self.work)
        self.assertEqual([one.path.name for one in plan.copies], ["2024-03-01"])
        self.assertEqual({one.name for one in plan.undated}, {"old things", "2024-04-01"})

    def test_what_cannot_be_meant_is_refused(self) -> None:
        copy = self.furnish("letters")
        for words, named, said, at in (
            ("No date", copy, self.work, None),
            ("--as", self.furnish("2024-03-01"), None, None),
            ("not been", copy, self.work, NOW + SECOND),
            ("neither", self.folder / "nowhere", self.work, None),
            ("neither", self.write("a.txt"), self.work, None),
        ):
            with self.subTest(words), self.assertRaisesRegex(PersonError, words):
                self.plan(named, said=said, at=at)
        with self.assertRaisesRegex(PersonError, "One time"):
            self.plan(copy, copy, said=self.work, at=T0)

    def test_copies_of_one_day_come_in_the_order_of_their_names(self) -> None:
        for name in ("2024-03-01 b", "2024-03-01 a"):
            self.furnish(name, name)
        plan = self.plan(said=self.work)
        first, second = plan.copies
        self.assertEqual((first.path.name, second.moment - first.moment), ("2024-03-01 a", SECOND))

    def test_which_folder_of_a_copy_is_meant(self) -> None:
        whole = str(self.work).lstrip("/")
        for number, (inside, beside, top) in enumerate(
            (
                ("work", None, "work"),
                (whole, None, whole),
                (whole, "another", whole),
                ("work", "another", ""),
                ("home", None, ""),
            )
        ):
            for archived in (False, True):
                with self.subTest(inside=inside, beside=beside, archived=archived):
                    copy = self.folder / f"copy{number}{archived}" / "2024-03-01"
                    (copy / inside).mkdir(parents=True)
                    (copy / inside / "a.txt").write_text("a")
                    if beside is not None:
                        (copy / beside).mkdir()
                        (copy / beside / "b.txt").write_text("bb")
                    if archived:
                        file = copy.with_suffix(".tar")
                        subprocess.run(["tar", "-C", copy, "-cf", file, "."], check=True)
                        copy = file
                    (found,) = self.plan(copy, said=self.work).copies
                    self.assertEqual(found.top.decode(), top)
                    self.assertEqual(found.tally.files, 1 if top or beside is None else 2)


if __name__ == "__main__":
    unittest.main()
