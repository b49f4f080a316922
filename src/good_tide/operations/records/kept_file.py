"""A small file of this machine, written whole, that several threads and processes change."""

from __future__ import annotations

import contextlib
import fcntl
import os
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Generic, TypeVar

import msgspec

_Value = TypeVar("_Value", bound=msgspec.Struct)


class KeptFile(Generic[_Value]):
    """A value in a JSON file. It is read anew whenever the file changed.

    :param kind: what it holds; one with no arguments stands for a file that is not there, or was never
        readable.
    """

    def __init__(self, path: Path, kind: type[_Value]) -> None:
        self._path, self._kind = path, kind
        self._lock = threading.RLock()
        self._stamp: tuple[int, int] | None = None
        self._value = kind()
        self.kept = True
        """Whether the last change came onto the disk."""

    def read(self) -> _Value:
        """The value as it is now; what was read last still holds where the file cannot be read."""
        with self._lock:
            try:
                info = self._path.stat()
                stamp = (info.st_mtime_ns, info.st_ino)
                if stamp != self._stamp:
                    self._value = msgspec.json.decode(self._path.read_bytes(), type=self._kind)
                    self._stamp = stamp
            except FileNotFoundError:
                self._value, self._stamp = self._kind(), None
            except (OSError, msgspec.MsgspecError):
                pass
            return self._value

    @contextlib.contextmanager
    def changing(self) -> Iterator[_Value]:
        """The value, to be changed: no other thread or process changes it meanwhile, as far as the disk takes
        a lock. Written if it is another one after; where it cannot be, this process goes on with it."""
        with self._lock, contextlib.ExitStack() as held:
            with contextlib.suppress(OSError):
                self._path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
                lock = self._path.with_suffix(".lock")
                handle = os.open(lock, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
                held.callback(os.close, handle)
                fcntl.flock(handle, fcntl.LOCK_EX)
            value = self.read()
            before = msgspec.json.encode(value)
            yield value
            if msgspec.json.encode(value) != before:
                self._write()

    def _write(self) -> None:
        self.kept = False
        with contextlib.suppress(OSError):
            new = self._path.with_suffix(".new")
            new.write_bytes(msgspec.json.encode(self._value))
            new.replace(self._path)
            info = self._path.stat()
            self._stamp = (info.st_mtime_ns, info.st_ino)
            self.kept = True
