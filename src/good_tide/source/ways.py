"""Reaching a folder by its path without being led astray: links on the way are followed only where nobody
else could have put them."""

from __future__ import annotations

import errno
import os
import stat
from collections import deque
from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr
from good_tide.source.folders import open_folder

_MOST_LINKS = 40
"""As many links as Linux follows on one way (path_resolution(7))."""


def open_way(path: Path, make: bool = False) -> tuple[int, bool]:
    """A handle of a folder by its absolute path, and whether the folder was made now. Links are followed if
    they belong to root or to whoever runs this; one of somebody else's could lead a restore anywhere.

    :param make: make what is missing.

    Raises:
        PlaceError: there is a link of somebody else's on the way. OSError: a folder is missing, or the system
            refuses it.
    """
    waiting = deque(os.fsencode(path).split(b"/"))
    handle, made, links = open_folder("/"), False, 0
    try:
        while waiting:
            part = waiting.popleft()
            if part in (b"", b"."):
                continue
            outer = handle
            try:
                handle = open_folder(part, outer)
                made = False
            except FileNotFoundError:
                if not make:
                    raise
                os.mkdir(part, dir_fd=outer)
                handle, made = open_folder(part, outer), True
            except OSError as error:
                if error.errno not in (errno.ELOOP, errno.ENOTDIR):
                    raise
                links += 1
                target = _own_link(path, part, outer, links, error)
                waiting.extendleft(reversed(target.split(b"/")))
                handle = open_folder("/") if target.startswith(b"/") else os.dup(outer)
            os.close(outer)
    except BaseException:
        os.close(handle)
        raise
    return handle, made


def _own_link(path: Path, name: bytes, inside: int, links: int, error: OSError) -> bytes:
    """Where a link points, if it may be followed."""
    info = os.stat(name, dir_fd=inside, follow_symlinks=False)
    if not stat.S_ISLNK(info.st_mode):
        raise error
    if links > _MOST_LINKS:
        raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))
    if info.st_uid not in (0, os.geteuid()):
        raise PlaceError(
            tr("{fsdecode} on the way to {path} is a link of somebody else's").format(
                fsdecode=os.fsdecode(name), path=path
            ),
            tr("See where it leads, and name that folder instead"),
        )
    return os.readlink(name, dir_fd=inside)
