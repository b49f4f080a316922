"""One folder that things are restored below.

Everything is written relative to open directory handles, and gets its name when it is whole.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import secrets
from collections.abc import Iterator, Mapping
from pathlib import Path
from types import TracebackType
from typing import Self

from good_tide.core.clock import Clock
from good_tide.core.entries import Kind
from good_tide.core.errors import DamageError
from good_tide.core.restoring import Action
from good_tide.core.translation import tr
from good_tide.operations.history.same_content import is_identical
from good_tide.operations.restore.metadata import Metadata
from good_tide.operations.restore.read_ahead import ReadAhead
from good_tide.operations.restore.report import Problem, RestoreReport
from good_tide.operations.restore.set_aside import Keeping, SetAside
from good_tide.operations.restore.steps import Relative, Step
from good_tide.source.folders import open_file, open_folder
from good_tide.source.ways import open_way
from good_tide.storage.content import ContentHasher, lies_in_pieces
from good_tide.storage.place import disk_errors
from good_tide.storage.store import Store

_TEMPORARY = ".good-tide-"
_NO_LINKS = (errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK)
"""What linking answers on a disk that makes no links."""
_libc = ctypes.CDLL(None, use_errno=True)


class Target:
    """One folder that things are restored below."""

    def __init__(
        self,
        path: Path,
        clock: Clock,
        report: RestoreReport,
        owners: Mapping[str, str],
        keeping: Keeping,
    ) -> None:
        self.path = path
        self._report = report
        with disk_errors(tr("Restoring to {path}").format(path=path)):
            self._root, self._made_root = open_way(path, make=True)
        self.aside = SetAside(path, self._root, clock, keeping)
        self._open: list[tuple[bytes, int]] = []
        self._folders: list[tuple[Step, Relative]] = []
        self._links: dict[tuple[int, int, int], Relative] = {}
        self._metadata = Metadata(owners)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._leave(0)
        self.aside.close()
        os.close(self._root)

    def _leave(self, depth: int) -> None:
        while len(self._open) > depth:
            os.close(self._open.pop()[1])

    def _folder(self, relative: Relative) -> int:
        """A handle of a folder below the root, each level opened in the one above and never through a
        link."""
        depth = 0
        while depth < min(len(relative), len(self._open)) and self._open[depth][0] == relative[depth]:
            depth += 1
        self._leave(depth)
        for name in relative[depth:]:
            inside = self._open[-1][1] if self._open else self._root
            try:
                handle = open_folder(name, inside)
            except FileNotFoundError:
                self.aside.created((*[part for part, _ in self._open], name), None)
                os.mkdir(name, 0o700, dir_fd=inside)
                handle = open_folder(name, inside)
            self._open.append((name, handle))
        return self._open[-1][1] if self._open else self._root

    def place(self, step: Step, ahead: ReadAhead) -> None:
        """Create or replace one item."""
        entry, relative = step.entry, step.relative
        if not relative:
            if self._made_root:
                self._folders.append((step, relative))
                self._report.created += 1
            return
        folder = self._folder(relative[:-1])
        if entry.kind is Kind.FOLDER:
            with self._noted(step, folder, None):
                os.mkdir(relative[-1], 0o700, dir_fd=folder)
            self._folders.append((step, relative))
        else:
            self._put(step, folder, ahead)
        if step.action is Action.REPLACE:
            self._report.replaced += 1
        else:
            self._report.created += 1

    @contextlib.contextmanager
    def _noted(self, step: Step, folder: int, whole: os.stat_result | None) -> Iterator[None]:
        """Note an item that is about to get its name, and make room; a failure leaves what stood there."""
        replaces = step.action is Action.REPLACE
        if replaces:
            self.aside.replace(step.relative, folder, whole)
        else:
            self.aside.created(step.relative, whole)
        try:
            yield
        except OSError:
            self.aside.give_back(step.relative, folder, replaces)
            raise

    def finish_later(self, step: Step) -> None:
        """Give a folder that is there already its metadata, when all in it is there."""
        if step.relative:
            self._folders.append((step, step.relative))

    def is_there(self, store: Store, step: Step) -> bool:
        """Whether what was restored is on the disk as the store has it."""
        folder, name = self._folder(step.relative[:-1]), os.fsdecode(step.relative[-1])
        info = os.stat(name, dir_fd=folder, follow_symlinks=False)
        if step.entry.kind is Kind.FILE:
            with contextlib.suppress(OSError):
                handle = open_file(name, folder)
                try:  # or it would be read from memory
                    os.posix_fadvise(handle, 0, 0, os.POSIX_FADV_DONTNEED)
                finally:
                    os.close(handle)
        return is_identical(store, step.entry, name, folder, info)

    def put_aside(self, relative: Relative) -> None:
        """Set something aside that was not there at that moment."""
        folder = self._folder(relative[:-1])
        os.stat(relative[-1], dir_fd=folder, follow_symlinks=False)
        self.aside.take(relative, folder)

    def _put(self, step: Step, folder: int, ahead: ReadAhead) -> None:
        """Write a file or link, and give it its name when it is whole."""
        if step.entry.kind is not Kind.FILE or step.entry.extra.link_group is not None:
            self._put_named(step, folder, ahead)
            return
        handle = _nameless(folder)
        if handle is None:
            self._put_named(step, folder, ahead)
            return
        try:
            self._write(step, handle, ahead)
            try:
                with self._noted(step, folder, os.fstat(handle)):
                    os.link(f"/proc/self/fd/{handle}", step.relative[-1], dst_dir_fd=folder)
                return
            except OSError as error:
                if error.errno not in _NO_LINKS:
                    raise
            self._put_named(step, folder, ahead)
        finally:
            os.close(handle)

    def _put_named(self, step: Step, folder: int, ahead: ReadAhead) -> None:
        """The same under a temporary name: links, and files where the disk takes none without a name."""
        entry, name = step.entry, step.relative[-1]
        temporary = f"{_TEMPORARY}{secrets.token_hex(6)}".encode()
        try:
            if not self._link_again(step, folder, temporary):
                if entry.kind is Kind.LINK:
                    os.symlink(entry.extra.target, temporary, dir_fd=folder)
                    self._metadata.of_link(step, temporary, folder)
                else:
                    how = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
                    handle = os.open(temporary, how, 0o600, dir_fd=folder)
                    try:
                        self._write(step, handle, ahead)
                    finally:
                        os.close(handle)
            whole = os.stat(temporary, dir_fd=folder, follow_symlinks=False)
            with self._noted(step, folder, whole):
                if step.action is Action.REPLACE:
                    os.rename(temporary, name, src_dir_fd=folder, dst_dir_fd=folder)
                else:
                    _rename_without_replacing(temporary, name, folder)
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(temporary, dir_fd=folder)
            raise
        group = entry.extra.link_group
        if group is not None:
            self._links[(id(step.snapshot), *group)] = step.relative

    def _link_again(self, step: Step, folder: int, temporary: bytes) -> bool:
        """Make a further hard link of something restored before; False where there is nothing to link to."""
        group = step.entry.extra.link_group
        first = self._links.get((id(step.snapshot), *group)) if group is not None else None
        if first is None:
            return False
        handle = os.dup(self._root)
        try:
            for name in first[:-1]:
                outer, handle = handle, open_folder(name, handle)
                os.close(outer)
            os.link(first[-1], temporary, src_dir_fd=handle, dst_dir_fd=folder, follow_symlinks=False)
        finally:
            os.close(handle)
        return True

    def _write(self, step: Step, handle: int, ahead: ReadAhead) -> None:
        """Write a file's content and metadata to an open file."""
        at = 0
        hasher = ContentHasher() if lies_in_pieces(step.entry) else None
        for extent in step.entry.extents:
            if extent.chunk is not None:
                piece = memoryview(ahead.get(extent.chunk))[extent.offset : extent.offset + extent.length]
                if len(piece) != extent.length:
                    raise DamageError(tr("A chunk is shorter than the file needs"))
                if hasher is not None:
                    hasher.update(piece)
                while piece:
                    written = os.pwrite(handle, piece, at)
                    piece, at = piece[written:], at + written
            else:
                at += extent.length
                if hasher is not None:
                    hasher.zeros(extent.length)
        wrong = hasher is not None and hasher.digest(ahead.keys) != step.entry.digest
        if at != step.entry.stat.size or wrong:
            raise DamageError(tr("The stored parts do not add up to the file"))
        os.ftruncate(handle, at)
        self._metadata.of_open(step, handle)
        if step.action is Action.REPLACE:
            os.fsync(handle)
        self._report.bytes += at

    def finish(self) -> None:
        """Give the new folders their metadata, innermost first, and make everything durable."""
        self._leave(0)
        for step, relative in reversed(self._folders):
            with contextlib.suppress(FileNotFoundError):
                handle = (
                    open_folder(relative[-1], self._folder(relative[:-1])) if relative else os.dup(self._root)
                )
                try:
                    self._metadata.of_open(step, handle)
                finally:
                    os.close(handle)
        self._report.metadata_notes += [Problem(path, words) for path, words in self._metadata.refused()]
        _sync_file_system(self._root)


def _nameless(folder: int) -> int | None:
    """A new file in an open folder that has no name until it is whole, so that whoever is killed leaves
    nothing of it (O_TMPFILE, open(2)); None where the disk makes none."""
    try:
        return os.open(".", os.O_TMPFILE | os.O_RDWR | os.O_CLOEXEC, 0o600, dir_fd=folder)
    except OSError as error:
        if error.errno in (errno.EOPNOTSUPP, errno.EISDIR, errno.ENOENT, errno.EINVAL):
            return None
        raise


def _rename_without_replacing(temporary: bytes, name: bytes, folder: int) -> None:
    """Give a file its name unless something has got there since the plan was made (``FileExistsError``)."""
    try:
        os.link(temporary, name, src_dir_fd=folder, dst_dir_fd=folder, follow_symlinks=False)
        os.unlink(temporary, dir_fd=folder)
    except OSError as error:
        if error.errno not in _NO_LINKS:
            raise
        with contextlib.suppress(FileNotFoundError):
            os.stat(name, dir_fd=folder, follow_symlinks=False)
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST)) from None
        os.rename(temporary, name, src_dir_fd=folder, dst_dir_fd=folder)


def _sync_file_system(handle: int) -> None:
    """Make all that was written to a file system durable (syncfs, Linux)."""
    if _libc.syncfs(handle) != 0:
        number = ctypes.get_errno()
        with disk_errors(tr("Writing what was restored to the disk")):
            raise OSError(number, os.strerror(number))
