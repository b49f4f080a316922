"""Columns of integers as compact bytes.

A column of ``n`` signed 64-bit integers is stored as differences from the value before (the first from zero),
each difference folded to an unsigned number (0, -1, 1, -2 … become 0, 1, 2, 3 …), and the resulting
little-endian 64-bit words transposed into eight planes of ``n`` bytes. Planes after the last one that is not
all zero are left out. The first byte says how many planes follow. Equal high bytes end up side by side, which
is what compression wants.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from good_tide.core.errors import DamageError
from good_tide.core.translation import tr

Column = NDArray[np.int64]
_ONE = np.uint64(1)
_HEADS = [bytes([planes]) for planes in range(9)]


def signed(numbers: Sequence[int]) -> Column:
    """Numbers as the operating system gives them, as signed 64-bit integers: times before 1970 are negative,
    and inodes from 2**63 on wrap around."""
    try:
        return np.array(numbers, dtype=np.int64)
    except OverflowError:
        return np.array([(number + (1 << 63)) % (1 << 64) - (1 << 63) for number in numbers], dtype=np.int64)


def encode_columns(columns: Sequence[Sequence[int]] | Column) -> list[bytes]:
    """The bytes of several columns of equal length, of signed 64-bit integers."""
    table = np.array(columns, dtype=np.int64)
    rows, count = table.shape
    if not count:
        return [b"\0"] * rows
    steps = table.copy()
    steps[:, 1:] -= table[:, :-1]
    folded = ((steps << 1) ^ (steps >> 63)).astype("<u8", copy=False)
    planes = np.ascontiguousarray(folded.view(np.uint8).reshape(rows, count, 8).transpose(0, 2, 1))
    largest = np.bitwise_or.reduce(folded, axis=1).tolist()
    used = [(value.bit_length() + 7) // 8 for value in largest]
    return [bytes([here]) + planes[row, :here].tobytes() for row, here in enumerate(used)]


def encode_short(numbers: Sequence[int]) -> bytes:
    """As ``encode_columns`` for one column of few numbers, of less than 2**62 each: quicker."""
    before = everything = 0
    folded = []
    for number in numbers:
        step = number - before
        value = (step << 1) ^ (step >> 63)
        folded.append(value)
        everything |= value
        before = number
    used = (everything.bit_length() + 7) // 8
    words = struct.pack(f"<{len(folded)}Q", *folded)
    return _HEADS[used] + b"".join([words[plane::8] for plane in range(used)])


def encode_tables(table: Column, counts: Sequence[int]) -> list[list[bytes]]:
    """The bytes of the columns of several tables that lie side by side: of the first are the first so many
    numbers of each row of ``table``, and so on. Quicker than one after the other."""
    rows, size = table.shape
    if not size:
        return [[_HEADS[0]] * rows for _ in counts]
    lengths = np.array(counts, dtype=np.int64)
    begins = np.cumsum(lengths) - lengths
    firsts = begins[lengths > 0]
    steps = table.copy()
    steps[:, 1:] -= table[:, :-1]
    steps[:, firsts] = table[:, firsts]
    folded = ((steps << 1) ^ (steps >> 63)).astype("<u8", copy=False)
    # Which byte of the numbers comes where, so that the planes of a table follow each other.
    counted = np.repeat(lengths, 8 * lengths)
    plane, number = np.divmod(np.arange(8 * size) - np.repeat(8 * begins, 8 * lengths), counted)
    order = 8 * (np.repeat(begins, 8 * lengths) + number) + plane
    data = [row.tobytes() for row in folded.view(np.uint8).take(order, axis=1)]
    largest = iter(np.bitwise_or.reduceat(folded, firsts, axis=1).T.tolist())
    found, at = [], 0
    for count in counts:
        columns = []
        for own, value in zip(data, next(largest) if count else [0] * rows, strict=True):
            used = (value.bit_length() + 7) // 8
            columns.append(_HEADS[used] + own[at : at + used * count])
        at += 8 * count
        found.append(columns)
    return found


def decode_tables(tables: Sequence[Sequence[bytes]], counts: Sequence[int]) -> Column:
    """The integers of the columns of several tables, those of one table after the other, a row for each of
    their columns: the opposite of ``encode_tables``. Quicker than one after the other.

    :param counts: how many numbers each of a table's columns has.

    Raises:
        DamageError: the length of one does not fit.
    """
    lengths = np.array(counts, dtype=np.int64)
    size, rows = int(lengths.sum()), len(tables[0]) if tables else 0
    if not size:
        if any(bytes(column) != _HEADS[0] for columns in tables for column in columns):
            raise DamageError(tr("A column of numbers has the wrong length"))
        return np.zeros((rows, 0), dtype=np.int64)
    planes: list[list[bytes]] = [[] for _ in range(rows)]
    for columns, count in zip(tables, counts, strict=True):
        for own, data in zip(planes, columns, strict=True):
            used = data[0] if data else 9
            if used > 8 or len(data) != 1 + used * count:
                raise DamageError(tr("A column of numbers has the wrong length"))
            own += (data[1:], bytes((8 - used) * count))
    begins = np.cumsum(lengths) - lengths
    first_of, count_of = np.repeat(begins, lengths), np.repeat(lengths, lengths)
    places = (7 * first_of + np.arange(size))[:, None] + count_of[:, None] * np.arange(8)
    table = np.frombuffer(b"".join([part for own in planes for part in own]), dtype=np.uint8)
    folded = table.reshape(rows, 8 * size).take(places.ravel(), axis=1).view("<u8")
    steps = (folded >> _ONE).view(np.int64) ^ -(folded & _ONE).view(np.int64)
    sums: Column = steps.cumsum(axis=1, dtype=np.int64)
    before = np.concatenate([np.zeros((rows, 1), dtype=np.int64), sums], axis=1)
    found: Column = sums - before[:, first_of]
    return found


def decode_column(data: bytes, count: int) -> Column:
    """The ``count`` integers of an encoded column.

    Raises:
        DamageError: the length does not fit.
    """
    column: Column = decode_columns([data], count)[0]
    return column


def decode_columns(columns: Sequence[bytes], count: int) -> Column:
    """The ``count`` integers of each of some encoded columns, a row for each.

    Raises:
        DamageError: the length of one does not fit.
    """
    planes: list[bytes] = []
    for data in columns:
        used = data[0] if data else 9
        if used > 8 or len(data) != 1 + used * count:
            raise DamageError(tr("A column of numbers has the wrong length"))
        planes += (data[1:], bytes((8 - used) * count))
    table = np.frombuffer(b"".join(planes), dtype=np.uint8).reshape(len(columns), 8, count)
    folded = np.ascontiguousarray(table.transpose(0, 2, 1)).view("<u8").reshape(len(columns), count)
    steps = (folded >> _ONE).view(np.int64) ^ -(folded & _ONE).view(np.int64)
    found: Column = steps.cumsum(axis=1, dtype=np.int64)
    return found
