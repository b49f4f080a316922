"""New folders walked and read ahead by processes of their own, where there are many and more than one core.

What they hand over comes in the order in which it was asked for. A helper that dies costs nothing but speed:
what it did not answer is walked here.
"""

from __future__ import annotations

import contextlib
import os
import queue
import socket
import subprocess
import sys
import threading
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from types import TracebackType
from typing import Self

import msgspec

from good_tide.core.coverage import FolderState
from good_tide.core.translation import tr
from good_tide.operations.snapshot.new_folders import Bundle, Contents, LeftFolder, NewFolder, Terms, Wanted
from good_tide.operations.snapshot.read_helper import LENGTH_BYTES, receive_exactly

_WORTH_HELPERS, _WORTH_HELPERS_FIRST = 4000, 1000
"""New files walked in this run, a folder counted as four, after which helpers are started; to start them
costs as much as to read some thousands. In a first run all that comes is new."""
_HELPERS = 2
_MOST_BEGUN_ANEW = 3
_AHEAD_BYTES = 16 * 1024 * 1024
"""Of what a helper has read so much waits at most. As a tree is taken in whole before the next one, which the
other helper reads, that one works on as long as there is room for what it reads."""
_LONGEST_RUN = 32
_RUNS_EACH = 32
"""The folders of one folder are given to the helpers by turns, so many times each where there are enough, in
runs of so many at most: what is taken in at once is quicker."""
_REPLY_LIMIT = 1 << 30
_POLL_SECONDS = 0.05
_PATIENCE_SECONDS = 0.5


class _Answers:
    """What came of a helper and waits to be taken in."""

    def __init__(self) -> None:
        self._waiting: deque[bytes | None] = deque()
        self._bytes = 0
        self._changed = threading.Condition()

    def put(self, answer: bytes | None) -> None:
        """Add one; waits until there is room. None: there is no more."""
        with self._changed:
            self._changed.wait_for(lambda: self._bytes < _AHEAD_BYTES)
            self._waiting.append(answer)
            self._bytes += len(answer or b"")
            self._changed.notify_all()

    def get(self, seconds: float) -> bytes | None:
        """The next one; waits so long for it.

        Raises:
            queue.Empty: none came.
        """
        with self._changed:
            if not self._changed.wait_for(lambda: self._waiting, seconds):
                raise queue.Empty
            answer = self._waiting.popleft()
            self._bytes -= len(answer or b"")
            self._changed.notify_all()
            return answer


class _Helper:
    """A helper process and the thread that takes its answers."""

    def __init__(self, terms: bytes) -> None:
        self._socket, theirs = socket.socketpair()
        with theirs:
            self._process = subprocess.Popen(
                [
                    sys.executable,
                    "-m",
                    "good_tide.operations.snapshot.new_folder_helper",
                    str(theirs.fileno()),
                ],
                pass_fds=[theirs.fileno()],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
            )
        self._answers, self._decoder = _Answers(), msgspec.msgpack.Decoder(Bundle)
        self._folders: deque[NewFolder | LeftFolder | Contents] = deque()
        self.owners: list[tuple[int, int]] = []
        self.gone = False
        self._send(terms)
        self._thread = threading.Thread(target=self._take_answers, name=tr("read ahead"))
        self._thread.start()

    def ask(self, wanted: Wanted, handle: int) -> None:
        """Have sub-folders of an open folder walked."""
        self._send(msgspec.msgpack.encode(wanted), handle)

    def _send(self, body: bytes, *handles: int) -> None:
        message = len(body).to_bytes(LENGTH_BYTES, "little") + body
        with contextlib.suppress(OSError):  # it has died, and answers nothing
            sent = socket.send_fds(self._socket, [message], handles) if handles else 0
            self._socket.sendall(message[sent:])

    def _take_answers(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                head = receive_exactly(self._socket, LENGTH_BYTES)
                length = int.from_bytes(head, "little")
                if len(head) < LENGTH_BYTES or length > _REPLY_LIMIT:
                    break
                self._answers.put(receive_exactly(self._socket, length))
        self._answers.put(None)

    def folder(self, tick: Callable[[], None]) -> NewFolder | LeftFolder | Contents | None:
        """The next folder; waits for it. None: the helper has died.

        :param tick: called now and then; what it raises ends the waiting.
        """
        while not self._folders and not self.gone:
            try:
                answer = self._answers.get(_POLL_SECONDS)
                bundle = self._decoder.decode(answer) if answer is not None else None
            except queue.Empty:
                tick()
                continue
            except msgspec.MsgspecError:  # it died in the middle of it
                bundle = None
            if bundle is None:
                self.gone = True
            else:
                self._folders += bundle.folders
                self.owners += bundle.owners
        return self._folders.popleft() if self._folders else None

    def close(self) -> None:
        """End the process and the thread."""
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        while self._thread.is_alive():
            with contextlib.suppress(queue.Empty):
                self._answers.get(_POLL_SECONDS)
        self._socket.close()
        try:
            self._process.wait(_PATIENCE_SECONDS)
        except subprocess.TimeoutExpired:  # it is in the middle of a slow folder
            self._process.kill()
            self._process.wait()


class FoldersAhead:
    """Has new folders walked and read by helpers. A context manager.

    :param terms: what is in, and how it is read.
    :param tick: called now and then; what it raises ends the waiting.
    :param alone: without helpers. :param first: whether there was no run before.
    """

    def __init__(
        self, terms: Terms, tick: Callable[[], None], alone: bool = False, first: bool = False
    ) -> None:
        self._terms, self._tick = terms, tick
        self._worth_helpers = _WORTH_HELPERS_FIRST if first else _WORTH_HELPERS
        self._helpers: list[_Helper] = []
        self._asked: dict[bytes, _Helper] = {}
        self._walked = self._turn = self._begun_anew = 0
        self._alone = alone or len(os.sched_getaffinity(0)) < 2

    def walked(self, files: int, folders: int) -> None:
        """So much that is new was walked here."""
        self._walked += files + 4 * folders
        if self._walked >= self._worth_helpers and not self._alone and not self._helpers:
            terms = msgspec.msgpack.encode(self._terms)
            try:
                for _ in range(_HELPERS):
                    self._helpers.append(_Helper(terms))
            except OSError:
                self._alone = True

    @property
    def at_work(self) -> bool:
        """Whether folders can be asked for."""
        return bool(self._helpers)

    def ask(
        self,
        path: bytes,
        handle: int,
        depth: int,
        device: int,
        folders: Sequence[tuple[bytes, FolderState | None]],
    ) -> None:
        """Have sub-folders of an open folder walked.

        :param depth: theirs, below the covered folder. :param device: that of the covered folder.
        """
        if self._asked:
            # A walk was given up that had asked for more than it took, or a helper has died. One that waits
            # for somebody to take what it has would not read what it is asked now.
            self._end()
            self._begun_anew += 1
            self._alone = self._alone or self._begun_anew > _MOST_BEGUN_ANEW
            self.walked(0, 0)
            if not self._helpers:
                return
        shares: list[list[list[tuple[bytes, FolderState | None]]]] = [[] for _ in self._helpers]
        length = max(1, min(_LONGEST_RUN, len(folders) // (_RUNS_EACH * len(self._helpers))))
        for begin in range(0, len(folders), length):
            self._turn += 1
            run = list(folders[begin : begin + length])
            shares[self._turn % len(self._helpers)].append(run)
            for name, _ in run:
                self._asked[path + b"/" + name] = self._helpers[self._turn % len(self._helpers)]
        for helper, share in zip(self._helpers, shares, strict=True):
            if share:
                helper.ask(Wanted(path, depth, device, share), handle)

    def asked(self, path: bytes) -> bool:
        """Whether a folder was asked for, and not yet taken."""
        return path in self._asked

    def take(self, path: bytes) -> Iterator[NewFolder | LeftFolder | Contents]:
        """All folders in one that was asked for, and last itself; fewer when the helper has died. They are
        taken in the order in which they were asked for."""
        helper = self._asked.pop(path)
        while (folder := helper.folder(self._tick)) is not None:
            yield folder
            if not isinstance(folder, Contents) and folder.path == path:
                return

    def owners(self) -> list[tuple[int, int]]:
        """User and group numbers of what was taken, each once."""
        found: list[tuple[int, int]] = []
        for helper in self._helpers:
            found += helper.owners
            helper.owners = []
        return found

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._end()

    def _end(self) -> None:
        for helper in self._helpers:
            helper.close()
        self._helpers.clear()
        self._asked.clear()
