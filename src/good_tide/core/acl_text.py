"""Access control lists as text, as archives carry them: pax headers ``SCHILY.acl.access`` and
``SCHILY.acl.default`` of star(5), which GNU tar and libarchive write and read too.

As attributes they are numbers: a version, and for each entry what it is for, what it permits and for whom
(``linux/posix_acl_xattr.h``, little-endian).
"""

from __future__ import annotations

import struct
from collections.abc import Callable

_HEAD, _ENTRY = struct.Struct("<I"), struct.Struct("<HHI")
_VERSION, _NOBODY = 2, 0xFFFFFFFF
_KINDS = {1: "user", 2: "user", 4: "group", 8: "group", 0x10: "mask", 0x20: "other"}
_NAMED = {2, 8}
_TAGS = {("user", False): 1, ("user", True): 2, ("group", False): 4, ("group", True): 8}
_TAGS |= {("mask", False): 0x10, ("other", False): 0x20}
_SHORT = {"u": "user", "g": "group", "m": "mask", "o": "other"}
_PARTING = frozenset(":,#\n \t")
"""What no name in a text may have."""
_MOST = 1000
"""Entries that a list has at most; file systems take far fewer."""


def text_of(value: bytes, name_of: Callable[[str, int], str]) -> str | None:
    """A list as text, ``user::rw-,user:ada:r--:1000,…``: with names, and the numbers behind them.

    :param value: the attribute. :param name_of: the name of a user or group by its number, empty for none.

    Returns:
        None for what is no such list.
    """
    if len(value) < _HEAD.size or (len(value) - _HEAD.size) % _ENTRY.size:
        return None
    if _HEAD.unpack_from(value)[0] != _VERSION:
        return None
    words = []
    for tag, permitted, number in _ENTRY.iter_unpack(value[_HEAD.size :]):
        if tag not in _KINDS or permitted > 7:
            return None
        kind = _KINDS[tag]
        rights = "".join(letter if permitted & bit else "-" for letter, bit in zip("rwx", (4, 2, 1)))
        if tag in _NAMED:
            name = name_of(kind, number)
            plain = name and not set(name) & _PARTING
            words.append(f"{kind}:{name if plain else number}:{rights}:{number}")
        else:
            words.append(f"{kind}::{rights}")
    return ",".join(words)


def value_of(text: str, number_of: Callable[[str, str], int | None]) -> bytes | None:
    """The attribute of a list that is given as text.

    :param number_of: the number of a user or group by its name, None where it is not known. It is asked only
        where the text says no number.

    Returns:
        None for what is no list, or names somebody who is not known: a list without them would permit other
        things.
    """
    entries = []
    for line in text.replace("\n", ",").split(","):
        words = line.partition("#")[0].strip()
        if not words:
            continue
        kind, *fields = words.split(":")
        if len(fields) not in (2, 3):
            return None
        name, rights = fields[0], fields[1]
        kind = _SHORT.get(kind, kind)
        tag = _TAGS.get((kind, bool(name)))
        if tag is None or set(rights) - set("rwx-"):
            return None
        number: int | None = _NOBODY
        if tag in _NAMED:
            said = fields[2] if len(fields) == 3 else name
            number = int(said) if said.isascii() and said.isdecimal() else number_of(kind, name)
        if number is None or number > _NOBODY:
            return None
        permitted = sum(bit for letter, bit in zip("rwx", (4, 2, 1)) if letter in rights)
        entries.append((tag, permitted, number))
    if not entries or len(entries) > _MOST:
        return None
    return _HEAD.pack(_VERSION) + b"".join(_ENTRY.pack(*entry) for entry in sorted(entries, key=_order))


def mode_with(mode: int, access: bytes | None) -> int:
    """A file's mode as the system shows it beside a list: the group's bits are what the list lets others than
    the owner have at most. Some archives tell the group's own rights instead."""
    if access is not None and len(access) >= _HEAD.size and not (len(access) - _HEAD.size) % _ENTRY.size:
        for entry in _ENTRY.iter_unpack(access[_HEAD.size :]):
            tag, permitted, _ = map(int, entry)
            if _KINDS.get(tag) == "mask":
                return mode & ~0o070 | (permitted & 7) << 3
    return mode


def _order(entry: tuple[int, int, int]) -> tuple[int, int]:
    """As the system wants them: by what they are for, then by number."""
    return entry[0], entry[2]
