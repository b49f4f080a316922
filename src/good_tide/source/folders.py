"""Reading the person's folders: names, metadata and contents, relative to open directory handles.

Nothing here follows a symbolic link, and nothing here writes.
"""

from __future__ import annotations

import errno
import os
import stat
import sys
from operator import itemgetter
from typing import NamedTuple

from good_tide.core.entries import NOTHING_EXTRA, Extra, Kind, Reason, Stat

_FOLDER_FLAGS = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
FILE_FLAGS = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC
ACLS = ("system.posix_acl_access", "system.posix_acl_default")
NAMES = sys.getfilesystemencoding()
"""How names are encoded that are read as text."""
_CACHE_TAG = b"Signature: 8a477f597d28d172789f06886806bc55"
_NO_ATTRIBUTES_HERE = (errno.ENOTSUP, errno.ENOSYS, errno.EINVAL)


class Found(NamedTuple):
    """One name seen in a folder. ``kind`` None: nothing a snapshot can hold (socket, pipe, device)."""

    name: bytes
    text: str
    kind: Kind | None
    info: os.stat_result


class Missed(NamedTuple):
    """One name that was listed but could not be looked at."""

    name: bytes
    reason: Reason
    detail: str


_KINDS = {stat.S_IFREG: Kind.FILE, stat.S_IFDIR: Kind.FOLDER, stat.S_IFLNK: Kind.LINK}


def open_folder(name: str | bytes, inside: int | None = None) -> int:
    """A handle of a folder, by path or by name inside an open folder. A symbolic link is refused
    (``OSError``)."""
    return os.open(name, _FOLDER_FLAGS, dir_fd=inside)


def open_file(name: str, inside: int) -> int:
    """A handle to read a file inside an open folder. A symbolic link is refused (``OSError``); a pipe does
    not block."""
    return os.open(name, FILE_FLAGS, dir_fd=inside)


def scan(handle: int) -> tuple[list[Found], list[Missed]]:
    """All names in an open folder with their metadata, in the order of their bytes.

    Raises:
        OSError: the folder itself cannot be listed.
    """
    found: list[Found] = []
    missed: list[Missed] = []
    make, kinds = tuple.__new__, _KINDS
    with os.scandir(handle) as listing:
        for item in listing:
            text = item.name
            name = text.encode(NAMES, "surrogateescape")
            try:
                info = item.stat(follow_symlinks=False)
            except OSError as error:
                missed.append(Missed(name, reason_of(error), os.strerror(error.errno or 0)))
                continue
            found.append(make(Found, (name, text, kinds.get(info.st_mode & 0o170000), info)))
    found.sort(key=itemgetter(0))
    return found, missed


class Measured(NamedTuple):
    """What is in a folder, for counting: its files by columns, and the names of its sub-folders."""

    names: list[str]
    sizes: list[int]
    modified: list[int]
    folders: list[str]


def measure(handle: int) -> Measured:
    """Files and sub-folders of an open folder, in no order. What cannot be looked at is not counted.

    Raises:
        OSError: the folder itself cannot be listed.
    """
    found = Measured([], [], [], [])
    names, sizes, modified, folders = found
    with os.scandir(handle) as listing:
        for item in listing:
            try:
                info = item.stat(follow_symlinks=False)
            except OSError:
                continue
            kind = info.st_mode & 0o170000
            if kind == stat.S_IFREG:
                names.append(item.name)
                sizes.append(info.st_size)
                modified.append(info.st_mtime_ns)
            elif kind == stat.S_IFDIR:
                folders.append(item.name)
    return found


def has_cache_tag(name: str, inside: int) -> bool:
    """Whether a folder inside an open one carries a CACHEDIR.TAG with its signature (bford.info/cachedir)."""
    try:
        handle = os.open(f"{name}/CACHEDIR.TAG", FILE_FLAGS, dir_fd=inside)
    except OSError:
        return False
    try:
        return os.read(handle, len(_CACHE_TAG)) == _CACHE_TAG
    except OSError:
        return False
    finally:
        os.close(handle)


def reason_of(error: OSError) -> Reason:
    """Why something was left out, from what the operating system said."""
    if error.errno in (errno.ENOENT, errno.ESTALE, errno.ENOTDIR, errno.ELOOP):
        return Reason.VANISHED
    if error.errno in (errno.EAGAIN, errno.EBUSY, errno.ETXTBSY, errno.EDEADLK):
        return Reason.LOCKED
    return Reason.UNREADABLE


def stat_of(info: os.stat_result, trusted: bool = True) -> Stat:
    """The metadata that a snapshot keeps. Untrusted: the change time is 0, so that the next run reads the
    file again."""
    return Stat(
        info.st_mode & 0o7777,
        info.st_uid,
        info.st_gid,
        info.st_size,
        info.st_mtime_ns,
        info.st_ctime_ns if trusted else 0,
        info.st_ino,
    )


def same_state(before: os.stat_result, after: os.stat_result) -> bool:
    """Whether a file was not changed between two looks at it."""
    return (
        before.st_ctime_ns == after.st_ctime_ns
        and before.st_mtime_ns == after.st_mtime_ns
        and before.st_size == after.st_size
        and before.st_ino == after.st_ino
    )


def read_attributes(handle: int) -> tuple[tuple[bytes, bytes], ...]:
    """User extended attributes and POSIX ACLs of an open file or folder, in order of their names.

    Raises:
        OSError: they cannot be read, other than because the file system has none.
    """
    try:
        names = os.listxattr(handle)
    except OSError as error:
        if error.errno in _NO_ATTRIBUTES_HERE:
            return ()
        raise
    if not names:
        return ()
    wanted = sorted(name for name in names if name.startswith("user.") or name in ACLS)
    return tuple((os.fsencode(name), os.getxattr(handle, name)) for name in wanted)


def extra_of(
    info: os.stat_result,
    attributes: tuple[tuple[bytes, bytes], ...] = (),
    unsteady: bool = False,
    target: bytes = b"",
) -> Extra:
    """What an entry has beyond the ordinary."""
    linked = info.st_nlink > 1 and not stat.S_ISDIR(info.st_mode)
    if not linked and not attributes and not unsteady and not target:
        return NOTHING_EXTRA
    return Extra(
        target=target,
        attributes=attributes,
        unsteady=unsteady,
        link_group=(info.st_dev, info.st_ino) if linked else None,
    )


def read_link(name: str, inside: int) -> bytes:
    """Where a symbolic link inside an open folder points."""
    return os.fsencode(os.readlink(name, dir_fd=inside))


def data_segments(handle: int, size: int, blocks: int) -> list[tuple[int, int]]:
    """Begin and end of the parts of a file that are not holes. The whole file where the system cannot
    tell."""
    if not size:
        return []
    if blocks * 512 >= size:
        return [(0, size)]
    segments: list[tuple[int, int]] = []
    at = 0
    try:
        while at < size:
            begin = os.lseek(handle, at, os.SEEK_DATA)
            at = min(size, os.lseek(handle, begin, os.SEEK_HOLE))
            segments.append((begin, at))
    except OSError as error:
        if error.errno == errno.ENXIO:
            return segments
        return [(0, size)]
    finally:
        os.lseek(handle, 0, os.SEEK_SET)
    return segments
