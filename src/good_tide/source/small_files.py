"""Reading many small files of one folder in one go."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence

import msgspec

from good_tide.source.folders import FILE_FLAGS, read_attributes

Expected = tuple[bytes | str, int, int, int, int]
"""Name (as text it is opened sooner), size in bytes, modified and changed time (ns since 1970 UTC), inode: as
the folder's listing showed them."""


class SmallRead(msgspec.Struct, array_like=True):
    """What came of reading the files of a batch, in order.

    :param contents: None where the file was not exactly as expected; it is then read again with more care.
    :param digests: one for each file, empty where there is no content.
    :param attributes: extended attributes by position, for the few files that have any.
    """

    contents: list[bytes | None]
    digests: list[bytes]
    attributes: dict[int, tuple[tuple[bytes, bytes], ...]]


def read_small(folder: int, files: Sequence[Expected], digest: Callable[[bytes], bytes]) -> SmallRead:
    """Read files of an open folder that are expected to be small, each with one look before and one after.

    Anything out of the ordinary (gone, grown, changed meanwhile, not readable) is left to the caller.
    """
    contents: list[bytes | None] = []
    digests: list[bytes] = []
    attributes: dict[int, tuple[tuple[bytes, bytes], ...]] = {}
    open_file, read, look, close, flags = os.open, os.read, os.fstat, os.close, FILE_FLAGS
    for name, size, modified, changed, inode in files:
        content: bytes | None = None
        try:
            handle = open_file(name, flags, dir_fd=folder)
            try:
                content = read(handle, size + 1)
                after = look(handle)
                if (
                    len(content) != size
                    or after.st_ctime_ns != changed
                    or after.st_mtime_ns != modified
                    or after.st_ino != inode
                ):
                    content = None
                elif found := read_attributes(handle):
                    attributes[len(contents)] = found
            finally:
                close(handle)
        except OSError:
            content = None
        contents.append(content)
        digests.append(digest(content) if content is not None else b"")
    return SmallRead(contents, digests, attributes)
