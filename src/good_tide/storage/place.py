"""Places: where the files of a store lie, and what every kind of place gives."""

from __future__ import annotations

import contextlib
import errno
import os
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType
from typing import Protocol, Self

from good_tide.core.errors import KeptError, NotInPlaceError, PlaceAwayError, PlaceError, PlaceFullError
from good_tide.core.translation import tr

TEMPORARY = "tmp"
"""Folder of files that are not yet complete."""
READ_LIMIT = 1 << 30
"""Bytes that are read at once at most, so that a file that pretends to be huge takes no memory."""


class NewFile(Protocol):
    """A store file that is being written. It exists under its name only after ``commit``."""

    @property
    def size(self) -> int:
        """Bytes written so far."""
        ...

    def write(self, data: bytes | memoryview) -> None:
        """Append ``data``.

        Raises:
            PlaceFullError: no room; the file is as long as it was before.
            PlaceError: the disk does not take it.
        """
        ...

    def commit(self, exclusive: bool = False) -> None:
        """Make the file durable, then visible under its name, then the name durable.

        :param exclusive: the name must be free.

        Raises:
            NameTakenError: it is not; with ``exclusive`` only.
        """
        ...

    def discard(self) -> None:
        """Let go of the file; unless it was committed, it is thrown away."""
        ...

    def __enter__(self) -> Self: ...

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        """Discard unless committed."""
        ...


class StorePlace(Protocol):
    """Where a store is, or is to be made: a value. What kinds there are is in ``place_kinds``."""

    @property
    def called(self) -> str:
        """How it is called in messages, and how a person names it."""
        ...

    @property
    def folder(self) -> Path | None:
        """The folder of this machine that it is; None where it is none."""
        ...

    def check_there(self) -> None:
        """Make sure that it is there.

        Raises:
            PlaceError: it is not.
        """
        ...

    def make(self) -> None:
        """Make it, if it is not there, for a store to be made in it.

        Raises:
            PlaceError: it cannot be.
        """
        ...

    def files(self, limit: int | None = None) -> Place:
        """The way to its files.

        :param limit: bytes that they may take together; None: what there is room for.
        """
        ...


class Readable(Protocol):
    """What files are read from, by relative name with ``/``."""

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
            DamageError: it is larger than any store file that is read whole (``READ_LIMIT``).
        """
        ...


class Place(Readable, Protocol):
    """Flat access to the files of a store, by relative name with ``/``."""

    @property
    def where(self) -> StorePlace:
        """Where they are."""
        ...

    @property
    def title(self) -> str:
        """How the place is called in messages."""
        ...

    def names(self, folder: str) -> list[str]:
        """Names of the files in a folder and its sub-folders, relative to the folder; empty when it does not
        exist."""
        ...

    def expect(self, folder: str) -> None:
        """The names in a folder will be asked for in a moment: one that is far away asks for them ahead."""
        ...

    def look_anew(self) -> None:
        """What is asked for from now on is as it is after this moment: one that is far away remembers for a
        moment what folders held."""
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

    def room(self) -> tuple[int, int]:
        """Bytes free and in all where the files are.

        Raises:
            PlaceError: it does not tell.
        """
        ...

    def things(self) -> list[str]:
        """Names of everything that lies in the place itself, whatever it is; other people's things too.

        Raises:
            PlaceError: it cannot be looked into.
        """
        ...

    def holds_only_files(self, folder: str) -> bool:
        """Whether something in the place is a folder with nothing but files in it."""
        ...


@contextlib.contextmanager
def disk_errors(doing: str) -> Iterator[None]:
    """Turn errors of the operating system into errors that say what to do.

    Raises:
        PlaceError: one of its kinds, for every ``OSError``.
    """
    try:
        yield
    except FileNotFoundError as error:
        raise NotInPlaceError(
            tr("{doing}: it is not there").format(doing=doing),
            tr("Check that the disk is connected and holds this store"),
        ) from error
    except OSError as error:
        if error.errno in (errno.ENOSPC, errno.EDQUOT):
            raise PlaceFullError(
                tr("{doing}: no room left on the disk").format(doing=doing),
                tr("Free some room, or use a larger disk; what was visible is whole"),
            ) from error
        if error.errno == errno.EROFS:
            raise PlaceError(
                tr("{doing}: the disk is read-only").format(doing=doing),
                tr("Mount it so that it can be written"),
            ) from error
        if error.errno in (errno.EACCES, errno.EPERM):
            raise PlaceError(
                tr("{doing}: not permitted").format(doing=doing), tr("Check who owns the folder")
            ) from error
        raise PlaceError(
            f"{doing}: {os.strerror(error.errno or 0)}", tr("Check the disk and its cable, then try again")
        ) from error


def no_folder(path: Path) -> PlaceAwayError:
    """The folder of a place is not there."""
    return PlaceAwayError(
        tr("There is no folder {path}").format(path=path),
        tr("Check the path and whether its disk is connected"),
    )


def clear(place: Place, name: str) -> None:
    """Remove a file that is of no use any more, where the place lets anything be deleted; its readers know
    that it may stay.

    Raises:
        PlaceError: the disk does not let go.
    """
    with contextlib.suppress(KeptError):
        place.remove(name)
