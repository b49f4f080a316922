"""Whether a file became noise: something of which nothing can be read any more."""

from __future__ import annotations

from collections.abc import Sequence

from good_tide.storage.compression import shrink

_LEAST = 96
"""Of fewer bytes nothing can be said."""
_HIGH = (0.35, 0.65)
"""In noise about half of all bytes are above 127."""
_LOOKED_AT = 4096
_CODED = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/=-_\r\n")
"""What noise is made of when it is written as text, as Base64 or in hexadecimal digits (RFC 4648)."""
_LEAST_CODED = 0.46
"""Noise as text is not compressed to less than this part; plain words and numbers are."""
_BEGINNINGS = (
    # pictures
    b"\x89PNG",
    b"\xff\xd8\xff",
    b"GIF8",
    b"BM",
    b"II*\0",
    b"MM\0*",
    b"8BPS",
    b"\0\0\1\0",
    # archives and what is made of them
    b"PK\x03\x04",
    b"PK\x05\x06",
    b"\x1f\x8b",
    b"BZh",
    b"\xfd7zXZ",
    b"\x28\xb5\x2f\xfd",
    b"\x04\x22\x4d\x18",
    b"7z\xbc\xaf",
    b"Rar!",
    b"PACK",
    b"\x78\x01",
    b"\x78\x9c",
    b"\x78\xda",
    # documents, data bases, programs, fonts
    b"%PDF",
    b"\xd0\xcf\x11\xe0",
    b"SQLite format 3",
    b"\x7fELF",
    b"MZ",
    b"wOFF",
    b"wOF2",
    # sound and film
    b"OggS",
    b"fLaC",
    b"ID3",
    b"\xff\xfb",
    b"\xff\xf3",
    b"RIFF",
    b"\x1aE\xdf\xa3",
    # what people encrypt themselves
    b"-----BEGIN",
    b"age-encryption",
)
"""How files of known kinds begin. Of some films and pictures bytes five to eight, or nine to twelve, say
so."""
_INNER = (b"ftyp", b"moov", b"mdat", b"WEBP")


def is_noise(data: bytes, beginning: bool) -> bool:
    """Whether bytes look like nothing: they cannot be compressed, high and low values are as many, and they
    begin like no known kind of file; or the same written as text.

    :param beginning: they are a file's beginning.
    """
    if len(data) < _LEAST or (beginning and _is_known_kind(data)):
        return False
    looked_at = data[:_LOOKED_AT]
    if _is_coded(looked_at):
        return True
    high = sum(byte > 127 for byte in looked_at) / len(looked_at)
    return _HIGH[0] <= high <= _HIGH[1] and shrink(data, level=1) is None


def _is_coded(data: bytes) -> bool:
    if not _CODED.issuperset(data) or data.count(b"\n") > len(data) // 32:
        return False
    small = shrink(data, level=1)
    return small is None or len(small) >= _LEAST_CODED * len(data)


def _is_known_kind(data: bytes) -> bool:
    return data.startswith(_BEGINNINGS) or data[4:8] in _INNER or data[8:12] in _INNER


def became_noise(before: Sequence[bytes], after: Sequence[bytes]) -> bool:
    """Whether a file was something and is noise now.

    :param before: stretches of it: its beginning, and some from inside where it is long enough.
    :param after: the same of what it is now.
    """
    pairs = list(zip(before, after, strict=False))
    return any(
        _said_something(then) and is_noise(now, not number) and not is_noise(then, not number)
        for number, (then, now) in enumerate(pairs)
    )


def _said_something(data: bytes) -> bool:
    """Whether bytes were more than room that was reserved."""
    return len(data) >= _LEAST and data.count(data[:1]) < len(data)
