"""A history as a file system that is only read, by FUSE (fuse(4)), as an ordinary user.

Whoever mounts it is shown as the owner of everything: the numbers of other owners would lock them out. A part
that is lost gives an input error; so does what a disk that has gone does not answer.
"""

from __future__ import annotations

import ctypes
import ctypes.util
import errno
import functools
import itertools
import operator
import os
import struct
import time
from collections.abc import Callable
from typing import Any

from good_tide.core.errors import GoodTideError
from good_tide.lines.mounts import OWN_TYPE
from good_tide.operations.mount.reading import ChunkCache, OpenFile
from good_tide.operations.mount.stored_folder import Item, Row, row_of, rows_of
from good_tide.operations.mount.tree import PastTree

_library = ctypes.util.find_library("fuse3")
if _library is not None:
    os.environ.setdefault("FUSE_LIBRARY_PATH", _library)
import mfusepy  # noqa: E402  (which looks for its library as it is imported)

_KNOWN_SECONDS = 5.0
"""So long the system need not ask again."""
_READ_AHEAD = 1 << 20
_PLUS = 1 << 1
"""``FUSE_FILL_DIR_PLUS``: what is told of a name while a folder is listed is all that there is to know."""
_PLUS_AUTO = 1 << 14
"""``FUSE_CAP_READDIRPLUS_AUTO``: only the beginning of a long folder is listed with what is known of each
name; the rest is asked for one by one."""
_NEVER_KEPT = b"security."
_LISTS = b"system.posix_acl_"
_KEPT_ATTRIBUTES = (b"user.", _LISTS)

_STAT_FIELDS = (
    ("st_ino", "Q"),
    ("st_nlink", "N"),
    ("st_mode", "I"),
    ("st_uid", "I"),
    ("st_gid", "I"),
    ("st_size", "q"),
    ("st_blocks", "q"),
    ("st_atimespec", "qq"),
    ("st_mtimespec", "qq"),
    ("st_ctimespec", "qq"),
)


class _Stat:
    """Writes these fields into the system's ``struct stat`` at once: to set each takes ten times as long.
    Where they lie differs between kinds of processors."""

    def __init__(self) -> None:
        letters, at, number = "=", 0, 0
        numbers: list[int] = []
        places = []
        for name, kind in _STAT_FIELDS:
            field = getattr(mfusepy.c_stat, name)
            kind = {4: "I", 8: "Q"}[field.size] if kind == "N" else kind
            places.append((field.offset, kind, range(number, number + len(kind))))
            number += len(kind)
        for offset, kind, given in sorted(places):
            letters += f"{offset - at}x{kind}"
            at = offset + struct.calcsize("=" + kind)
            numbers += given
        self._write = struct.Struct(letters).pack_into
        self._in_order = operator.itemgetter(*numbers)

    def write(self, into: Any, *values: int) -> None:
        """Write the values of the fields, in the order in which they are named above, a time as two."""
        self._write(into, 0, *self._in_order(values))


_write_stat = _Stat().write
Call = Callable[..., int]


def _answering(call: Call) -> Call:
    """Errors as the system knows them."""

    @functools.wraps(call)
    def answer(*given: Any) -> int:
        try:
            return call(*given)
        except FileNotFoundError:
            return -errno.ENOENT
        except (GoodTideError, TimeoutError):
            return -errno.EIO

    return answer


class _Asked(mfusepy.Operations):  # type: ignore[misc]
    """Names what the system may ask: ``PastMount`` answers it as it comes, without a detour over text."""

    use_ns = True

    def _never(self, *given: object) -> None:
        raise NotImplementedError

    getattr = readlink = readdir = open = read = release = getxattr = listxattr = access = statfs = _never
    init_with_config = destroy = _never


class PastMount(mfusepy.FUSE):  # type: ignore[misc]
    """Mounts, and answers until it is mounted no more.

    :param chunks: reads what files lie in.
    :param ready: told when it is mounted.
    :ivar used: when something was asked last, seconds of the monotonic clock.
    """

    def __init__(
        self, tree: PastTree, read: ChunkCache, folder: str, called: str, ready: Callable[[PastMount], None]
    ) -> None:
        self._tree, self._read, self._ready = tree, read, ready
        self._user, self._group = os.getuid(), os.getgid()
        self._opened: dict[int, OpenFile | bytes] = {}
        self._numbers = itertools.count(1)
        self._listed: tuple[object, list[Row]] = (None, [])
        """The folder that was listed last, and what is in it in order."""
        self._info = mfusepy.c_stat()
        self.used = time.monotonic()
        super().__init__(
            _Asked(),
            folder,
            foreground=True,
            nothreads=True,
            ro=True,
            nosuid=True,
            nodev=True,
            fsname=called.replace(",", " "),
            subtype=OWN_TYPE.removeprefix("fuse."),
        )

    @property
    def is_open(self) -> bool:
        """Whether somebody has a file open."""
        return bool(self._opened)

    def _init(self, conn: Any, config: Any) -> None:
        # Where links lead is not to be kept (FUSE_CAP_CACHE_SYMLINKS): “latest” leads elsewhere tomorrow.
        conn.contents.max_readahead = _READ_AHEAD
        conn.contents.want &= ~_PLUS_AUTO
        told = config.contents
        told.use_ino, told.kernel_cache = 1, 1  # what lies in a snapshot never changes
        told.attr_timeout = told.entry_timeout = _KNOWN_SECONDS
        told.negative_timeout = 1.0
        self._ready(self)

    def destroy(self, data: Any) -> None:
        """It is mounted no more."""

    def _item(self, path: bytes) -> Item:
        self.used = time.monotonic()
        return self._tree.item(path)

    def _fill(self, into: Any, row: Row) -> None:
        """Write what is known of a name as ``stat`` shows it."""
        _, inode, links, mode, size, blocks, modified = row
        time_of = divmod(modified, 1_000_000_000)
        _write_stat(into, inode, links, mode, self._user, self._group, size, blocks, *time_of * 3)

    @_answering
    def getattr_fuse_3(self, path: bytes, buf: Any, fip: Any) -> int:
        """Metadata."""
        self._fill(buf.contents, row_of(b"", path, self._item(path)))
        return 0

    @_answering
    def readdir_fuse_3(self, path: bytes, buf: Any, filler: Any, offset: int, fip: Any, flags: int) -> int:
        """What is in a folder, with all that is known of each name, so that none is asked for one by one.

        Each name is given its place: without, version 3.14 of the library keeps what is known to itself.
        """
        self.used = time.monotonic()
        inside = self._tree.inside(path)
        if self._listed[0] is not inside:
            self._listed = inside, rows_of(inside, path)
        for at, name in enumerate((b".", b"..")):
            if at >= offset and filler(buf, name, None, at + 1, 0):
                return 0
        begin, info = max(0, offset - 2), self._info
        for at, row in enumerate(itertools.islice(self._listed[1], begin, None), begin + 3):
            self._fill(info, row)
            if filler(buf, row.name, info, at, _PLUS):
                break
        return 0

    @_answering
    def readlink(self, path: bytes, buf: Any, size: int) -> int:
        """Where a symbolic link points."""
        target = self._item(path).whole().extra.target[: size - 1] + b"\0"
        ctypes.memmove(buf, target, len(target))
        return 0

    @_answering
    def listxattr(self, path: bytes, buf: Any, size: int) -> int:
        """Names of extended attributes."""
        attributes = self._item(path).whole().extra.attributes
        return _handed(b"".join(name + b"\0" for name, _ in attributes), buf, size)

    @_answering
    def getxattr(self, path: bytes, name: bytes, buf: Any, size: int, *more: Any) -> int:
        """An extended attribute; access control lists are among them."""
        if name.startswith(_NEVER_KEPT) or (self._tree.has_no_lists and name.startswith(_LISTS)):
            return -errno.ENOTSUP  # whoever lists many files asks only once then
        if name.startswith(_KEPT_ATTRIBUTES):
            for one, value in self._item(path).entry.extra.attributes:
                if one == name:
                    return _handed(value, buf, size)
        return -errno.ENODATA

    @_answering
    def open(self, path: bytes, fip: Any) -> int:
        """Open a file to read."""
        if fip.contents.flags & os.O_ACCMODE != os.O_RDONLY:
            return -errno.EROFS
        item = self._item(path)
        number = fip.contents.fh = next(self._numbers)
        self._opened[number] = (
            item.content if item.content is not None else OpenFile(item.whole().extents, self._read)
        )
        return 0

    @_answering
    def read(self, path: bytes | None, buf: Any, size: int, offset: int, fip: Any) -> int:
        """Read from an open file."""
        self.used = time.monotonic()
        opened = self._opened[fip.contents.fh]
        data = opened[offset : offset + size] if isinstance(opened, bytes) else opened.read(size, offset)
        ctypes.memmove(buf, data, len(data))
        return len(data)

    def release(self, path: bytes | None, fip: Any) -> int:
        """Nobody reads it any more."""
        self._opened.pop(fip.contents.fh, None)
        return 0

    def access(self, path: bytes, wanted: int) -> int:
        """Everything may be read, and nothing written."""
        return -errno.EROFS if wanted & os.W_OK else 0

    def statfs(self, path: bytes, buf: Any) -> int:
        """There is no room."""
        room = buf.contents
        room.f_bsize = room.f_frsize = 4096
        room.f_namemax = 255
        return 0


def _handed(value: bytes, buf: Any, size: int) -> int:
    """Hand an attribute over; its length alone where there is no room for it yet."""
    if not size:
        return len(value)
    if len(value) > size:
        return -errno.ERANGE
    ctypes.memmove(buf, value, len(value))
    return len(value)
