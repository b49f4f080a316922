"""What is in an archive: names, sizes and times. Nothing of it is unpacked to anywhere."""

from __future__ import annotations

import contextlib
import io
import tarfile
import zipfile
import zlib
from datetime import datetime
from typing import IO

import zstandard

from good_tide.core.previews import Listed, ListingPreview, Preview
from good_tide.viewing.content import Content, Unreadable

_MOST_LISTED = 4000
_LONGEST_NAME = 400
_MOST_LOOKED = 200_000
_MOST_UNPACKED = 512 << 20
_TAR_MARK = slice(257, 262)
_PACKED = {b"\x1f\x8b": "gz", b"BZh": "bz2", b"\xfd7zXZ\0": "xz", b"\x28\xb5\x2f\xfd": "zst"}


class ZipReader:
    """ZIP archives (APPNOTE 6.3)."""

    limit = 96 << 20

    def matches(self, name: str, head: bytes) -> bool:
        return head.startswith((b"PK\x03\x04", b"PK\x05\x06"))

    def preview(self, content: Content) -> Preview:
        if not content.whole:
            raise Unreadable("The archive is too large to be listed here.")
        try:
            with zipfile.ZipFile(content.stream()) as archive:
                infos = archive.infolist()
        except (zipfile.BadZipFile, ValueError, EOFError) as error:
            raise Unreadable("The ZIP archive is damaged: its list cannot be read.") from error
        listed = tuple(
            Listed(info.filename[:_LONGEST_NAME], info.file_size, _zip_time(info.date_time), info.is_dir())
            for info in infos[:_MOST_LISTED]
        )
        total = sum(info.file_size for info in infos)
        return ListingPreview(listed, len(infos), total, "ZIP archive", len(infos) > len(listed))


def _zip_time(stamp: tuple[int, int, int, int, int, int]) -> float | None:
    """The archive says no zone: as the machine that made it, which is taken to be this one."""
    with contextlib.suppress(ValueError, OverflowError):
        return datetime(*stamp).timestamp()
    return None


class TarReader:
    """Archives of POSIX tar (pax and ustar), packed or not."""

    limit = 96 << 20

    def matches(self, name: str, head: bytes) -> bool:
        packed = any(head.startswith(mark) for mark in _PACKED)
        named = name.lower().endswith((".tgz", ".tbz2", ".txz", ".tzst")) or ".tar" in name.lower()
        return head[_TAR_MARK] == b"ustar" or (packed and named)

    def preview(self, content: Content) -> Preview:
        how = next((how for mark, how in _PACKED.items() if content.data.startswith(mark)), "")
        items: list[Listed] = []
        count = total = 0
        broken = False
        plain: IO[bytes] = content.stream()
        if how == "zst":
            unpacker = zstandard.ZstdDecompressor(max_window_size=64 << 20)
            plain = unpacker.stream_reader(plain, closefd=False)
        try:
            mode = "r|" if how in ("", "zst") else f"r|{how}"
            with tarfile.open(fileobj=_Bounded(plain), mode=mode) as archive:  # type: ignore[call-overload]
                for info in archive:
                    count += 1
                    total += info.size
                    if len(items) < _MOST_LISTED:
                        items.append(
                            Listed(info.name[:_LONGEST_NAME], info.size, float(info.mtime), info.isdir())
                        )
                    if count >= _MOST_LOOKED:
                        break
        except (tarfile.TarError, EOFError, OSError, zlib.error, zstandard.ZstdError, ValueError) as error:
            if not items:
                raise Unreadable("The archive is damaged: nothing in it can be listed.") from error
            broken = True
        cut = broken or count > len(items) or not content.whole
        return ListingPreview(tuple(items), count, total, f"{how or 'plain'} tar archive", cut)


class _Bounded(io.RawIOBase):
    """A stream that ends after so many bytes, whatever it unpacks to."""

    def __init__(self, inner: IO[bytes]) -> None:
        self._inner, self._left = inner, _MOST_UNPACKED

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        found = self._inner.read(self._left if size < 0 else min(size, self._left))
        self._left -= len(found)
        return found
