"""Small files read ahead, by a process of its own where there are many.

Reading a small file costs more interpreter time than storing it, so on two cores one process reads while the
other stores. Results come back in the order in which they were asked for. A helper that dies costs nothing
but speed: what it did not answer is read here.
"""

from __future__ import annotations

import contextlib
import os
import socket
import subprocess
import sys
import threading
from collections.abc import Sequence
from concurrent.futures import Future
from types import TracebackType
from typing import Self

import msgspec

from good_tide.core.translation import tr
from good_tide.crypto.seals import StoreKeys
from good_tide.operations.snapshot.read_helper import LENGTH_BYTES, receive_exactly
from good_tide.source.small_files import Expected, SmallRead, read_small
from good_tide.storage.content import small_digest

_WORTH_A_HELPER = 3000
"""Small files read in this run after which a helper is started; starting one costs as much as reading some
thousands."""

_REPLY_LIMIT = 1 << 30


class _Helper:
    """A helper process and the thread that takes its answers."""

    def __init__(self, digest_key: bytes) -> None:
        self._socket, theirs = socket.socketpair()
        with theirs:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "good_tide.operations.snapshot.read_helper", str(theirs.fileno())],
                pass_fds=[theirs.fileno()],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
            )
        self._socket.sendall(digest_key)
        self._waiting: list[Future[SmallRead | None]] = []
        self._guard = threading.Lock()
        self._gone = False
        self._thread = threading.Thread(target=self._take_answers, name=tr("read ahead"))
        self._thread.start()

    def ask(self, folder: int, files: Sequence[Expected]) -> Future[SmallRead | None]:
        """Have files read; the answer is None when the helper has died."""
        answer: Future[SmallRead | None] = Future()
        with self._guard:
            if self._gone:
                answer.set_result(None)
                return answer
            self._waiting.append(answer)
        body = msgspec.msgpack.encode(files)
        with contextlib.suppress(OSError):
            message = len(body).to_bytes(LENGTH_BYTES, "little") + body
            sent = socket.send_fds(self._socket, [message], [folder])
            if sent < len(message):
                self._socket.sendall(message[sent:])
        return answer

    def _take_answers(self) -> None:
        decoder = msgspec.msgpack.Decoder(SmallRead)
        with contextlib.suppress(OSError, msgspec.MsgspecError):
            while True:
                head = receive_exactly(self._socket, LENGTH_BYTES)
                length = int.from_bytes(head, "little")
                if len(head) < LENGTH_BYTES or length > _REPLY_LIMIT:
                    break
                answer = decoder.decode(receive_exactly(self._socket, length))
                with self._guard:
                    waiting = self._waiting.pop(0)
                waiting.set_result(answer)
        with self._guard:
            self._gone = True
            left, self._waiting = self._waiting, []
        for waiting in left:
            waiting.set_result(None)

    def close(self) -> None:
        """End the process and the thread."""
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._thread.join()
        self._socket.close()
        self._process.wait()


class Batch:
    """Small files of one folder that are being read, or have been."""

    def __init__(self, folder: int, files: Sequence[Expected], answer: Future[SmallRead | None]) -> None:
        """Takes a handle of its own for ``folder``; ``close`` gives it back."""
        self.folder = os.dup(folder)
        self.files = files
        self.bytes = sum(size for _, size, _, _, _ in files)
        self._answer = answer

    @property
    def done(self) -> bool:
        """Whether ``result`` need not be waited for."""
        return self._answer.done()

    def result(self, keys: StoreKeys) -> SmallRead:
        """What was read; waits for it."""
        found = self._answer.result()
        if found is None or len(found.contents) != len(self.files) or len(found.digests) != len(self.files):
            return read_small(self.folder, self.files, lambda content: small_digest(keys, content))
        return found

    def close(self) -> None:
        """Give the folder's handle back."""
        os.close(self.folder)


class ReadAhead:
    """Has small files read, here at first and by a helper process once there are many. A context manager."""

    def __init__(self, keys: StoreKeys) -> None:
        self._keys = keys
        self._asked = 0
        self._helper: _Helper | None = None
        self._alone = False

    def read(self, folder: int, files: Sequence[Expected]) -> Batch:
        """Have files of an open folder read."""
        self._asked += len(files)
        if self._helper is None and not self._alone and self._asked > _WORTH_A_HELPER:
            self._start()
        if self._helper is not None:
            return Batch(folder, files, self._helper.ask(folder, files))
        answer: Future[SmallRead | None] = Future()
        answer.set_result(None)
        return Batch(folder, files, answer)

    def _start(self) -> None:
        self._alone = (os.cpu_count() or 1) < 2
        if not self._alone:
            try:
                self._helper = _Helper(self._keys.digest_key)
            except OSError:
                self._alone = True

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._helper is not None:
            self._helper.close()
