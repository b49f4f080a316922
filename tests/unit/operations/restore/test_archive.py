"""What is brought back as an archive, read by other programs; and into another home with other owners."""

from __future__ import annotations

import io
import json
import os
import random
import shutil
import stat
import subprocess
import sys
import tarfile
import unittest
import zipfile
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from good_tide.core.clock import SetClock
from good_tide.core.errors import DamageError, PersonError, PlaceError
from good_tide.core.identifiers import ChunkId, Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.restoring import Existing
from good_tide.operations.history.browse import entry_at
from good_tide.operations.restore.archive import ArchiveReport, Item, write_archive, write_items
from good_tide.operations.restore.archive_forms import plain_head
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.metadata import _owner_here
from good_tide.operations.restore.plan import Elsewhere, Wish, plan_restore
from tests.support.base import T0, GoodTideTest, program, tree


def facts(root: Path) -> dict[bytes, tuple[object, ...]]:
    """What is below a folder: kind and content, mode; then time, links and attributes."""
    found: dict[bytes, tuple[object, ...]] = {}
    for path, (kind, *rest) in tree(root).items():
        if kind == "file":
            mode, modified, content, links, attributes = rest
            found[path] = (content, mode, modified, links, attributes)
        elif kind == "folder":
            found[path] = (kind, *rest)
        else:
            found[path] = (kind, rest[0])
    return found


_TEXTS = st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=1, max_size=110)


class HeadTest(unittest.TestCase):
    @given(
        _TEXTS | st.text(min_size=1, max_size=5),
        st.integers(0, 0o7777),
        st.integers(-1, 0o10000000),
        st.integers(0, 1 << 34),
        st.integers(-1, 1 << 34),
        st.sampled_from([tarfile.REGTYPE, tarfile.DIRTYPE, tarfile.SYMTYPE]),
        _TEXTS,
    )
    def test_the_short_way_makes_what_the_library_makes(
        self, name: str, mode: int, owner: int, size: int, time: int, kind: bytes, other: str
    ) -> None:
        info = tarfile.TarInfo(name.strip("/") or "x")
        info.mode, info.uid, info.gid, info.size, info.mtime = mode, owner, 7, size, time
        info.type, info.linkname, info.uname = kind, other if kind == tarfile.SYMTYPE else "", other[:40]
        try:
            made = plain_head(info)
        except ValueError:
            return
        self.assertEqual(made, info.create_ustar_header(info.get_info(), "ascii", "strict"))


class ArchiveTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None, parity=False)
        self.write("plan.txt", "the plan")
        self.write("sub/large.bin", os.urandom(400_000))
        self.write(b"sub/n\xff\xfeame.txt", "no UTF-8")
        self.write("sub/Übersicht.csv", "a;b")
        os.link(self.work / "plan.txt", self.work / "again.txt")
        (self.work / "link").symlink_to("plan.txt")
        (self.work / "plan.txt").chmod(0o640)
        os.utime(self.work / "plan.txt", ns=(0, 1_500_000_000_123_456_789))
        os.setxattr(self.work / "plan.txt", b"user.note", b"by \xffhand")
        (self.work / "empty").mkdir()
        self.first = self.snap(self.store)
        self.inside = os.fsdecode(self.work).lstrip("/")

    def archive(self, name: str) -> tuple[Path, ArchiveReport]:
        path = self.folder / name
        report = write_archive(
            self.store, [Wish(self.first, os.fsencode(self.work))], str(path), io.BytesIO(), Silent()
        )
        return path, report

    def lose(self, chunk: ChunkId) -> None:
        """Overwrite a chunk on the disk."""
        place = self.store.index.find(chunk)
        assert place is not None
        pack = next(path for path in (self.folder / "store" / "packs").rglob(place.pack.hex()))
        with pack.open("r+b") as file:
            file.seek(place.offset)
            file.write(bytes(place.stored))
        self.store.forget_recent()

    def test_sums_are_checked_by_the_tool_of_the_system_where_it_was_unpacked(self) -> None:
        self.write("od\\d\nname.txt", "an odd name")
        taken = self.snap(self.store, 1)
        sums, out, path = self.folder / "sums", self.folder / "out", self.folder / "handed.tar.gz"
        out.mkdir()
        words: tuple[str | Path, ...] = ("export", self.folder / "store", taken.id, self.work)
        done = program(*words, "--to", path, "--sums", sums, "--json")
        self.assertEqual((done.returncode, json.loads(done.stdout)["files"]), (0, 6), done.stderr)
        subprocess.run(["tar", "-C", out, "-xzf", path], check=True)
        checked: list[str | Path] = ["sha256sum", "--check", "--strict", "--quiet", sums]
        self.assertEqual(subprocess.run(checked, cwd=out, check=False).returncode, 0)
        (out / self.inside / "plan.txt").write_text("changed")
        changed = subprocess.run(checked, cwd=out, check=False, capture_output=True)
        self.assertIn(b"plan.txt: FAILED", changed.stdout)
        again = program(*words, "--to", self.folder / "other.tar", "--sums", sums)
        self.assertEqual((again.returncode, "is there already" in again.stderr), (2, True))
        self.assertFalse((self.folder / "other.tar").exists())
        program(*words, "--to", self.folder / "all.zip", "--sums", self.folder / "more sums")
        self.assertEqual((self.folder / "more sums").read_bytes(), sums.read_bytes())

    def test_an_end_that_comes_while_a_file_is_read_ahead_is_no_end_of_the_archive(self) -> None:
        def items() -> Iterator[Item]:
            for name in ("plan.txt", "sub/large.bin"):
                path = os.fsencode(self.work / name)
                yield Item(self.first, path, path, entry_at(self.store, self.first, path))
            raise DamageError("nested too deeply")

        with self.assertRaisesRegex(DamageError, "nested"):
            write_items(self.store, items(), str(self.folder / "out.tar"), io.BytesIO(), Silent())
        self.assertFalse((self.folder / "out.tar").exists())

    def test_as_a_folder_with_sums(self) -> None:
        target, sums = self.folder / "handed", self.folder / "sums"
        words: tuple[str | Path, ...] = ("export", self.folder / "store", self.first.id, self.work)
        done = program(*words, "--to", f"{target}/", "--sums", sums, "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        found = json.loads(done.stdout)
        self.assertEqual((found["files"], found["folders"], found["links"]), (5, 3, 1))
        self.assertEqual(facts(target / "work"), facts(self.work))
        checked: list[str | Path] = ["sha256sum", "--check", "--strict", "--quiet", sums]
        self.assertEqual(subprocess.run(checked, cwd=target, check=False).returncode, 0)
        again = program(*words, "--to", target)
        self.assertEqual((again.returncode, "Something is in" in again.stderr), (2, True))

    def test_tar_keeps_everything_by_the_reader_of_the_system(self) -> None:
        for name in ("out.tar", "out.tar.gz", "out.tar.zst"):
            path, report = self.archive(name)
            self.assertEqual((report.files, report.folders, report.links, report.problems), (5, 3, 1, []))
            if name.endswith(".zst"):
                if shutil.which("zstd") is None:
                    continue
                subprocess.run(["zstd", "-qd", str(path), "-o", str(self.folder / "plain.tar")], check=True)
                path = self.folder / "plain.tar"
            out = self.folder / f"of {name}"
            out.mkdir()
            subprocess.run(["tar", "--xattrs", "-xpf", str(path), "-C", str(out)], check=True)
            found = out / self.inside
            self.assertEqual(tree(found), tree(self.work))
            self.assertEqual((found / "plan.txt").stat().st_mtime_ns, 1_500_000_000_123_456_789)
            self.assertEqual(os.getxattr(found / "plan.txt", b"user.note"), b"by \xffhand")
            self.assertTrue((found / "plan.txt").samefile(found / "again.txt"))

    def test_zip(self) -> None:
        path, report = self.archive("out.zip")
        self.assertEqual((report.files, report.problems), (5, []))
        with zipfile.ZipFile(path) as found:
            self.assertIsNone(found.testzip())
            self.assertEqual(found.read(f"{self.inside}/plan.txt"), b"the plan")
            self.assertEqual(
                found.read(f"{self.inside}/sub/large.bin"), (self.work / "sub/large.bin").read_bytes()
            )
            info = found.getinfo(f"{self.inside}/link")
            self.assertTrue(stat.S_ISLNK(info.external_attr >> 16))
            self.assertEqual(
                stat.S_IMODE(found.getinfo(f"{self.inside}/plan.txt").external_attr >> 16), 0o640
            )
            self.assertIn(f"{self.inside}/empty/", found.namelist())

    def test_holes_stay_holes_by_every_reader(self) -> None:
        shapes: dict[str, list[tuple[int, int]]] = {
            "begins with one": [(1 << 20, 5000), (3 << 20, 70_000)],
            "ends with one": [(0, 4096), (8 << 20, 0)],
            "nothing but one": [(40 << 20, 0)],
            "many": [(number * 200_000, 4096) for number in range(60)],
        }
        for name, data in shapes.items():
            with (self.work / name).open("wb") as file:
                for at, length in data:
                    file.seek(at)
                    file.write(os.urandom(length))
                file.truncate(max(at + length for at, length in data))
        self.first = self.snap(self.store, 1)
        path, report = self.archive("sparse.tar")
        self.assertEqual(report.problems, [])
        self.assertLess(path.stat().st_size, 2 << 20)
        for words in (["tar", "-xf"], ["bsdtar", "-xf"]):
            out = self.folder / words[0]
            out.mkdir()
            subprocess.run([*words, path, "-C", out], check=True)
            for name in shapes:
                there = out / self.inside / name
                self.assertEqual(there.read_bytes(), (self.work / name).read_bytes(), f"{words[0]}: {name}")
                self.assertLess(there.stat().st_blocks, 1500, f"{words[0]}: {name}")
        with tarfile.open(path) as found:
            for name in shapes:
                inside = found.extractfile(f"{self.inside}/{name}")
                assert inside is not None
                self.assertEqual(inside.read(), (self.work / name).read_bytes(), name)

    def test_a_large_file_is_written_as_it_is_read_and_what_is_lost_of_it_is_named(self) -> None:
        size = 40 << 20
        content = random.Random(5).randbytes(size)
        (self.work / "film.mov").write_bytes(content)
        self.first = self.snap(self.store, 1)
        entry = entry_at(self.store, self.first, os.fsencode(self.work / "film.mov"))
        lost = entry.extents[len(entry.extents) // 2]
        assert lost.chunk is not None
        self.lose(lost.chunk)
        path, report = self.archive("out.tar")
        begins = sum(one.length for one in entry.extents[: len(entry.extents) // 2])
        self.assertEqual([os.path.basename(one) for one, _ in report.problems], [b"film.mov"])
        self.assertIn(f"from byte {begins:,} on", report.problems[0][1])
        with tarfile.open(path) as found:
            inside = found.extractfile(f"{self.inside}/film.mov")
            assert inside is not None
            read = inside.read()
        wanted = content[:begins] + bytes(lost.length) + content[begins + lost.length :]
        self.assertEqual(read == wanted, True)
        self.assertEqual([one for one in self.folder.iterdir() if one.name.startswith(".good")], [])

    def test_access_lists_are_heeded_by_other_readers(self) -> None:
        subprocess.run(["setfacl", "-m", "u:1234:rw,g:77:r", self.work / "plan.txt"], check=True)
        subprocess.run(["setfacl", "-d", "-m", "u:1234:rx", self.work / "sub"], check=True)
        self.first = self.snap(self.store, 1)
        tar, _ = self.archive("out.tar")
        for words in (["tar", "--acls", "-xpf"], ["bsdtar", "--acls", "-xpf"]):
            out = self.folder / f"by {words[0]}"
            out.mkdir()
            subprocess.run([*words, tar, "-C", out], check=True)
            for name, kind in (("plan.txt", "access"), ("sub", "default")):
                attribute = f"system.posix_acl_{kind}"
                found = os.getxattr(out / self.inside / name, attribute)
                self.assertEqual(found, os.getxattr(self.work / name, attribute), words)

    def test_zip_and_tar_by_other_readers_fact_by_fact(self) -> None:
        tar, _ = self.archive("out.tar.zst")
        out = self.folder / "by bsdtar"
        out.mkdir()
        subprocess.run(["bsdtar", "-xpf", tar, "-C", out], check=True)
        self.assertEqual(facts(out / self.inside), facts(self.work))
        (self.work / os.fsdecode(b"sub/n\xff\xfeame.txt")).unlink()  # ZIP has no name for it
        self.first = self.snap(self.store, 1)
        packed, _ = self.archive("out.zip")
        out = self.folder / "by unzip"
        subprocess.run(["unzip", "-q", packed, "-d", out], check=True)
        whole = {path: one[:2] for path, one in facts(self.work).items()}
        self.assertEqual({path: one[:2] for path, one in facts(out / self.inside).items()}, whole)

    def test_what_is_there_is_not_written_over_and_nothing_is_left_of_what_failed(self) -> None:
        path = self.write("there.tar", "mine")
        with self.assertRaises(PersonError):
            self.archive("work/there.tar")
        self.assertEqual(path.read_text(), "mine")
        with self.assertRaises(PersonError):
            self.archive("out.rar")
        with mock.patch("os.fsync", side_effect=OSError(28, "full")), self.assertRaises(PlaceError):
            self.archive("full.tar")
        self.assertEqual([one.name for one in self.folder.iterdir() if "tar" in one.name], [])

    def test_what_is_lost_is_named_and_the_rest_is_whole(self) -> None:
        entry = entry_at(self.store, self.first, os.fsencode(self.work / "sub/large.bin"))
        chunk = entry.extents[0].chunk
        assert chunk is not None
        self.lose(chunk)
        path, report = self.archive("out.tar")
        self.assertEqual([os.path.basename(one) for one, _ in report.problems], [b"large.bin"])
        with tarfile.open(path) as found:
            self.assertNotIn(f"{self.inside}/sub/large.bin", found.getnames())
            inside = found.extractfile(f"{self.inside}/again.txt")
            assert inside is not None
            self.assertEqual(inside.read(), b"the plan")

    def test_by_command(self) -> None:
        store = self.folder / "open"
        program("store", "create", store, "--unencrypted")
        program("snapshot", "--store", store, "--folder", self.work)
        command = ("restore", "--store", store, "--snapshot", "latest", "--all")
        out = self.folder / "all.tar.zst"
        said = json.loads(program(*command, "--archive", out, "--json").stdout)
        self.assertEqual((said["files"], said["problems"]), (5, []))
        self.assertEqual(program(*command, "--archive", out).returncode, 2, "it is there already")
        words = [sys.executable, "-m", "good_tide", *map(str, command), "--archive", "-"]
        raw = subprocess.run(words, capture_output=True, check=True).stdout
        with tarfile.open(fileobj=io.BytesIO(raw)) as found:
            self.assertIn(f"{self.inside}/plan.txt", found.getnames())
        self.assertEqual(program(*command, "--archive", "-", "--in-place").returncode, 2)
        piped = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        assert piped.stdout is not None and piped.stderr is not None
        piped.stdout.read(10)
        piped.stdout.close()
        self.assertEqual(piped.stderr.read(), b"", "somebody has read enough")
        piped.stderr.close()
        self.assertEqual(piped.wait(), 5)

    def test_into_another_home(self) -> None:
        home = self.folder / "new home"
        homes = ((os.fsencode(self.folder), os.fsencode(home)),)
        wishes = [Wish(self.first, os.fsencode(self.work))]
        plan = plan_restore(
            self.store, wishes, None, Existing.SET_ASIDE, Silent(), elsewhere=Elsewhere(homes)
        )
        report = carry_out(self.store, plan, SetClock(Nanoseconds(T0)), Silent())
        self.assertEqual((report.problems, report.replaced), ([], 0))
        self.assertEqual(tree(home / "work"), tree(self.work))

    def test_what_is_below_no_home_is_left_and_named(self) -> None:
        homes = ((b"/nowhere/else", b"/nowhere/here"),)
        wishes = [Wish(self.first, os.fsencode(self.work))]
        plan = plan_restore(
            self.store, wishes, None, Existing.SET_ASIDE, Silent(), elsewhere=Elsewhere(homes)
        )
        self.assertEqual(len(plan.steps), 0)
        self.assertIn("below none of the homes", plan.notes[0])

    def test_a_home_inside_a_covered_folder(self) -> None:
        old, new = os.fsencode(self.work / "sub"), os.fsencode(self.folder / "new")
        homes = Elsewhere(((old, new),))
        plan = plan_restore(
            self.store, [Wish(self.first, old)], None, Existing.SET_ASIDE, Silent(), elsewhere=homes
        )
        carry_out(self.store, plan, SetClock(Nanoseconds(T0)), Silent())
        self.assertEqual((self.folder / "new/Übersicht.csv").read_text(), "a;b")
        with self.assertRaisesRegex(PersonError, "more than the home"):
            whole = [Wish(self.first, os.fsencode(self.work))]
            plan_restore(self.store, whole, None, Existing.SET_ASIDE, Silent(), elsewhere=homes)

    def test_owners_go_by_the_names_that_they_have_here(self) -> None:
        record = self.first.record
        with mock.patch.dict(record.owners, {"u4711": "anna", "g4712": "office"}):
            self.assertEqual(_owner_here(record, 4711, 4712, {}), (4711, 4712))
            self.assertEqual(_owner_here(record, 4711, 4712, {"anna": "root", "office": "root"}), (0, 0))

    @unittest.skipUnless(os.geteuid() == 0, "only root gives files away")
    def test_owners_that_are_not_here_are_named(self) -> None:
        os.chown(self.work / "plan.txt", 4711, 4711)
        second = self.snap(self.store, 1)
        with mock.patch.dict(second.record.owners, {"u4711": "anna-of-before"}):
            report = self.restore(self.store, second, self.work / "plan.txt", self.folder / "out")
        self.assertIn("no user anna-of-before here", report.metadata_notes[0].reason)

    def test_home_by_command(self) -> None:
        store = self.folder / "open"
        program("store", "create", store, "--unencrypted")
        program("snapshot", "--store", store, "--folder", self.work)
        command = ("restore", "--store", store, "--snapshot", "latest", "--all", "--json")
        said = program(
            *command, "--home", f"{self.folder}={self.folder}/other", "--owner", "anna=root", "--check"
        )
        found = json.loads(said.stdout)
        self.assertEqual((said.returncode, found["checked"]), (0, 6))
        self.assertEqual(tree(self.folder / "other" / "work"), tree(self.work))
        self.assertEqual(program(*command, "--home", "nonsense").returncode, 2)
