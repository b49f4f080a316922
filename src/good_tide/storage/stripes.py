"""Files with parity: how a file's bytes, its parity and the checksums of both lie. ``docs/format.md``
("Parity") gives the bytes.

The bytes are cut into units, each with its own checksum, and parity units lie evenly between them, so that a
stretch of the disk that goes bad takes little of them. All follows from the file's length.
"""

from __future__ import annotations

import functools
import threading
import zlib
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from good_tide.storage.parity import Code, Units, parity_of, work_out

HEAD_BYTES = 8
"""The first bytes of a file, which are known without it, and are not protected."""
CHECK_BYTES = 4
"""Each unit ends with a CRC-32 of the rest of it."""

_UNITS = ((1024, 1024, True), (2048, 1024, True), (2048, 8192, False), (4096, 1 << 19, False))
"""Bytes of a unit, up to how many units it has that size, and whether the code is dense then."""
_PART = 100
_PARTS_MENDED = 3
"""Of so many units so many may be lost."""
_SPARE_DENSE, _SPARE_SPARSE = 4, 32
"""Further parity units, with which chance leaves hardly any damage of that size unmended."""
_LARGEST = (1 << 19) * 4092


class Shape(NamedTuple):
    """How a file lies: units of ``unit`` bytes, checksum included. The first holds the head and nothing
    else."""

    unit: int
    code: Code

    @property
    def payload(self) -> int:
        """Bytes of a unit without its checksum."""
        return self.unit - CHECK_BYTES

    @property
    def length(self) -> int:
        """Bytes that a file of this shape holds."""
        return self.code.data * self.payload

    @property
    def size(self) -> int:
        """Bytes of the whole file."""
        return self.unit * (1 + self.code.data + self.code.parity)

    @property
    def stride(self) -> int:
        """So many units lie before each parity unit, as long as there are any; what is left after the
        last."""
        return max(1, self.code.data // self.code.parity)

    def place(self, number: int) -> int:
        """Which unit of the file a unit is."""
        return 1 + number + min(number // self.stride, self.code.parity)

    def places(self) -> NDArray[np.intp]:
        """Which units of the file the units are, and after them the parity units."""
        data, parity = np.arange(self.code.data), np.arange(self.code.parity)
        own = 1 + data + np.minimum(data // self.stride, self.code.parity)
        return np.concatenate([own, 1 + np.minimum((parity + 1) * self.stride, self.code.data) + parity])


@functools.lru_cache(maxsize=1024)
def shape_for(least: int) -> Shape:
    """The shape of the smallest file that holds at least so many bytes."""
    unit, data, dense = next(
        (unit, max(1, -(-least // (unit - CHECK_BYTES))), dense)
        for unit, most, dense in _UNITS
        if least <= most * (unit - CHECK_BYTES)
    )
    parity = -(-data * _PARTS_MENDED // _PART) + (_SPARE_DENSE if dense else _SPARE_SPARSE)
    while not dense and not _is_prime(parity):
        parity += 1
    return Shape(unit, Code(data, min(parity, max(data, _SPARE_DENSE + 1)), dense))


def _is_prime(number: int) -> bool:
    return all(number % factor for factor in range(2, int(number**0.5) + 1))


@functools.lru_cache(maxsize=1024)
def shape_of_file(size: int) -> Shape | None:
    """The shape of a file that takes so many bytes; None: there is none of that size."""
    low, high = 0, min(size, _LARGEST)
    while low < high:
        middle = (low + high) // 2
        if shape_for(middle).size < size:
            low = middle + 1
        else:
            high = middle
    found = shape_for(low)
    return found if found.size == size else None


_thread = threading.local()


def _room(name: str, size: int) -> NDArray[np.uint8]:
    """Room for the bytes of a file; a thread has it once, and uses it again for its next file."""
    room: NDArray[np.uint8] | None = getattr(_thread, name, None)
    if room is None or len(room) < size:
        room = np.empty(size, dtype=np.uint8)
        setattr(_thread, name, room)
    return room[:size]


class Striped:
    """A file that is being made: its bytes are put into ``buffer``, and ``file`` gives the whole. A thread
    makes one at a time."""

    def __init__(self, least: int) -> None:
        self.shape = shape_for(least)
        self._payload: Units = _room("payload", self.shape.length).reshape(-1, self.shape.payload)
        self.buffer = self._payload.reshape(-1).data

    def file(self, head: bytes) -> memoryview:
        """The bytes of the whole file; good until the thread begins the next."""
        shape = self.shape
        whole = _room("file", shape.size).reshape(-1, shape.unit)
        whole[0] = 0
        whole[0, :HEAD_BYTES] = np.frombuffer(head, dtype=np.uint8)
        parity = parity_of(shape.code, self._payload)
        places = shape.places()
        checks = np.array(
            [zlib.crc32(unit.data) for part in (self._payload, parity) for unit in part], dtype="<u4"
        )
        for number in range(shape.code.parity):
            begin, end = number * shape.stride, min((number + 1) * shape.stride, shape.code.data)
            if begin < end:
                at = shape.place(begin)
                whole[at : at + end - begin, : shape.payload] = self._payload[begin:end]
        rest = shape.code.parity * shape.stride
        if rest < shape.code.data:
            whole[shape.place(rest) :, : shape.payload] = self._payload[rest:]
        whole[places[shape.code.data :], : shape.payload] = parity
        whole[places, shape.payload :] = checks.view(np.uint8).reshape(-1, CHECK_BYTES)
        return whole.reshape(-1).data


def read_striped(read: Callable[[int, int], bytes], size: int, offset: int, length: int) -> bytes:
    """Bytes of a file with parity; fewer when it ends before.

    :param read: gives bytes of the file as it lies, from an offset, so many.
    :param size: bytes of the whole file as it lies.
    """
    shape = shape_of_file(size)
    length = 0 if shape is None else max(0, min(length, shape.length - offset))
    if shape is None or not length:
        return b""
    first, last = offset // shape.payload, (offset + length - 1) // shape.payload
    begin = shape.place(first)
    count = shape.place(last) - begin + 1
    data = read(begin * shape.unit, count * shape.unit)
    units = np.frombuffer(data, dtype=np.uint8, count=len(data) // shape.unit * shape.unit)
    units = units.reshape(-1, shape.unit)[:, : shape.payload]
    skipped = offset - first * shape.payload
    if count == last - first + 1:  # no parity unit lies in between
        return units.tobytes()[skipped : skipped + length]
    numbers = np.arange(first, last + 1)
    own = numbers + np.minimum(numbers // shape.stride, shape.code.parity) + 1 - begin
    return units[own[own < len(units)]].reshape(-1)[skipped : skipped + length].tobytes()


def _bad(shape: Shape, whole: Units) -> list[int]:
    """Numbers of units, parity units after the others, that are not what their checksums say."""
    written = np.ascontiguousarray(whole[:, shape.payload :]).view("<u4").reshape(-1).tolist()
    return [
        number
        for number, at in enumerate(shape.places().tolist())
        if zlib.crc32(whole[at, : shape.payload].data) != written[at]
    ]


def is_whole(data: bytes, size: int) -> bool:
    """Whether all units of a file, parity included, are what they were."""
    shape = shape_of_file(size)
    if shape is None or len(data) != size:
        return False
    whole = np.frombuffer(data, dtype=np.uint8).reshape(-1, shape.unit)
    return not whole[0, HEAD_BYTES:].any() and not _bad(shape, whole)


def mended(data: bytes, head: bytes, size: int) -> bytes | None:
    """A file as it was; None when too much of it is lost. Whether it is right, is for its seals to say.

    :param data: what there is of it; bytes that could not be read may be anything.
    :param head: its first bytes, which are known. :param size: how many bytes it has when it is whole.
    """
    shape = shape_of_file(size)
    if shape is None:
        return None
    whole = np.frombuffer(data[:size].ljust(size, b"\0"), dtype=np.uint8).reshape(-1, shape.unit)
    count, places = shape.code.data, shape.places()
    lost = _bad(shape, whole)
    if len(lost) > shape.code.parity:
        return None
    made = Striped(shape.length)
    units, parity = whole[places[:count], : shape.payload], whole[places[count:], : shape.payload]
    own = [number for number in lost if number < count]
    if not work_out(shape.code, units, parity, own, [number - count for number in lost if number >= count]):
        return None
    made.buffer[:] = units.reshape(-1).data
    return bytes(made.file(head))
