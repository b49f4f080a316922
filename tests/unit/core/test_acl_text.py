"""Access control lists as text: the system's own comes back from it, and nothing else is taken for one."""

from __future__ import annotations

import os
import subprocess
import unittest

from hypothesis import given
from hypothesis import strategies as st

from good_tide.core.acl_text import mode_with, text_of, value_of
from tests.support.base import GoodTideTest

_ATTRIBUTE = "system.posix_acl_access"


def no_name(kind: str, number: int) -> str:
    """Nobody has a name."""
    return ""


def nobody(kind: str, name: str) -> None:
    """Nobody is known."""


class AclTextTest(GoodTideTest):
    def test_the_systems_own_list_goes_there_and_back(self) -> None:
        file = self.write("plan.txt", "x")
        subprocess.run(["setfacl", "-m", "u:1234:r,u:77:rwx,g:4321:x,m::rw", file], check=True)
        value = os.getxattr(file, _ATTRIBUTE)
        text = text_of(value, lambda kind, number: {("user", 77): "ada"}.get((kind, number), ""))
        assert text is not None
        self.assertEqual(
            text.split(",")[1:3] + text.split(",")[4:],
            ["user:ada:rwx:77", "user:1234:r--:1234", "group:4321:--x:4321", "mask::rw-", "other::r--"],
        )
        self.assertEqual(value_of(text, nobody), value)
        odd = text_of(value, lambda kind, number: "a,user::rwx")
        self.assertEqual(value_of(odd or "", nobody), value)
        self.assertEqual(mode_with(0o604, value), file.stat().st_mode & 0o777)
        self.assertEqual((mode_with(0o604, None), mode_with(0o604, b"x")), (0o604, 0o604))
        file.with_name("other").write_text("")
        os.setxattr(file.with_name("other"), _ATTRIBUTE, value_of(text, nobody) or b"")

    def test_it_is_read_as_others_write_it(self) -> None:
        numbers = {("user", "ada"): 1000}.get
        said = "user::rw-\nuser:ada:r--\t#effective:r--\ngroup::r--\nmask::r--\nother::---\n"
        short = "u::rw,u:1000:r,g::r,m::r,o::"
        found = value_of(said, lambda kind, name: numbers((kind, name)))
        self.assertIsNotNone(found)
        self.assertEqual(found, value_of(short, nobody))
        self.assertEqual(
            text_of(found or b"", no_name), "user::rw-,user:1000:r--:1000,group::r--,mask::r--,other::---"
        )

    def test_what_is_no_list_and_whoever_is_not_known_is_refused(self) -> None:
        for text in (
            "",
            ",",
            "user",
            "user:ada:r--",
            "user::rwz",
            "elf::r--",
            "mask:ada:r--:1",
            "user:a:b:c:d",
            f"user:{1 << 33}:r--",
            "user:ada:r--:" + "9" * 30,
        ):
            with self.subTest(text):
                self.assertIsNone(value_of(text, nobody))
        for value in (b"", b"\2\0\0\0x", b"\3\0\0\0" + bytes(8), b"\2\0\0\0" + bytes(8)):
            with self.subTest(value):
                self.assertIsNone(text_of(value, no_name))

    @given(st.text("ugmorwx:-,#\n0123456789 aé", max_size=60), st.binary(max_size=40))
    def test_anything_may_come(self, text: str, value: bytes) -> None:
        found = value_of(text, nobody)
        if found is not None:
            again = text_of(found, no_name)
            self.assertEqual(value_of(again or "", nobody), found)
        text_of(value, no_name)


if __name__ == "__main__":
    unittest.main()
