"""What a snapshot holds about one name in a folder."""

from __future__ import annotations

import enum
from collections.abc import Iterable
from typing import Protocol

import msgspec

from good_tide.core.identifiers import ChunkId, ContentDigest, PageId, chunk_of, page_id, part_of


class Kind(enum.StrEnum):
    """What stands behind a name. The values are the letters stored in the format."""

    FILE = "f"
    FOLDER = "d"
    LINK = "l"
    LEFT_OUT = "x"

    @property
    def word(self) -> str:
        """The word shown to people and in JSON."""
        return {"f": "file", "d": "folder", "l": "link", "x": "left-out"}[self.value]


class Reason(enum.StrEnum):
    """Why something is not in a snapshot, or not reliably."""

    SPECIAL = "special"
    UNREADABLE = "unreadable"
    VANISHED = "vanished"
    LOCKED = "locked"
    STORE = "store"
    TOO_DEEP = "too-deep"

    @property
    def is_gap(self) -> bool:
        """Whether something a person would want back is missing: sockets, pipes, devices and the store are
        not."""
        return self not in (Reason.SPECIAL, Reason.STORE)


DEEPEST = 2000
"""How deep folders are nested in a snapshot at most. Of each level a walk holds a handle open."""


class Extent(msgspec.Struct, frozen=True, gc=False):
    """``length`` bytes of a file: from ``offset`` in a chunk, or a hole (zeros, not stored) where ``chunk``
    is None."""

    chunk: ChunkId | None
    offset: int
    length: int


class ExtentLike(Protocol):
    """An extent, or a part of a file being read that will have become one when its page is written."""

    @property
    def chunk(self) -> ChunkId | None: ...

    @property
    def offset(self) -> int: ...

    @property
    def length(self) -> int: ...


ACCESS_LISTS = b"system.posix_acl_"
"""How the names of attributes begin that are POSIX access control lists."""


class Extra(msgspec.Struct, frozen=True, omit_defaults=True):
    """What few entries have.

    :param target: where a symbolic link points, as stored in the link.
    :param attributes: extended attributes, name and value, POSIX ACLs among them.
    :param link_group: device and inode numbers shared by the hard links of one file; None without further
        links.
    :param unsteady: the file changed each time while it was read; its content may mix two states.
    :param reason: why a left-out entry is left out, with ``detail`` in words of the operating system.
    """

    target: bytes = b""
    attributes: tuple[tuple[bytes, bytes], ...] = ()
    link_group: tuple[int, int] | None = None
    unsteady: bool = False
    reason: str = ""
    detail: str = ""


NOTHING_EXTRA = Extra()


class Stat(msgspec.Struct, frozen=True, gc=False):
    """Metadata as the operating system gives it. Times in nanoseconds since 1970 UTC, size in bytes."""

    mode: int = 0
    uid: int = 0
    gid: int = 0
    size: int = 0
    modified: int = 0
    changed: int = 0
    inode: int = 0


NO_STAT = Stat()


class Entry(msgspec.Struct, frozen=True, gc=False):
    """One name in a folder of a snapshot.

    For a file, ``extents`` are its content in order. For a folder, they are its listing: a page each, of
    length 0 where it is the whole chunk. Links and left-out entries have none; only files have a digest.
    """

    name: bytes
    kind: Kind
    stat: Stat = NO_STAT
    digest: ContentDigest = ContentDigest(b"")
    extents: tuple[ExtentLike, ...] = ()
    extra: Extra = NOTHING_EXTRA

    @property
    def pages(self) -> tuple[PageId, ...]:
        """The pages of a folder's listing."""
        return tuple(
            page_id(extent.chunk, extent.offset, extent.length)
            for extent in self.extents
            if extent.chunk is not None
        )


def page_extents(pages: Iterable[PageId]) -> tuple[Extent, ...]:
    """What the entry of a folder with these pages has as its extents."""
    return tuple(Extent(chunk_of(page), *part_of(page)) for page in pages)
