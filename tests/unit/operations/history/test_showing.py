"""What the inspector says of a version: what is shown of it, and how it compares."""

from __future__ import annotations

import os
import random

from good_tide.core.comparing import Counted
from good_tide.core.entries import Kind
from good_tide.core.previews import FactsPreview, TextPreview
from good_tide.operations.history.browse import contents, entry_at
from good_tide.operations.history.showing import (
    compare_moments,
    compare_versions,
    compare_with_disk,
    count_changes,
    same_as_disk,
    show,
)
from good_tide.viewing.apart import Viewer
from tests.support import documents
from tests.support.base import GoodTideTest


class ShowingTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.viewer = Viewer()
        self.addCleanup(self.viewer.close)
        self.store = self.new_store()

    def path(self, name: str) -> bytes:
        return os.fsencode(self.work / name)

    def test_files_are_read_and_everything_else_is_said(self) -> None:
        self.write("letter.odt", documents.open_text("Dear council"))
        self.write("long.txt", b"line\n" * 200_000)
        (self.work / "link").symlink_to("letter.txt")
        os.mkfifo(self.work / "pipe")
        (self.work / "folder").mkdir()
        taken = self.snap(self.store)
        found = show(self.viewer, self.store, entry_at(self.store, taken, self.path("letter.odt")))
        assert isinstance(found, TextPreview)
        self.assertEqual(found.text, "Dear council")
        found = show(self.viewer, self.store, entry_at(self.store, taken, self.path("long.txt")))
        assert isinstance(found, TextPreview)
        self.assertEqual((found.cut, len(found.text)), (True, 512 * 1024))
        small = show(self.viewer, self.store, entry_at(self.store, taken, self.path("long.txt")), small=True)
        assert isinstance(small, TextPreview)
        self.assertEqual(small.text.count("\n"), 11)
        entries = {entry.name: entry for _, entry in contents(self.store, taken, self.path(""), False)}
        for inner, words in (
            (b"link", "A link to 'letter.txt'"),
            (b"pipe", "Not in this snapshot"),
            (b"folder", "A folder"),
        ):
            said = show(self.viewer, self.store, entries[inner])
            assert isinstance(said, FactsPreview)
            self.assertIn(words, said.words)
        self.assertIs(entries[b"pipe"].kind, Kind.LEFT_OUT)

    def test_comparisons_say_in_words_what_cannot_be_shown(self) -> None:
        self.write("plan.txt", "one\ntwo\nthree\n")
        self.write("same.txt", "same")
        self.write("gone.txt", "gone")
        self.write("folder.txt", "file")
        self.write("noise.txt", "text before")
        first = self.snap(self.store, 0)
        self.write("plan.txt", "one\nzwei\nthree\nfour\n")
        self.write("noise.txt", random.Random(5).randbytes(3000))
        (self.work / "gone.txt").unlink()
        (self.work / "folder.txt").unlink()
        (self.work / "folder.txt").mkdir()
        second = self.snap(self.store, 1)
        for name, words in (
            ("same.txt", "The same as what is on the disk now"),
            ("gone.txt", "not on the disk now"),
            ("folder.txt", "Something else is on the disk"),
        ):
            with self.subTest(name):
                entry = entry_at(self.store, first, self.path(name))
                compared = compare_with_disk(self.viewer, self.store, entry, self.path(name))
                self.assertIsNone(compared.compared)
                self.assertIn(words, compared.words)
                self.assertEqual(same_as_disk(self.store, entry, self.path(name)), compared)

        def versions(mine: str, other: str) -> str:
            later, earlier = (
                entry_at(self.store, when, self.path(name)) for when, name in ((second, mine), (first, other))
            )
            return compare_versions(self.viewer, self.store, later, earlier).words

        self.assertEqual(
            versions("plan.txt", "plan.txt"),
            "Differs from the version before: 2 lines only here, 1 only there",
        )
        self.assertIn("nothing that can be read", versions("noise.txt", "noise.txt"))
        noise, text = (entry_at(self.store, when, self.path("noise.txt")) for when in (second, first))
        now = compare_with_disk(self.viewer, self.store, text, self.path("noise.txt"))
        self.assertIn("that is nothing that can be read any more", now.words)
        folder = entry_at(self.store, second, self.path("folder.txt"))
        self.assertIn("this was no file", compare_versions(self.viewer, self.store, text, folder).words)
        self.assertIn("first version", compare_versions(self.viewer, self.store, noise, None).words)
        plan = entry_at(self.store, first, self.path("plan.txt"))
        moments = compare_moments(self.viewer, self.store, plan, second, self.path("plan.txt"))
        self.assertIn("Differs from the other mark: 1 line only here, 2 only there", moments.words)
        gone = entry_at(self.store, first, self.path("gone.txt"))
        said = compare_moments(self.viewer, self.store, gone, second, self.path("gone.txt")).words
        self.assertIn("not there at the other mark", said)

    def test_tables_are_compared_by_cells(self) -> None:
        self.write("list.xlsx", documents.sheet([["Item", "Price"], ["Tape", 12]]))
        first = self.snap(self.store, 0)
        self.write("list.xlsx", documents.sheet([["Item", "Price"], ["Tape", 14], ["Screws", 3]]))
        entry = entry_at(self.store, first, self.path("list.xlsx"))
        found = compare_with_disk(self.viewer, self.store, entry, self.path("list.xlsx"))
        self.assertIn("1 cell otherwise, 1 row only there", found.words)

    def test_how_much_each_version_changed(self) -> None:
        taken = []
        for hour, text in enumerate(("a\nb\n", "a\nb\nc\n", "a\n", None, "x\n")):
            if text is None:
                (self.work / "letter.txt").unlink()
            else:
                self.write("letter.txt", text)
            taken.append((self.path("letter.txt"), self.snap(self.store, hour)))
        self.assertEqual(
            count_changes(self.viewer, self.store, taken),
            [Counted(lines=False), Counted(1, 0), Counted(0, 2), Counted(lines=False), Counted(1, 1)],
        )
