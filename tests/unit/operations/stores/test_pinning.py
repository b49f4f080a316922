"""A job knows its store, a machine knows itself: others in their places are noticed, named and refused."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path
from unittest import mock

import msgspec

from good_tide.core.job_facts import StoreState
from good_tide.core.settings import StoreRef
from good_tide.operations.workplace import load_jobs, save_job
from good_tide.protocol.schedule_calls import TakeSnapshot
from good_tide.system.jobs import own_settings_folder
from tests.support.base import (
    CHEAP,
    PASSPHRASE,
    GoodTideTest,
    create_store,
    open_store,
    program,
)
from tests.support.windows import WindowTest


class PinnedStoreTest(GoodTideTest):
    """Another store under the same path is refused before anything is written to it, or typed into it."""

    def setUp(self) -> None:
        super().setUp()
        self.root, self.words = self.folder / "store", self.folder / "words"
        self.words.write_text(PASSPHRASE)
        self.write("plan.txt", "first")
        added = program(
            "job", "add", "Office", "--folder", self.work, "--store", self.root, passphrase=self.words
        )
        self.assertEqual(added.returncode, 0, added.stderr)
        self.assertEqual(program("snapshot", "Office", passphrase=self.words).returncode, 0)

    def commands(self) -> list[tuple[str | Path, ...]]:
        store = ("--store", self.root)
        return [
            ("snapshot", "Office"),
            ("snapshot", *store, "--folder", self.work),
            ("history", *store),
            ("contents", *store, "latest"),
            ("versions", *store, self.work),
            ("verify", *store),
            ("thin", "Office"),
            ("sweep", self.root),
            ("room", self.root),
            ("restore", *store, "--snapshot", "latest", "--path", self.work, "--into", self.folder / "into"),
        ]

    def assert_refused(self, what: str, held: bool = False) -> None:
        """
        :param held: whether snapshots of the job go on in the holding area meanwhile.
        """
        before = sorted(self.root.rglob("*"))
        for words in self.commands():
            with self.subTest(what, words=words[0]):
                ended = program(*words, passphrase=self.words)
                goes_on = held and words == ("snapshot", "Office")
                self.assertEqual(ended.returncode, 0 if goes_on else 3, ended.stderr + ended.stdout)
                self.assertEqual(goes_on, "holding area" in ended.stdout)
                self.assertIn(what, ended.stderr)
        self.assertEqual(sorted(self.root.rglob("*")), before, "nothing was written")

    def test_an_open_store_in_place_of_an_encrypted_one(self) -> None:
        self.root.rename(self.folder / "true")
        create_store(self.root, None)
        self.assert_refused("is not encrypted, and the one of this job is")

    def test_an_open_store_that_says_it_is_the_same(self) -> None:
        identity = json.loads((self.root / "store.json").read_text())["store"]
        self.root.rename(self.folder / "true")
        with mock.patch(
            "secrets.token_hex",
            side_effect=lambda length: identity if length == 16 else os.urandom(length).hex(),
        ):
            create_store(self.root, None)
        self.assert_refused("is not encrypted, and the one of this job is")

    def test_another_encrypted_store(self) -> None:
        self.root.rename(self.folder / "true")
        create_store(self.root, PASSPHRASE, cost=CHEAP)
        self.assert_refused("is another one than that of this job", held=True)

    def test_one_that_says_it_is_the_same_and_opens_with_the_passphrase(self) -> None:
        identity = json.loads((self.root / "store.json").read_text())["store"]
        self.root.rename(self.folder / "true")
        with mock.patch(
            "secrets.token_hex",
            side_effect=lambda length: identity if length == 16 else os.urandom(length).hex(),
        ):
            create_store(self.root, PASSPHRASE, cost=CHEAP)
        self.assert_refused("only says that it is that of this job")

    def test_the_true_one_moved_back_and_one_that_is_meant(self) -> None:
        self.root.rename(self.folder / "true")
        create_store(self.root, None)
        meant = program("job", "change", "Office", "--drop-store", self.root, "--add-store", self.root)
        self.assertEqual(meant.returncode, 0, meant.stderr)
        self.assertEqual(program("snapshot", "Office").returncode, 0)
        shutil.rmtree(self.root)
        (self.folder / "true").rename(self.root)
        before = sorted(self.root.rglob("*"))
        again = program("snapshot", "Office", passphrase=self.words)
        self.assertIn("is another one than that of this job", again.stderr, "now the other one is meant")
        self.assertEqual(sorted(self.root.rglob("*")), before, "nothing was written")

    def test_a_job_of_an_earlier_version_learns_its_store_and_changes_do_not_forget_it(self) -> None:
        settings = own_settings_folder()
        job = load_jobs(settings)[0]
        bare = StoreRef(path=job.stores[0].path, name=job.stores[0].name)
        next((settings / "jobs").glob("*.toml")).unlink()
        save_job(settings, msgspec.structs.replace(job, stores=(bare,)))
        self.assertEqual(load_jobs(settings)[0].stores[0].store, "")
        self.assertEqual(program("snapshot", "Office", passphrase=self.words).returncode, 0)
        known = load_jobs(settings)[0].stores[0]
        self.assertEqual((known.encrypted, len(known.store), len(known.keys)), (True, 32, 32))
        save_job(settings, msgspec.structs.replace(job, rules=("exclude kind sound",), stores=(bare,)))
        self.assertEqual(load_jobs(settings)[0].stores[0], known)


class PinnedInAgentTest(WindowTest):
    """The agent refuses another store as well, and says so."""

    def test_no_snapshot_goes_into_another_store(self) -> None:
        self.window.link.ask(TakeSnapshot(self.window.link.job))
        self.until(lambda: bool(load_jobs(self.settings)[0].stores[0].keys))
        self.until(lambda: self.window.overview.work is None and len(self.window.overview.tide) == 7)
        create_store(self.folder / "other", None)
        # At once: an agent that looks in between takes the disk for one that is away.
        (self.folder / "store").rename(self.folder / "true")
        (self.folder / "other").rename(self.folder / "store")
        self.until(lambda: self.window.state.work is None)
        self.window.link.ask(TakeSnapshot(self.window.link.job))
        self.until(lambda: any("another one than that of this job" in words for words in self.notices))
        self.assertEqual(open_store(self.folder / "store", None).snapshot_ids(), [])
        self.until(lambda: self.window.overview.state is StoreState.REPLACED)
        self.until(lambda: "is not there any more" in self.window.head.sentence.text())
        self.until(lambda: self.window.head.take.isEnabled())
        self.assertTrue(any("replace-store" in words for words in self.window.overview.trouble))
