"""A command that has to read a long history first says so: all the time on a terminal, once elsewhere, and
never where a program reads."""

from __future__ import annotations

import io
from unittest import mock

from good_tide.cli import reading_history
from tests.support.base import GoodTideTest, open_store


class _Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


class ReadingHistoryTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        store = self.new_store("store", None)
        for hour in range(6):
            self.write("plan.txt", f"hour {hour}")
            self.snap(store, hour)

    def said(self, stream: io.StringIO, as_json: bool = False, long: int = 4) -> str:
        with (
            mock.patch.multiple(reading_history, _LONG=long, _EACH=2),
            mock.patch("sys.stderr", stream),
        ):
            store = open_store(self.folder / "store", None)
            catalog, damage = reading_history.caught_up(store, self.folder / f"cache {id(stream)}", as_json)
        self.assertEqual((len(catalog.names()), damage), (6, []))
        catalog.close()
        return stream.getvalue()

    def test_elsewhere_it_is_said_once(self) -> None:
        self.assertEqual(self.said(io.StringIO()), "good-tide: Reading history: 0 of 6 snapshots\n")

    def test_on_a_terminal_it_goes_on(self) -> None:
        said = self.said(_Terminal())
        self.assertIn("Reading history: ", said)
        self.assertTrue(said.endswith("\x1b[2K"), "and is taken away again")

    def test_nothing_is_said_of_a_short_one_or_to_a_program(self) -> None:
        self.assertEqual(self.said(io.StringIO(), long=7), "")
        self.assertEqual(self.said(io.StringIO(), as_json=True), "")
