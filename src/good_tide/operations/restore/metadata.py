"""Giving what is restored its owner, permissions, attributes and times; by handles, and nothing that gives
powers without the owner."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import grp
import os
import pwd
from collections.abc import Iterator, Mapping

from good_tide.core.entries import Extra
from good_tide.core.records import SnapshotRecord
from good_tide.core.translation import tr
from good_tide.core.words import number_words, printable
from good_tide.operations.restore.steps import Step
from good_tide.source.folders import ACLS

_RAISING = 0o6000
"""Mode bits that let whoever runs a file be its owner or group."""
_CAPABILITY = "security.capability"
_AT_EMPTY_PATH = 0x1000
_libc = ctypes.CDLL(None, use_errno=True)


class Metadata:
    """Gives metadata to what is restored below one target. What the target cannot hold is noted, and the
    thing is there all the same."""

    def __init__(self, owners: Mapping[str, str] = {}) -> None:
        """:param owners: names of users and groups as they were, and as they are here."""
        self._called = owners
        self._owners: dict[tuple[int, int, int], tuple[int, int]] = {}
        self._named = (_is_user, _is_group)
        self._refused: dict[str, tuple[bytes, int]] = {}

    def refused(self) -> list[tuple[bytes, str]]:
        """What the target did not hold, each once: of which path first, and in words; from now on
        forgotten."""
        found = [
            (
                first,
                words
                + (
                    " " + tr("(and of {count} more)").format(count=number_words(count - 1))
                    if count > 1
                    else ""
                ),
            )
            for words, (first, count) in self._refused.items()
        ]
        self._refused.clear()
        return found

    def of_link(self, step: Step, name: bytes, folder: int) -> None:
        """Owner and times of a link in an open folder."""
        modified = step.entry.stat.modified
        link = os.open(name, os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
        try:
            self._own(step, link)
        finally:
            os.close(link)
        with self._noted(step, tr("times not restored")):
            os.utime(name, ns=(modified, modified), dir_fd=folder, follow_symlinks=False)

    def of_open(self, step: Step, handle: int) -> None:
        """Owner, attributes, mode and times of an open file or folder."""
        stat, extra = step.entry.stat, step.entry.extra
        owned = self._own(step, handle)
        if extra.attributes:
            self._attributes(step, handle, extra, owned)
        mode = stat.mode
        if mode & _RAISING and not owned:
            mode &= ~_RAISING
            self._note(
                step, tr("set-user-id and set-group-id bits not restored: the owner is another one now")
            )
        with self._noted(step, tr("permissions not restored")):
            os.fchmod(handle, mode)
        with self._noted(step, tr("times not restored")):
            os.utime(handle, ns=(stat.modified, stat.modified))

    def _own(self, step: Step, handle: int) -> bool:
        """Give a thing its owner, by its handle and never by its name. Whether it has the owner and the group
        that it had."""
        stat = step.entry.stat
        key = id(step.snapshot), stat.uid, stat.gid
        wanted = self._owners.get(key)
        if wanted is None:
            wanted = self._owners[key] = _owner_here(step.snapshot.record, stat.uid, stat.gid, self._called)
            for known, number, kind in zip(self._named, (stat.uid, stat.gid), ("user", "group"), strict=True):
                name = step.snapshot.record.owners.get(f"{kind[0]}{number}", "")
                if os.geteuid() == 0 and name and not known(self._called.get(name, name)):
                    self._note(
                        step,
                        tr("there is no {kind} {encode} here: the number {number} stays").format(
                            kind=kind, encode=printable(name.encode()), number=number
                        ),
                    )
        if os.geteuid() == 0:
            with self._noted(step, tr("owner not restored")):
                _chown(handle, *wanted)
        if not stat.mode & _RAISING and not step.entry.extra.attributes:
            return False
        now = os.fstat(handle)
        return (now.st_uid, now.st_gid) == wanted

    def _attributes(self, step: Step, handle: int, extra: Extra, owned: bool) -> None:
        for name, value in extra.attributes:
            text = os.fsdecode(name)
            if not text.startswith("user.") and text not in ACLS and not (owned and text == _CAPABILITY):
                self._note(
                    step, tr("attribute {name} not restored: it gives powers").format(name=printable(name))
                )
                continue
            with self._noted(step, tr("attribute {name} not restored").format(name=printable(name))):
                os.setxattr(handle, name, value)

    @contextlib.contextmanager
    def _noted(self, step: Step, what: str) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            if error.errno in (errno.ENOSPC, errno.EDQUOT):
                raise
            self._note(step, f"{what}: {os.strerror(error.errno or 0)}")

    def _note(self, step: Step, words: str) -> None:
        first, count = self._refused.get(words, (step.source, 0))
        self._refused[words] = first, count + 1


def _chown(handle: int, uid: int, gid: int) -> None:
    """Change the owner of whatever a handle stands for, a link included (fchownat(2) with an empty name)."""
    if _libc.fchownat(handle, b"", uid, gid, _AT_EMPTY_PATH) != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))


def _is_user(name: str) -> bool:
    with contextlib.suppress(KeyError):
        return pwd.getpwnam(name) is not None
    return False


def _is_group(name: str) -> bool:
    with contextlib.suppress(KeyError):
        return grp.getgrnam(name) is not None
    return False


def _owner_here(record: SnapshotRecord, uid: int, gid: int, called: Mapping[str, str]) -> tuple[int, int]:
    """The numbers on this machine of the user and group that the names in the snapshot mean.

    :param called: names as they were, and as they are here.
    """
    user, group = record.owners.get(f"u{uid}", ""), record.owners.get(f"g{gid}", "")
    with contextlib.suppress(KeyError):
        uid = pwd.getpwnam(called.get(user, user)).pw_uid
    with contextlib.suppress(KeyError):
        gid = grp.getgrnam(called.get(group, group)).gr_gid
    return uid, gid
