"""Values and rules, without files."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from good_tide.core.columns import (
    decode_column,
    decode_tables,
    encode_columns,
    encode_short,
    encode_tables,
    signed,
)
from good_tide.core.errors import DamageError

int64 = st.integers(-(2**63), 2**63 - 1)


class ColumnTest(unittest.TestCase):
    @given(st.lists(int64, max_size=40))
    def test_what_was_encoded_comes_back(self, values: list[int]) -> None:
        column = encode_columns([values])[0]
        self.assertEqual(decode_column(column, len(values)).tolist(), values)

    @given(st.lists(st.lists(st.tuples(int64, int64), max_size=5), max_size=8))
    def test_tables_side_by_side_are_as_each_alone(self, tables: list[list[tuple[int, int]]]) -> None:
        table = np.array([row for one in tables for row in one], dtype=np.int64).reshape(-1, 2).T
        alone = [encode_columns(np.array(one, dtype=np.int64).reshape(-1, 2).T) for one in tables]
        counts = [len(one) for one in tables]
        encoded = encode_tables(table, counts)
        self.assertEqual(encoded, alone)
        if tables:
            self.assertEqual(decode_tables(encoded, counts).tolist(), table.tolist())

    @given(st.lists(st.integers(-(2**61), 2**61), max_size=30))
    def test_a_short_column_is_as_any(self, values: list[int]) -> None:
        self.assertEqual(encode_short(values), encode_columns([values])[0])

    def test_numbers_of_the_system_are_signed(self) -> None:
        self.assertEqual(signed([-5, 0, 2**63 - 1]).tolist(), [-5, 0, 2**63 - 1])
        self.assertEqual(signed([-5, 2**63, 2**64 - 1]).tolist(), [-5, -(2**63), -1])

    def test_steady_values_take_few_bytes(self) -> None:
        column = encode_columns(np.arange(1000, dtype=np.int64).reshape(1, -1) + 10**18)[0]
        self.assertLessEqual(len(column), 8001)
        self.assertEqual(encode_columns([[7] * 1000])[0][0], 1)

    def test_wrong_lengths_are_damage(self) -> None:
        for name, data, count in (
            ("empty", b"", 1),
            ("nine planes", b"\x09" + bytes(9), 1),
            ("cut", b"\x02\0\0\0", 2),
            ("long", b"\x01\0\0", 1),
        ):
            with self.subTest(name), self.assertRaises(DamageError):
                decode_column(data, count)
            with self.subTest(name, side_by_side=True), self.assertRaises(DamageError):
                decode_tables([[encode_short([1, 2])], [data], [encode_short([])]], [2, count, 0])
        with self.assertRaises(DamageError):
            decode_tables([[b"\0\0"]], [0])
