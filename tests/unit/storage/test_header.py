"""What belongs to people is not touched, and nobody is led astray: half-made stores, links of others, powers,
sockets, deep folders."""

from __future__ import annotations

import contextlib
from pathlib import Path
from unittest import mock

from good_tide.core.errors import (
    GoodTideError,
    PersonError,
    PlaceError,
)
from good_tide.core.places import Level, Wanted
from good_tide.operations.stores.disks import examine
from good_tide.storage.folder_place import FolderPlace, LocalPlace
from good_tide.storage.header import read_header, unlock
from good_tide.system.stand_in_disks import StandInDisks
from tests.support.base import (
    CHEAP,
    PASSPHRASE,
    GoodTideTest,
    create_store,
    open_store,
    program,
    tree,
)
from tests.support.memory_place import PowerCutError


class HalfMadeTest(GoodTideTest):
    """A folder that looks like a half-made store is somebody's, unless it says that it is one."""

    def mine(self) -> dict[str, Path]:
        """Folders of people, by what is in them."""
        found = {}
        for name, files in {
            "keys": ("keys/door.txt",),
            "temporary": ("tmp/new-idea.txt", "tmp/sketch.txt"),
            "read me": ("README.txt",),
            "script": ("recover.py",),
            "all": ("keys/a.json", "tmp/new-x", "README.txt", "recover.py"),
        }.items():
            found[name] = self.folder / name
            for file in files:
                (found[name] / file).parent.mkdir(parents=True, exist_ok=True)
                (found[name] / file).write_text("mine")
        elsewhere = self.folder / "elsewhere"
        elsewhere.mkdir()
        (elsewhere / "door.json").write_text("mine")
        for name in ("keys", "tmp"):
            found[f"linked {name}"] = self.folder / f"linked {name}"
            found[f"linked {name}"].mkdir()
            (found[f"linked {name}"] / name).symlink_to(elsewhere)
        return found

    def test_nothing_of_anybody_is_removed_or_written_over(self) -> None:
        for name, folder in self.mine().items():
            before = tree(self.folder)
            with self.subTest(name):
                with self.assertRaisesRegex(PersonError, "is not empty"):
                    create_store(folder, None)
                self.assertEqual(tree(self.folder), before)
                disks = StandInDisks(self.folder / "rack")
                with mock.patch.object(disks, "of_folder", return_value=None):
                    self.assertTrue(
                        any(
                            check.level is Level.BAD
                            for check in examine(
                                disks, FolderPlace(folder), Wanted(), frozenset(), False
                            ).checks
                        )
                    )

    def test_by_command_and_with_a_job(self) -> None:
        for name, folder in self.mine().items():
            before = tree(folder)
            for words in (
                ("store", "create", folder, "--unencrypted"),
                ("job", "add", name, "--folder", self.work, "--store", folder, "--unencrypted"),
            ):
                with self.subTest(name, words=words[0]):
                    self.assertEqual(program(*words).returncode, 2)
                    self.assertEqual(tree(folder), before)

    def test_a_store_in_the_making_is_made_again_and_what_others_put_there_stays(self) -> None:
        for at in ("write_slot", "open_slot", "_write"):
            root = self.folder / at
            with (
                mock.patch(f"good_tide.storage.header.{at}", side_effect=PowerCutError),
                self.assertRaises(PowerCutError),
            ):
                create_store(root, None)
            self.assertTrue((root / "store.making").is_file())
            (root / "letter.txt").write_text("mine")
            with self.assertRaisesRegex(PersonError, "letter.txt"):
                create_store(root, None)
            (root / "letter.txt").unlink()
            (root / "keys").mkdir(exist_ok=True)
            (root / "keys" / "mine.json").write_text("{}")
            with self.assertRaises(PersonError):
                create_store(root, None)
            (root / "keys" / "mine.json").unlink()
            create_store(root, PASSPHRASE, cost=CHEAP)
            self.assertFalse((root / "store.making").exists())
            self.assertEqual(len(LocalPlace(root).names("keys")), 2)

    def test_links_in_a_store_are_not_followed(self) -> None:
        store, elsewhere = self.new_store(), self.folder / "elsewhere"
        elsewhere.mkdir()
        (elsewhere / "new-mine").write_text("mine")
        root = Path(store.place.title)
        for name in ("tmp", "pins", "writers"):
            if (root / name).exists():
                (root / name).rename(root / f"{name}-before")
            (root / name).symlink_to(elsewhere)
        (root / "index").mkdir(exist_ok=True)
        (root / "index" / "linked").symlink_to(elsewhere / "new-mine")
        for act in (
            lambda: store.place.clear_temporary("new-"),
            lambda: store.place.remove("pins/new-mine"),
            lambda: store.place.read("tmp/new-mine"),
            lambda: store.place.names("writers"),
            lambda: store.place.create("writers/a", "x"),
            lambda: store.place.size("index/linked"),
        ):
            with self.assertRaises(PlaceError):
                act()
        self.assertEqual((elsewhere / "new-mine").read_text(), "mine")
        self.assertEqual(sorted(path.name for path in elsewhere.iterdir()), ["new-mine"])


class HeaderTest(GoodTideTest):
    def test_directories_that_are_no_store_say_so(self) -> None:
        (self.folder / "plain").mkdir()
        half = self.folder / "half"
        with (
            mock.patch("good_tide.storage.header.write_slot", side_effect=PowerCutError),
            self.assertRaises(PowerCutError),
        ):
            create_store(half, None)
        for root, words in (
            (self.folder / "plain", "no store"),
            (half, "not made to the end"),
            (self.folder / "missing", "no folder"),
        ):
            with self.subTest(root.name), self.assertRaises(PlaceError) as caught:
                open_store(root, None)
            self.assertIn(words, str(caught.exception))
        create_store(half, None)
        open_store(half, None)

    def test_a_newer_store_is_refused_and_a_full_folder_is_not_taken(self) -> None:
        root = self.folder / "s"
        create_store(root, None)
        header = root / "store.json"
        header.write_bytes(header.read_bytes().replace(b'"format": 2', b'"format": 3'))
        self.assertEqual(read_header(LocalPlace(root)).format, 2, "its slots say that the disk changed it")
        (root / "copies" / "store.json").write_bytes(header.read_bytes())
        with self.assertRaisesRegex(PlaceError, "newer version"):
            read_header(LocalPlace(root))
        (self.folder / "full").mkdir()
        (self.folder / "full" / "letter.txt").write_text("mine")
        for case in (root, self.folder / "full"):
            with self.assertRaises(PersonError):
                create_store(case, None)
        self.assertEqual((self.folder / "full" / "letter.txt").read_text(), "mine")

    def test_a_store_that_needs_what_nobody_knows_is_refused(self) -> None:
        root = self.folder / "s"
        create_store(root, None)
        for name in ("store.json", "copies/store.json"):
            header = root / name
            header.write_bytes(header.read_bytes().replace(b'"leaning"', b'"leaning", "folding"'))
        with self.assertRaisesRegex(
            PlaceError, r"newer version .* \(format 2 folding; .*Install that version"
        ):
            read_header(LocalPlace(root))

    def test_bad_passphrases_and_hints_are_refused(self) -> None:
        for passphrase, hint in (("", ""), ("Harbour", "the harbour one")):
            with self.subTest(passphrase), self.assertRaises(PersonError):
                create_store(self.folder / "s", passphrase, hint)

    def test_any_changed_byte_of_header_or_slots_is_noticed_or_harmless(self) -> None:
        root = self.folder / "s"
        create_store(root, PASSPHRASE, cost=CHEAP)
        secret = unlock(LocalPlace(root), PASSPHRASE)[1].secret
        files = [root / "store.json", *sorted((root / "keys").iterdir())]
        for file in files:
            whole = file.read_bytes()
            for at in range(0, len(whole), 7):
                file.write_bytes(whole[:at] + bytes([whole[at] ^ 1]) + whole[at + 1 :])
                with contextlib.suppress(GoodTideError):
                    self.assertEqual(unlock(LocalPlace(root), PASSPHRASE)[1].secret, secret)
            file.write_bytes(whole)
