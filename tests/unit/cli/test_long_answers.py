"""Long answers are written as they come, and nothing of them is kept."""

from __future__ import annotations

import contextlib
import io
import json
import unittest
from collections.abc import Iterator
from typing import Any

from good_tide.cli.output import print_json_list, table


class LongAnswersTest(unittest.TestCase):
    def setUp(self) -> None:
        self.written = io.StringIO()
        told = contextlib.redirect_stdout(self.written)
        told.__enter__()
        self.addCleanup(told.__exit__, None, None, None)

    def test_rows_of_a_long_table_are_written_before_the_last_is_known(self) -> None:
        seen: list[int] = []

        def rows() -> Iterator[list[str]]:
            for number in range(2000):
                seen.append(self.written.getvalue().count("\n"))
                yield [f"row {number}", "x" * (number % 7), str(number)]

        table(["Name", "What", "Number"], rows(), right=(2,))
        lines = self.written.getvalue().split("\n")
        self.assertEqual(len(lines), 2002)
        self.assertGreater(seen[-1], 1500)
        self.assertEqual({line.split()[-1] for line in lines[1:-1]}, {str(number) for number in range(2000)})
        self.assertEqual(len({line.index("row") for line in lines[1:-1]}), 1, "columns stay where they are")

    def test_a_short_table_is_as_wide_as_its_cells(self) -> None:
        table(["Name", "Number"], [["a", "1"], ["longer", "22"]], right=(1,))
        self.assertEqual(self.written.getvalue(), "Name    Number\na            1\nlonger      22\n")

    def test_a_json_list_is_one_object(self) -> None:
        late: dict[str, Any] = {"damaged": ["known at the end"]}
        cases: tuple[tuple[dict[str, Any], list[dict[str, Any]], dict[str, Any]], ...] = (
            ({}, [], {}),
            ({"snapshot": "ab"}, [{"path": 'a "b"'}], late),
            ({}, [{"n": 1}, {"n": 2}], {}),
            ({"a": 1, "b": None}, [], late),
        )
        for before, rows, after in cases:
            self.written.seek(0)
            self.written.truncate()
            print_json_list(before, "entries", iter(rows), after.copy)
            self.assertEqual(json.loads(self.written.getvalue()), {**before, "entries": rows, **after})
            self.assertTrue(self.written.getvalue().endswith("}\n"))
