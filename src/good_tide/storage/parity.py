"""Parity: further units made of the units of a file, from which lost ones are worked out again.

A linear code whose rows are drawn once for all. Files of few units use the field GF(2⁸) (polynomial
x⁸+x⁴+x³+x²+1) with all coefficients; files of many use six ones a unit, which costs six additions modulo
2 a byte. ``docs/format.md`` ("Parity") gives the rows; decision 0030 says why it is not a Reed–Solomon code,
and its reach.
"""

from __future__ import annotations

import functools
import hashlib
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Units = NDArray[np.uint8]
"""Units of a file or of its parity, a row each."""

_POLYNOMIAL = 0x11D
_ONES = 6
"""In how many parity units each unit of a sparse code is."""


class Code(NamedTuple):
    """``data`` units, and ``parity`` units made of them; ``dense``: with coefficients in GF(2⁸)."""

    data: int
    parity: int
    dense: bool

    @property
    def blocks(self) -> int:
        """Into how many blocks the units of a sparse code are dealt: unit i is in block i modulo this number,
        at row i divided by it."""
        return -(-self.data // self.parity)


@functools.cache
def products() -> NDArray[np.uint8]:
    """The product of each two elements of GF(2⁸), 256 by 256."""
    exponents, logarithms, value = np.zeros(510, dtype=np.uint8), np.zeros(256, dtype=np.int64), 1
    for power in range(255):
        exponents[power] = exponents[power + 255] = value
        logarithms[value] = power
        value = (value << 1) ^ (_POLYNOMIAL if value & 0x80 else 0)
    found: NDArray[np.uint8] = exponents[logarithms[:, None] + logarithms[None, :]]
    found[0, :] = found[:, 0] = 0
    return found


@functools.lru_cache(maxsize=8)
def _coefficients(code: Code) -> NDArray[np.uint8]:
    """Of a dense code: a row for each parity unit, a column for each unit."""
    seed = f"good-tide parity dense {code.data} {code.parity}".encode()
    drawn = np.frombuffer(hashlib.shake_256(seed).digest(code.data * code.parity), dtype=np.uint8)
    return np.where(drawn == 0, 1, drawn).astype(np.uint8).reshape(code.parity, code.data)


@functools.lru_cache(maxsize=8)
def _shifts(code: Code) -> list[list[int]]:
    """Of a sparse code: for each block, how far its rows are shifted for each one of them."""
    found = []
    for block in range(code.blocks):
        seed = f"good-tide parity sparse {code.data} {code.parity} {block}".encode()
        words = np.frombuffer(hashlib.sha256(seed).digest(), dtype=">u4").tolist()
        found.append(list(dict.fromkeys(word % code.parity for word in words))[:_ONES])
    return found


def parity_of(code: Code, units: Units) -> Units:
    """The parity units of a file's units; their length in bytes must be divisible by 4."""
    made = np.zeros((code.parity, units.shape[1]), dtype=np.uint8)
    wide, source, rows = made.view(np.uint32), units.view(np.uint32), code.parity
    if code.dense:
        double, coefficients = products()[2], _coefficients(code)
        for bit in range(7, -1, -1):  # Horner's rule over the bits of the coefficients
            made[:] = double[made]
            for row, chosen in enumerate((coefficients >> bit & 1).astype(bool)):
                wide[row] ^= np.bitwise_xor.reduce(source[chosen], axis=0)
        return made
    for block, shifts in enumerate(_shifts(code)):
        own = source[block :: code.blocks]
        for shift in shifts:
            first = min(len(own), rows - shift)
            wide[shift : shift + first] ^= own[:first]
            if len(own) > first:
                wide[: len(own) - first] ^= own[first:]
    return made


def _columns(code: Code, numbers: list[int]) -> NDArray[np.uint8]:
    """The coefficients of some units: a row for each parity unit."""
    if code.dense:
        return _coefficients(code)[:, numbers].copy()
    found = np.zeros((code.parity, len(numbers)), dtype=np.uint8)
    shifts = _shifts(code)
    for column, number in enumerate(numbers):
        row, block = divmod(number, code.blocks)
        for shift in shifts[block]:
            found[(row + shift) % code.parity, column] = 1
    return found


def work_out(code: Code, units: Units, parity: Units, lost: list[int], lost_parity: list[int]) -> bool:
    """Work out lost units from the others and the parity, in place; whether that could be done.

    :param lost: numbers of the lost units. :param lost_parity: numbers of parity units that are lost as well.
    """
    if not lost:
        return True
    units[lost] = 0
    left = np.setdiff1d(np.arange(code.parity), lost_parity)
    sides = (parity_of(code, units) ^ parity)[left]
    matrix = _columns(code, lost)[left]
    if not _solve(matrix, sides):
        return False
    units[lost] = sides[: len(lost)]
    return True


def _solve(matrix: NDArray[np.uint8], sides: Units) -> bool:
    """Turn the upper part of ``matrix`` into the identity by steps that are done to ``sides`` too
    (elimination after Gauss and Jordan over GF(2⁸)). Whether the columns were independent."""
    table = products()
    for column in range(matrix.shape[1]):
        candidates = np.flatnonzero(matrix[column:, column])
        if not len(candidates):
            return False
        pivot = column + int(candidates[0])
        if pivot != column:
            matrix[[column, pivot]], sides[[column, pivot]] = matrix[[pivot, column]], sides[[pivot, column]]
        value = int(matrix[column, column])
        if value != 1:
            inverse = int(np.flatnonzero(table[value] == 1)[0])
            matrix[column], sides[column] = table[inverse][matrix[column]], table[inverse][sides[column]]
        others = np.flatnonzero(matrix[:, column])
        others = others[others != column]
        factors = matrix[others, column]
        if (factors == 1).all():
            matrix[others] ^= matrix[column]
            sides[others] ^= sides[column]
        else:
            matrix[others] ^= table[factors[:, None], matrix[column][None, :]]
            sides[others] ^= table[factors[:, None], sides[column][None, :]]
    return True
