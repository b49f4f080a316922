"""What an SMB server tells of its shares, and what one could tell that is broken or hostile."""

from __future__ import annotations

import random
import struct
import unittest

from good_tide.servers.server import ServerError
from good_tide.servers.smb.shares import shares_in


def _text(words: str) -> bytes:
    data = (words + "\0").encode("utf-16-le")
    return struct.pack("<III", len(data) // 2, 0, len(data) // 2) + data + bytes(-len(data) % 4)


def answer(shares: list[tuple[str, int, str]]) -> bytes:
    """An answer as servers give it."""
    stub = struct.pack("<IIIIII", 1, 1, 0x20000, len(shares), 0x20004, len(shares))
    for _, kind, _ in shares:
        stub += struct.pack("<III", 0x20008, kind, 0x2000C)
    stub += b"".join(_text(name) + _text(remark) for name, _, remark in shares)
    return stub + struct.pack("<III", len(shares), 0, 0)


_SHARES = [
    ("Büro", 0, "für alle"),
    ("C$", 1 << 31, ""),
    ("store", 0, ""),
    ("printer", 1, "x"),
    ("IPC$", 3, ""),
]


class SharesTest(unittest.TestCase):
    def test_those_that_hold_files_are_named(self) -> None:
        self.assertEqual(shares_in(answer(_SHARES)), ["Büro", "store"])
        self.assertEqual(shares_in(answer([])), [])

    def test_what_is_broken_is_said_and_never_read_beyond_its_end(self) -> None:
        whole, chance = answer(_SHARES), random.Random(3)
        for length in range(len(whole) - 16):
            with self.assertRaises(ServerError):
                shares_in(whole[:length])
        for _ in range(3000):
            data = bytearray(whole)
            for _ in range(chance.randrange(1, 4)):
                data[chance.randrange(len(data))] = chance.randrange(256)
            try:
                found = shares_in(bytes(data))
            except ServerError:
                continue
            self.assertLessEqual(len(found), len(data))


if __name__ == "__main__":
    unittest.main()
