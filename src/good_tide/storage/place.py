"""Places: where the files of a store lie. The only code that touches a store's directory."""

from __future__ import annotations

import contextlib
import errno
import os
import secrets
import stat
from collections.abc import Callable, Iterator
from pathlib import Path
from types import TracebackType
from typing import Protocol, Self

from good_tide.core.errors import NameTakenError, NotInPlaceError, PlaceError, PlaceFullError

TEMPORARY = "tmp"
"""Folder of files that are not yet complete."""


class NewFile(Protocol):
    """A store file that is being written. It exists under its name only after ``commit``."""

    @property
    def size(self) -> int:
        """Bytes written so far."""
        ...

    def write(self, data: bytes) -> None:
        """Append ``data``.

        Raises:
            PlaceFullError: no room; the file is as long as it was before.
            PlaceError: the disk does not take it.
        """
        ...

    def cut(self, size: int) -> None:
        """Shorten to ``size`` bytes."""
        ...

    def commit(self, exclusive: bool = False) -> None:
        """Make the file durable, then visible under its name, then the name durable.

        :param exclusive: the name must be free.

        Raises:
            NameTakenError: it is not; with ``exclusive`` only.
        """
        ...

    def discard(self) -> None:
        """Throw the file away. Does nothing after ``commit``."""
        ...

    def __enter__(self) -> Self: ...

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        """Discard unless committed."""
        ...


class Place(Protocol):
    """Flat access to the files of a store, by relative name with ``/``."""

    @property
    def title(self) -> str:
        """How the place is called in messages."""
        ...

    def names(self, folder: str) -> list[str]:
        """Names of the files in a folder and its sub-folders, relative to the folder; empty when it does not exist."""
        ...

    def size(self, name: str) -> int:
        """Length in bytes.

        Raises:
            NotInPlaceError: no such file.
        """
        ...

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        """Bytes of a file from ``offset``; fewer than ``length`` when the file ends before.

        Raises:
            NotInPlaceError: no such file.
            PlaceError: the disk does not give it.
        """
        ...

    def create(self, name: str, owner: str) -> NewFile:
        """Begin a new file; ``owner`` begins the name of its temporary file."""
        ...

    def clear_temporary(self, owner: str) -> None:
        """Remove incomplete files that ``owner`` left behind."""
        ...

    def remove(self, name: str) -> None:
        """Remove a file durably; nothing if it is not there."""
        ...

    def total_bytes(self) -> int:
        """Sum of the sizes of all files."""
        ...


@contextlib.contextmanager
def told(doing: str) -> Iterator[None]:
    """Turn errors of the operating system into errors that say what to do.

    Raises:
        PlaceError: one of its kinds, for every ``OSError``.
    """
    try:
        yield
    except FileNotFoundError as error:
        raise NotInPlaceError(f"{doing}: it is not there", "Check that the disk is connected and holds this store") from error
    except OSError as error:
        if error.errno in (errno.ENOSPC, errno.EDQUOT):
            raise PlaceFullError(
                f"{doing}: no room left on the disk", "Free some room, or use a larger disk; what was visible is whole"
            ) from error
        if error.errno == errno.EROFS:
            raise PlaceError(f"{doing}: the disk is read-only", "Mount it so that it can be written") from error
        if error.errno in (errno.EACCES, errno.EPERM):
            raise PlaceError(f"{doing}: not permitted", "Check who owns the folder") from error
        raise PlaceError(f"{doing}: {os.strerror(error.errno or 0)}", "Check the disk and its cable, then try again") from error


class LocalPlace:
    """A directory on a mounted file system.

    :param limit: bytes that all files in it may take together; None: what the disk gives.
    """

    def __init__(self, root: Path, limit: int | None = None) -> None:
        self.root, self.limit = root, limit
        self._taken: int | None = None

    @property
    def title(self) -> str:
        return str(self.root)

    def names(self, folder: str) -> list[str]:
        with told(f"Listing {self.root / folder}"):
            return sorted(self._below(str(self.root / folder), ""))

    def _below(self, directory: str, prefix: str) -> Iterator[str]:
        try:
            listing = os.scandir(directory)
        except FileNotFoundError:
            return
        with listing:
            for item in listing:
                if item.is_dir(follow_symlinks=False):
                    yield from self._below(item.path, f"{prefix}{item.name}/")
                elif item.is_file(follow_symlinks=False):
                    yield prefix + item.name

    def size(self, name: str) -> int:
        with told(f"Looking at {self.root / name}"):
            return os.stat(self.root / name).st_size

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        with told(f"Reading {self.root / name}"):
            handle = os.open(self.root / name, os.O_RDONLY | os.O_CLOEXEC)
            try:
                info = os.fstat(handle)
                if not stat.S_ISREG(info.st_mode):
                    raise NotInPlaceError(f"{self.root / name} is not a file", "Something else stands where a store file should be")
                wanted = info.st_size - offset if length is None else length
                return _read_fully(handle, offset, max(0, min(wanted, info.st_size - offset)))
            finally:
                os.close(handle)

    def create(self, name: str, owner: str) -> NewFile:
        return _LocalNewFile(self.root, name, owner, self._allow if self.limit is not None else None)

    def _allow(self, size: int) -> None:
        """Whether so many bytes more are within the limit; files that are being written count as they grow."""
        if self._taken is None:
            self._taken = self.total_bytes()
        if self.limit is not None and self._taken + size > self.limit:
            raise PlaceFullError(f"{self.root} may not take more than its limit", "Raise the limit, or connect the disk")
        self._taken += size

    def clear_temporary(self, owner: str) -> None:
        for name in self.names(TEMPORARY):
            if name.startswith(owner):
                with told(f"Removing {name}"), contextlib.suppress(FileNotFoundError):
                    os.unlink(self.root / TEMPORARY / name)

    def remove(self, name: str) -> None:
        with told(f"Removing {self.root / name}"), contextlib.suppress(FileNotFoundError):
            os.unlink(self.root / name)
            sync_folder((self.root / name).parent)
            self._taken = None

    def total_bytes(self) -> int:
        total, waiting = 0, [str(self.root)]
        with told(f"Listing {self.root}"):
            while waiting:
                with os.scandir(waiting.pop()) as listing:
                    for item in listing:
                        if item.is_dir(follow_symlinks=False):
                            waiting.append(item.path)
                        elif item.is_file(follow_symlinks=False):
                            total += item.stat(follow_symlinks=False).st_size
        return total


def _read_fully(handle: int, offset: int, length: int) -> bytes:
    data = os.pread(handle, length, offset)
    while len(data) < length:
        more = os.pread(handle, length - len(data), offset + len(data))
        if not more:
            break
        data += more
    return data


class _LocalNewFile:
    """Atomic write: temporary file, fsync, rename, fsync of the folder."""

    def __init__(self, root: Path, name: str, owner: str, allow: Callable[[int], None] | None = None) -> None:
        self._allow = allow
        self._root, self._target = root, root / name
        self._temporary = root / TEMPORARY / f"{owner}{secrets.token_hex(8)}"
        self.size = 0
        self._handle: int | None = None
        with told(f"Writing to {root}"):
            _make_folder(root, self._temporary.parent)
            self._handle = os.open(self._temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)

    def write(self, data: bytes) -> None:
        handle = self._open_handle()
        if self._allow is not None:
            self._allow(len(data))
        with told(f"Writing to {self._root}"):
            view, start = memoryview(data), self.size
            try:
                while view:
                    view = view[os.write(handle, view) :]
            except OSError:
                os.ftruncate(handle, start)
                os.lseek(handle, start, os.SEEK_SET)
                raise
            self.size = start + len(data)

    def cut(self, size: int) -> None:
        handle = self._open_handle()
        with told(f"Writing to {self._root}"):
            os.ftruncate(handle, size)
            os.lseek(handle, size, os.SEEK_SET)
            self.size = size

    def commit(self, exclusive: bool = False) -> None:
        handle = self._open_handle()
        with told(f"Writing to {self._root}"):
            os.fsync(handle)
            os.close(handle)
            self._handle = None
            _make_folder(self._root, self._target.parent)
            if exclusive:
                self._take_name()
            else:
                os.rename(self._temporary, self._target)
            sync_folder(self._target.parent)

    def _take_name(self) -> None:
        """Rename to a free name: by a link where the file system has links, which no other can come before."""
        try:
            os.link(self._temporary, self._target)
        except FileExistsError:
            os.unlink(self._temporary)
            raise NameTakenError(f"{self._target} was made by another at the same moment", "Use that one") from None
        except OSError as error:
            if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK):
                raise
            if self._target.exists():
                os.unlink(self._temporary)
                raise NameTakenError(f"{self._target} was made by another at the same moment", "Use that one") from None
            os.rename(self._temporary, self._target)
        else:
            os.unlink(self._temporary)

    def discard(self) -> None:
        if self._handle is not None:
            os.close(self._handle)
            self._handle = None
            with contextlib.suppress(OSError):
                os.unlink(self._temporary)

    def _open_handle(self) -> int:
        if self._handle is None:
            raise ValueError("the file is already committed or discarded")
        return self._handle

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.discard()


def _make_folder(root: Path, folder: Path) -> None:
    """Make ``folder`` below ``root``, each new level durable in the one above; ``root`` itself must be there."""
    if folder == root or folder.is_dir():
        return
    _make_folder(root, folder.parent)
    with contextlib.suppress(FileExistsError):
        os.mkdir(folder, 0o700)
    sync_folder(folder.parent)


def sync_folder(folder: Path) -> None:
    """Make the names in a folder durable. File systems that cannot say so with EINVAL."""
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(handle)
    except OSError as error:
        if error.errno != errno.EINVAL:
            raise
    finally:
        os.close(handle)
