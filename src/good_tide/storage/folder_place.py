"""Stores in folders: the only code that touches the directory of a store."""

from __future__ import annotations

import contextlib
import errno
import os
import secrets
import stat
from collections.abc import Callable, Iterator
from pathlib import Path
from types import TracebackType
from typing import Self

import msgspec

from good_tide.core.errors import (
    DamageError,
    NameTakenError,
    NotInPlaceError,
    PlaceError,
    PlaceFullError,
)
from good_tide.core.translation import tr
from good_tide.storage.folder_sizes import FolderSizes, length_of
from good_tide.storage.place import READ_LIMIT, TEMPORARY, NewFile, Place, StorePlace, disk_errors, no_folder

_DEEPEST = 3
"""How many folders deep a store goes, and is looked into."""
STORE_SIZES = FolderSizes()
"""What was counted of stores in folders, in this process."""
_FOLDER_FLAGS = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_READ_FLAGS = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC


class FolderPlace(msgspec.Struct, frozen=True):
    """A folder on a disk of this machine, or on a share that is mounted."""

    path: Path

    @classmethod
    def named(cls, words: str) -> Self | None:
        """The folder that a person names; every path names one."""
        return cls(Path(os.path.abspath(words)))

    @property
    def called(self) -> str:
        return str(self.path)

    @property
    def folder(self) -> Path | None:
        return self.path

    def check_there(self) -> None:
        if not os.path.isdir(self.path):
            raise no_folder(self.path)

    def make(self) -> None:
        with disk_errors(tr("Making a store in {path}").format(path=self.path)):
            self.path.mkdir(mode=0o700, parents=True, exist_ok=True)

    def files(self, limit: int | None = None) -> Place:
        return LocalPlace(self.path, limit)

    def own_files(self, limit: int | None = None) -> Place:
        """The same of a folder of this program's own, which is made when something comes into it."""
        return LocalPlace(self.path, limit, may_be_missing=True)


class LocalPlace:
    """A directory on a mounted file system.

    Links inside it are never followed: whoever can write to the disk could lead this program elsewhere with
    one.

    :param limit: bytes that all files in it may take together; None: what the disk gives.
    :param may_be_missing: the directory itself, which then holds nothing; otherwise it is away.
    """

    def __init__(self, root: Path, limit: int | None = None, may_be_missing: bool = False) -> None:
        self.root, self.limit, self._may_be_missing = root, limit, may_be_missing
        self._taken: int | None = None

    @property
    def title(self) -> str:
        return str(self.root)

    @property
    def where(self) -> StorePlace:
        return FolderPlace(self.root)

    def expect(self, folder: str) -> None:
        """Nothing has to be asked for ahead."""

    def look_anew(self) -> None:
        """Nothing is remembered."""

    def names(self, folder: str) -> list[str]:
        with disk_errors(tr("Listing {root}").format(root=self.root / folder)):
            found = []
            for inside, items in self._files(folder):
                names = [item.name for item in items]
                found += [inside + name for name in names] if inside else names
            return sorted(found)

    def sizes(self, folder: str) -> list[tuple[str, int]]:
        """The files in a folder and its sub-folders, each with its bytes."""
        with disk_errors(tr("Listing {root}").format(root=self.root / folder)):
            return sorted(
                [
                    (f"{inside}{item.name}", length_of(item))
                    for inside, items in self._files(folder)
                    for item in items
                ]
            )

    def _files(self, folder: str) -> Iterator[tuple[str, list[os.DirEntry[str]]]]:
        """The files in a folder and in each of its sub-folders, as far down as a store goes: how their names
        begin, and their entries, while that sub-folder is open."""
        waiting = [("", 0)]
        while waiting:
            inside, depth = waiting.pop()
            try:
                handle = self._open(f"{folder}/{inside}")
            except FileNotFoundError:
                continue
            try:
                with os.scandir(handle) as listing:
                    items = list(listing)
                files = [item for item in items if item.is_file(follow_symlinks=False)]
                if depth < _DEEPEST and len(files) < len(items):
                    folders = [item.name for item in items if item.is_dir(follow_symlinks=False)]
                    waiting += [(f"{inside}{name}/", depth + 1) for name in folders]
                yield inside, files
            finally:
                os.close(handle)

    def _open(self, folder: str) -> int:
        """A handle of a folder in it.

        Raises:
            FileNotFoundError: that is not there. PlaceError: the whole directory is away.
        """
        try:
            return _open_below(self.root, folder)
        except FileNotFoundError:
            if not self._may_be_missing:
                FolderPlace(self.root).check_there()
            raise

    def size(self, name: str) -> int:
        with (
            disk_errors(tr("Looking at {root}").format(root=self.root / name)),
            _folder_of(self.root, name) as (folder, last),
        ):
            return self._look(name, folder, last).st_size

    def _look(self, name: str, folder: int, last: str) -> os.stat_result:
        """A file's metadata. What is no file (a link, a pipe, a device) is not looked into, and counts as not
        there."""
        info = os.stat(last, dir_fd=folder, follow_symlinks=False)
        if not stat.S_ISREG(info.st_mode):
            raise NotInPlaceError(
                tr("{root} is not a file").format(root=self.root / name),
                tr("Something else stands where a store file should be"),
            )
        return info

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        with (
            disk_errors(tr("Reading {root}").format(root=self.root / name)),
            _folder_of(self.root, name) as (folder, last),
        ):
            self._look(name, folder, last)
            handle = os.open(last, _READ_FLAGS, dir_fd=folder)
            try:
                info = os.fstat(handle)
                if not stat.S_ISREG(info.st_mode):
                    raise NotInPlaceError(
                        tr("{root} is not a file").format(root=self.root / name),
                        tr("Something else stands where a store file should be"),
                    )
                rest = max(0, info.st_size - offset)
                wanted = rest if length is None else min(length, rest)
                if wanted > READ_LIMIT:
                    raise DamageError(
                        tr("{name} is larger than any file that is read whole").format(name=name), file=name
                    )
                return _read_fully(handle, offset, wanted)
            finally:
                os.close(handle)

    def create(self, name: str, owner: str) -> NewFile:
        return _LocalNewFile(self.root, name, owner, self._allow if self.limit is not None else None)

    def _allow(self, size: int) -> None:
        """Whether so many bytes more are within the limit; files that are being written count as they
        grow."""
        if self._taken is None:
            self._taken = self.total_bytes()
        if self.limit is not None and self._taken + size > self.limit:
            raise PlaceFullError(
                tr("{root} may not take more than its limit").format(root=self.root),
                tr("Raise the limit, or connect the disk"),
            )
        self._taken += size

    def clear_temporary(self, owner: str) -> None:
        for name in self.names(TEMPORARY):
            if name.startswith(owner) and "/" not in name:
                self.remove(f"{TEMPORARY}/{name}")

    def remove(self, name: str) -> None:
        with (
            disk_errors(tr("Removing {root}").format(root=self.root / name)),
            contextlib.suppress(FileNotFoundError),
            _folder_of(self.root, name) as (folder, last),
        ):
            os.unlink(last, dir_fd=folder)
            _sync(folder)
            self._taken = None

    def total_bytes(self) -> int:
        with disk_errors(tr("Listing {root}").format(root=self.root)):
            os.close(_open_below(self.root, ""))
            return sum(length_of(item) for _, items in self._files("") for item in items)

    def bytes_to_show(self) -> int:
        """As ``total_bytes``, counted by folder where nothing came or went since: for people to read, and
        nothing to decide by (``storage.folder_sizes``).

        Raises:
            PlaceError: the directory cannot be looked into.
        """
        with disk_errors(tr("Listing {root}").format(root=self.root)):
            os.close(_open_below(self.root, ""))
            return STORE_SIZES.total(self.root, self._open, _DEEPEST, ("", f"{TEMPORARY}/"))

    def room(self) -> tuple[int, int]:
        with disk_errors(tr("Asking for the room of {root}").format(root=self.root)):
            info = os.statvfs(self.root)
        free, total = info.f_bavail * info.f_frsize, info.f_blocks * info.f_frsize
        if self.limit is None:
            return free, total
        if self._taken is None:
            self._taken = self.total_bytes()
        return max(0, min(free, self.limit - self._taken)), min(total, self.limit)

    def things(self) -> list[str]:
        with disk_errors(tr("Looking into {root}").format(root=self.root)):
            return sorted(item.name for item in self.root.iterdir())

    def holds_only_files(self, folder: str) -> bool:
        inside = self.root / folder
        with disk_errors(tr("Looking into {inside}").format(inside=inside)):
            return (
                inside.is_dir()
                and not inside.is_symlink()
                and all(item.is_file() and not item.is_symlink() for item in inside.iterdir())
            )


def bytes_to_show(place: Place) -> int:
    """Bytes of all files of a place, for people to read: of a folder as quickly as that can be told.

    Raises:
        PlaceError: it cannot be looked into.
    """
    return place.bytes_to_show() if isinstance(place, LocalPlace) else place.total_bytes()


def _open_below(root: Path, folder: str) -> int:
    """A handle of a folder below ``root``, each level opened in the one above and never through a link.

    Raises:
        OSError: it is not there. PlaceError: there is a link, or something else, on the way.
    """
    handle = os.open(root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    for part in folder.split("/"):
        if part:
            outer = handle
            try:
                handle = os.open(part, _FOLDER_FLAGS, dir_fd=outer)
            except OSError as error:
                if error.errno in (errno.ELOOP, errno.ENOTDIR):
                    raise PlaceError(
                        tr("{part} in the store {root} is a link or no folder").format(part=part, root=root),
                        tr("Links in a store are not followed; see who put it there"),
                    ) from error
                raise
            finally:
                os.close(outer)
    return handle


@contextlib.contextmanager
def _folder_of(root: Path, name: str) -> Iterator[tuple[int, str]]:
    """A handle of the folder that a store file lies in, and the file's name in it."""
    folder, _, last = name.rpartition("/")
    handle = _open_below(root, folder)
    try:
        yield handle, last
    finally:
        os.close(handle)


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
        self._root, self._name = root, name
        self._temporary = f"{owner}{secrets.token_hex(8)}"
        self.size = 0
        self._handle: int | None = None
        self._committed = False
        with disk_errors(tr("Writing to {root}").format(root=root)):
            self._folder = _make_folder(root, TEMPORARY)
            try:
                flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC
                self._handle = os.open(self._temporary, flags, 0o600, dir_fd=self._folder)
            except BaseException:
                os.close(self._folder)
                raise

    def write(self, data: bytes | memoryview) -> None:
        handle = self._open_handle()
        if self._allow is not None:
            self._allow(len(data))
        with disk_errors(tr("Writing to {root}").format(root=self._root)):
            view, start = memoryview(data), self.size
            try:
                while view:
                    view = view[os.write(handle, view) :]
            except OSError:
                os.ftruncate(handle, start)
                os.lseek(handle, start, os.SEEK_SET)
                raise
            self.size = start + len(data)

    def commit(self, exclusive: bool = False) -> None:
        handle = self._open_handle()
        with disk_errors(tr("Writing to {root}").format(root=self._root)):
            _sync(handle)
            self._handle = None
            os.close(handle)
            folder, _, last = self._name.rpartition("/")
            target = _make_folder(self._root, folder)
            try:
                if exclusive:
                    self._take_name(target, last)
                else:
                    os.rename(self._temporary, last, src_dir_fd=self._folder, dst_dir_fd=target)
                self._committed = True
                _sync(target)
            finally:
                os.close(target)

    def _take_name(self, target: int, last: str) -> None:
        """Rename to a free name: by a link where the file system has links, which no other can come
        before."""
        taken = NameTakenError(
            tr("{root} was made by another at the same moment").format(root=self._root / self._name),
            tr("Use that one"),
        )
        try:
            os.link(self._temporary, last, src_dir_fd=self._folder, dst_dir_fd=target, follow_symlinks=False)
        except FileExistsError:
            raise taken from None
        except OSError as error:
            if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK, errno.EINVAL):
                raise
            with contextlib.suppress(FileNotFoundError):
                os.stat(last, dir_fd=target, follow_symlinks=False)
                raise taken from None
            os.rename(self._temporary, last, src_dir_fd=self._folder, dst_dir_fd=target)
        else:
            os.unlink(self._temporary, dir_fd=self._folder)

    def discard(self) -> None:
        if self._handle is not None:
            handle, self._handle = self._handle, None
            with contextlib.suppress(OSError):  # some shares say only now what they did not take
                os.close(handle)
        if self._folder >= 0:
            if not self._committed:
                with contextlib.suppress(OSError):
                    os.unlink(self._temporary, dir_fd=self._folder)
            os.close(self._folder)
            self._folder = -1

    def _open_handle(self) -> int:
        if self._handle is None:
            raise ValueError("the file is already committed or discarded")
        return self._handle

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.discard()


def _make_folder(root: Path, folder: str) -> int:
    """A handle of a folder below ``root``, made where it is missing, each new level durable in the one above;
    ``root`` must be there."""
    try:
        return _open_below(root, folder)
    except FileNotFoundError:
        if not folder:
            raise
    above, _, last = folder.rpartition("/")
    handle = _make_folder(root, above)
    try:
        with contextlib.suppress(FileExistsError):
            os.mkdir(last, 0o700, dir_fd=handle)
        _sync(handle)
    finally:
        os.close(handle)
    return _open_below(root, folder)


def _sync(handle: int) -> None:
    """Make a file, or the names in an open folder, durable. File systems that cannot say so with EINVAL."""
    try:
        os.fsync(handle)
    except OSError as error:
        if error.errno != errno.EINVAL:
            raise
