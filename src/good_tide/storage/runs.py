"""Keeping two runs of one machine into one store apart."""

from __future__ import annotations

import fcntl
import os
import secrets
from pathlib import Path
from types import TracebackType
from typing import Self

from good_tide.core.errors import PlaceError
from good_tide.core.identifiers import StoreId, local_name
from good_tide.core.translation import tr
from good_tide.storage.place import disk_errors


class RunLock:
    """A lock on a local file, released by the system when the process ends however it ends.

    Entering gives the beginning of the names of this machine's temporary files in the store: whoever holds
    the lock may remove what carries it. Other machines write to the same store without regard to this lock.
    """

    def __init__(self, state: Path, store: StoreId, whose: str) -> None:
        self._path = state / "runs" / f"{local_name(store)}-{whose}.lock"
        self._owner = f"{whose[:12]}-{os.getuid()}-"
        self._handle: int | None = None

    @classmethod
    def for_work(cls, state: Path, store: StoreId, work: str) -> Self:
        """A lock for work that is no snapshot of one machine, such as carrying: a tag that is this state
        folder's own keeps the files of several machines in one store apart."""
        file = state / "runs" / "tag"
        with disk_errors(tr("Writing to {parent}").format(parent=file.parent)):
            file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            if not file.is_file():
                new = file.with_name(f"tag.{secrets.token_hex(4)}")
                new.write_text(secrets.token_hex(4))
                new.replace(file)
            return cls(state, store, f"{file.read_text()}{work}")

    def __enter__(self) -> str:
        with disk_errors(tr("Writing to {parent}").format(parent=self._path.parent)):
            self._path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._handle = os.open(self._path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(self._handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            os.close(self._handle)
            raise PlaceError(
                tr("Another snapshot of this machine into this store is being taken"),
                tr("Wait until it is done, or stop it"),
            ) from None
        return self._owner

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._handle is not None:
            os.close(self._handle)
