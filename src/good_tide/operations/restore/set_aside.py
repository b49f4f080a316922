"""Setting aside what a restore replaces, and undoing a restore.

In the set-aside folder lie the replaced things under the paths they had, and ``restore-record.jsonl``: one
JSON object a line, written before the step it speaks of, so that a crash at any moment can be undone. A
restore that has replaced nothing keeps its record in a folder of its own among this machine's records, and
leaves nothing beside what it brought.
"""

from __future__ import annotations

import base64
import contextlib
import os
import secrets
import shutil
import stat
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

import msgspec

from good_tide.core.clock import SECOND, Clock
from good_tide.core.errors import PersonError
from good_tide.core.restoring import SET_ASIDE
from good_tide.core.translation import tr
from good_tide.source.folders import open_folder
from good_tide.source.ways import open_way
from good_tide.storage.place import disk_errors

RECORD_FILE = "restore-record.jsonl"
_RECORD_LIMIT = 1 << 28
_PIECE_BYTES = 1 << 20

Relative = tuple[bytes, ...]


class _Line(msgspec.Struct, frozen=True, omit_defaults=True):
    """One line of the record. ``what``: begin, aside (about to be moved here), replaced (about to take its
    place), created (about to get a name where nothing stood) or back (could not be done: it is as it was
    before). ``target``: the folder restored to, where the record does not lie in it."""

    what: str
    target: str = ""
    path: tuple[str, ...] = ()
    inode: int = 0
    modified: int = 0
    size: int = 0


class UndoReport(msgspec.Struct):
    """What an undo did: things put back, restored things removed, and paths left because they were changed
    since."""

    put_back: int = 0
    removed: int = 0
    kept: list[bytes] = []


class Keeping(NamedTuple):
    """Where the record of a restore lies as long as it replaces nothing (None: there is none then), and who
    is told of each folder that is begun, with the folder restored to."""

    records: Path | None = None
    began: Callable[[Path, Path], None] | None = None


NOTHING_KEPT = Keeping()


class SetAside:
    """The set-aside folder of one restore, made when it is first needed.

    :param target: the folder restored to, with an open handle ``root``.
    """

    def __init__(self, target: Path, root: int, clock: Clock, keeping: Keeping = NOTHING_KEPT) -> None:
        self.path: Path | None = None
        self.record: Path | None = None
        """The folder of the record, as long as nothing was replaced."""
        self._target, self._root, self._clock = target, root, clock
        self._keeping, self._early = keeping, -1
        self._handle: int | None = None
        self._record: int | None = None
        self._before: list[_Line] = []

    def close(self) -> None:
        """Close the handles."""
        for handle in (self._handle, self._record, self._early if self._early >= 0 else None):
            if handle is not None:
                os.close(handle)

    def _begin(self) -> int:
        if self._handle is None:
            moment = datetime.fromtimestamp(self._clock.now() / SECOND)
            name = f"{SET_ASIDE}{moment:%Y-%m-%d %H.%M.%S}"
            number = 1
            while True:
                try:
                    os.mkdir(name, 0o700, dir_fd=self._root)
                    break
                except FileExistsError:
                    number += 1
                    name = f"{SET_ASIDE}{moment:%Y-%m-%d %H.%M.%S} ({number})"
            self._handle = open_folder(name, self._root)
            self.path = self._target / name
            self._told(self.path)
            self._record = os.open(
                RECORD_FILE, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600, dir_fd=self._handle
            )
            self._note(_Line("begin"))
            for line in self._before:
                self._note(line)
            self._before = []
            if self.record is not None:
                self._take_over(self.record, self._record)
            os.fsync(self._root)
            if self.record is not None:
                shutil.rmtree(self.record, ignore_errors=True)
                self.record = None
        return self._handle

    def _note(self, line: _Line) -> None:
        if self._record is not None:
            os.write(self._record, msgspec.json.encode(line) + b"\n")
            return
        if self._keeping.records is not None and self._early == -1:
            self._begin_early(self._keeping.records)
        if self.record is not None:
            os.write(self._early, msgspec.json.encode(line) + b"\n")
        else:
            self._before.append(line)

    def _take_over(self, record: Path, into: int) -> None:
        """Write the lines of the record away from the target to that in the set-aside folder."""
        with (record / RECORD_FILE).open("rb") as lines:
            lines.readline()  # where it leads
            while piece := lines.read(_PIECE_BYTES):
                os.write(into, piece)

    def _begin_early(self, records: Path) -> None:
        """Begin a record away from the target. A full disk goes without: then there is no undo."""
        self._early = -2
        moment = datetime.fromtimestamp(self._clock.now() / SECOND)
        folder = records / f"{moment:%Y-%m-%d %H.%M.%S} {secrets.token_hex(4)}"
        target = base64.b64encode(os.fsencode(self._target)).decode()
        with contextlib.suppress(OSError):
            folder.mkdir(parents=True, mode=0o700)
            self._early = os.open(
                folder / RECORD_FILE, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600
            )
            os.write(self._early, msgspec.json.encode(_Line("begin", target)) + b"\n")
            self.record = folder
            self._told(folder)

    def _told(self, folder: Path) -> None:
        if self._keeping.began is not None:
            self._keeping.began(folder, self._target)

    def created(self, relative: Relative, whole: os.stat_result | None) -> None:
        """Note what is about to get a name where nothing stands: before it does, or whoever is killed in
        between leaves something that no undo knows.

        :param whole: of the finished file or link; None: it is a folder, which is made under its name.
        """
        self._note(_placed("created", relative, whole))

    def replace(self, relative: Relative, folder: int, whole: os.stat_result | None) -> None:
        """Move what stands under the last name of ``relative`` in the open ``folder`` here, to make room for
        something else (``whole``, as for ``created``)."""
        self._take(relative, folder, _placed("replaced", relative, whole))

    def take(self, relative: Relative, folder: int) -> None:
        """Move what stands under the last name of ``relative`` in the open ``folder`` here."""
        self._take(relative, folder)

    def give_back(self, relative: Relative, folder: int, replaces: bool) -> None:
        """After a failure: put what was taken last back where it was, and note that nothing was placed."""
        if replaces:
            assert self._handle is not None
            with _reach(self._handle, relative[:-1]) as inside:
                if inside is not None:
                    os.rename(relative[-1], relative[-1], src_dir_fd=inside, dst_dir_fd=folder)
        self._note(_Line("back", path=_text(relative)))

    def _take(self, relative: Relative, folder: int, *further: _Line) -> None:
        handle = self._begin()
        for line in (_Line("aside", path=_text(relative)), *further):
            self._note(line)
        assert self._record is not None
        os.fsync(self._record)
        inside = os.dup(handle)
        try:
            for name in relative[:-1]:
                with contextlib.suppress(FileExistsError):
                    os.mkdir(name, 0o700, dir_fd=inside)
                outer, inside = inside, open_folder(name, inside)
                os.close(outer)
            os.rename(relative[-1], relative[-1], src_dir_fd=folder, dst_dir_fd=inside)
            os.fsync(inside)
        finally:
            os.close(inside)


def _text(relative: Relative) -> tuple[str, ...]:
    return tuple(base64.b64encode(name).decode() for name in relative)


def _placed(what: str, relative: Relative, whole: os.stat_result | None) -> _Line:
    if whole is None:
        return _Line(what, path=_text(relative))
    return _Line(what, "", _text(relative), whole.st_ino, whole.st_mtime_ns, whole.st_size)


def undo(folder: Path) -> UndoReport:
    """Undo the restore whose set-aside folder this is, or whose record lies in it: remove what it brought,
    put back what it replaced.

    What was changed after the restore is left and named.

    Raises:
        PersonError: the folder is no set-aside folder. PlaceError: the disk does not allow it.
    """
    try:
        data = (folder / RECORD_FILE).read_bytes()[:_RECORD_LIMIT]
    except OSError:
        raise PersonError(
            tr("{folder} is not a set-aside folder").format(folder=folder),
            tr("Choose one that holds {RECORD_FILE}").format(RECORD_FILE=RECORD_FILE),
        ) from None
    report = UndoReport(kept=[])
    target = _target(data)
    if target:
        return _undo_created(folder, Path(os.fsdecode(target)), data, report)
    with disk_errors(tr("Undoing the restore in {folder}").format(folder=folder)):
        root, _ = open_way(folder.parent)
        aside = open_folder(folder.name, root)
        try:
            for line in _backwards(data):
                _undo_line(line, root, aside, report)
            if not report.kept and _only_folders(aside, RECORD_FILE):
                _only_folders(aside, RECORD_FILE, remove=True)
                os.unlink(RECORD_FILE, dir_fd=aside)
                os.rmdir(folder.name, dir_fd=root)
            os.fsync(root)
        finally:
            os.close(root)
            os.close(aside)
    return report


def folders_created(folder: Path) -> set[bytes]:
    """Paths of folders that a restore has made and that are there still, by the folder of its record; those
    it was cut off over have no times and permissions yet."""
    try:
        data = (folder / RECORD_FILE).read_bytes()[:_RECORD_LIMIT]
    except OSError:
        return set()
    target = _target(data) or os.fsencode(folder.parent)
    created = (line.path for line in _backwards(data) if line.what == "created" and not line.modified)
    paths = {os.path.join(target, *(base64.b64decode(part) for part in path)) for path in created}
    return {path for path in paths if os.path.isdir(path) and not os.path.islink(path)}


def _target(data: bytes) -> bytes:
    """The folder restored to, by the first line of a record; empty where the record lies in it."""
    with contextlib.suppress(msgspec.MsgspecError):
        return base64.b64decode(msgspec.json.decode(data[: data.find(b"\n")], type=_Line).target)
    return b""


def _undo_created(folder: Path, target: Path, data: bytes, report: UndoReport) -> UndoReport:
    """Undo a restore that has replaced nothing."""
    with disk_errors(tr("Undoing the restore to {target}").format(target=target)):
        root, _ = open_way(target)
        try:
            for line in _backwards(data):
                if line.what == "created":
                    _undo_line(line, root, root, report)
            os.fsync(root)
        finally:
            os.close(root)
        if not report.kept:
            shutil.rmtree(folder)
    return report


def _backwards(data: bytes) -> Iterator[_Line]:
    """The lines of a record from the last to the first, without those of what could not be done."""
    undone: tuple[str, ...] | None = None
    end = len(data)
    while end > 0:
        begin = data.rfind(b"\n", 0, end) + 1
        text, end = data[begin:end], begin - 1
        with contextlib.suppress(msgspec.MsgspecError):
            line = msgspec.json.decode(text, type=_Line)
            if line.what == "back":
                undone = line.path
            elif line.path != undone:
                undone = None
                yield line


def _undo_line(line: _Line, root: int, aside: int, report: UndoReport) -> None:
    relative = tuple(base64.b64decode(part) for part in line.path)
    if any(name in (b"", b".", b"..") or b"/" in name for name in relative):
        raise PersonError(
            tr("The record of the restore holds an impossible name"), tr("Put the things back by hand")
        )
    if line.what == "begin" or not relative:
        return
    with _reach(root, relative[:-1]) as folder:
        if folder is None:
            return
        if line.what == "created":
            _remove_restored(line, relative, folder, report)
        elif line.what == "replaced":
            with _reach(aside, relative[:-1]) as held:
                if held is not None and _has(relative[-1], held):  # or it was killed before it was set aside
                    _remove_restored(line, relative, folder, report)
        elif line.what == "aside":
            with _reach(aside, relative[:-1]) as held:
                _put_back(relative, folder, held, report)


@contextlib.contextmanager
def _reach(root: int, names: Relative) -> Iterator[int | None]:
    """A handle of a folder below ``root``, or None when it is not there."""
    handle: int | None = os.dup(root)
    try:
        for name in names:
            if handle is None:
                break
            outer, handle = handle, None
            try:
                with contextlib.suppress(FileNotFoundError, NotADirectoryError):
                    handle = open_folder(name, outer)
            finally:
                os.close(outer)
        yield handle
    finally:
        if handle is not None:
            os.close(handle)


def _remove_restored(line: _Line, relative: Relative, folder: int, report: UndoReport) -> None:
    name = relative[-1]
    try:
        info = os.stat(name, dir_fd=folder, follow_symlinks=False)
    except FileNotFoundError:
        return
    path = b"/".join(relative)
    if stat.S_ISDIR(info.st_mode):
        try:
            os.rmdir(name, dir_fd=folder)
            report.removed += 1
        except OSError:
            report.kept.append(path)
    elif (info.st_ino, info.st_mtime_ns, info.st_size) == (line.inode, line.modified, line.size):
        os.unlink(name, dir_fd=folder)
        report.removed += 1
    else:
        report.kept.append(path)


def _has(name: bytes, folder: int) -> bool:
    try:
        os.stat(name, dir_fd=folder, follow_symlinks=False)
    except FileNotFoundError:
        return False
    return True


def _put_back(relative: Relative, folder: int, held: int | None, report: UndoReport) -> None:
    name = relative[-1]
    if held is None or not _has(name, held):
        return
    try:
        os.stat(name, dir_fd=folder, follow_symlinks=False)
    except FileNotFoundError:
        with contextlib.suppress(FileNotFoundError):
            os.rename(name, name, src_dir_fd=held, dst_dir_fd=folder)
            report.put_back += 1
        return
    path = b"/".join(relative)
    if report.kept[-1:] != [path]:
        report.kept.append(path)


def _only_folders(top: int, but: str, remove: bool = False) -> bool:
    """Whether an open folder holds nothing but one file and folders without files; those are removed by
    choice."""
    waiting = [(top, "", iter(os.listdir(top)))]
    try:
        while waiting:
            handle, own, names = waiting[-1]
            name = next(names, None)
            if name is None:
                waiting.pop()
                if waiting:
                    os.close(handle)
                    if remove:
                        os.rmdir(own, dir_fd=waiting[-1][0])
            elif stat.S_ISDIR(os.stat(name, dir_fd=handle, follow_symlinks=False).st_mode):
                below = open_folder(name, handle)
                waiting.append((below, name, iter(os.listdir(below))))
            elif len(waiting) > 1 or name != but:
                return False
        return True
    finally:
        for handle, _, _ in waiting[1:]:
            os.close(handle)
