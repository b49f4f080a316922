"""The program, ready to run: a process that has loaded all commands and forks itself for each one, which
spares a test the half second that loading them takes. What runs is a process of its own with the test's
environment, standard streams and a fresh state, as if it had been started alone; but that the passphrases it
sets cost little to try."""

from __future__ import annotations

import array
import atexit
import contextlib
import importlib
import json
import os
import pkgutil
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import BinaryIO

from tests.support.cheap_keys import cheap_keys

_FDS = 3
_MOST_BYTES = 4 << 20


class WarmProgram:
    """One such process, started when it is first needed."""

    def __init__(self) -> None:
        self._line: socket.socket | None = None
        self._lock = threading.Lock()

    def run(
        self,
        words: Sequence[str],
        streams: tuple[BinaryIO, BinaryIO, BinaryIO],
        timeout: float,
        module: str = "good_tide.cli.main",
    ) -> int:
        """The exit code of a command, as ``subprocess`` gives it; ``TimeoutExpired`` after so many seconds,
        and then it is killed.

        :param module: what has the ``main`` that is run.
        """
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with ours:
            with theirs, self._lock:
                handles = array.array("i", [stream.fileno() for stream in streams] + [theirs.fileno()])
                asked = json.dumps([module, list(words), dict(os.environ), os.getcwd()])
                with contextlib.closing(_large(asked)) as paper:
                    handles.append(paper.fileno())
                    rights = [(socket.SOL_SOCKET, socket.SCM_RIGHTS, handles)]
                    self._running().sendmsg([b"run"], rights)
            pid = int(ours.recv(32))
            ours.settimeout(timeout)
            try:
                return os.waitstatus_to_exitcode(int(ours.recv(32)))
            except TimeoutError:
                os.kill(pid, signal.SIGKILL)
                raise subprocess.TimeoutExpired(list(words), timeout) from None

    def end(self) -> None:
        """Let the process end."""
        if self._line is not None:
            self._line.close()
            self._process.wait()

    def _running(self) -> socket.socket:
        if self._line is None:
            atexit.register(self.end)
            self._line, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
            with theirs:
                command = [sys.executable, "-m", "tests.support.warm_program", str(theirs.fileno())]
                self._process = subprocess.Popen(
                    command,
                    pass_fds=[theirs.fileno()],
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.DEVNULL,
                    cwd=Path(__file__).resolve().parents[2],
                    start_new_session=True,
                )
        return self._line


def _large(text: str) -> BinaryIO:
    """A nameless file with this text: an environment may be larger than a message."""
    file = os.fdopen(os.memfd_create("asked"), "w+b")
    file.write(text.encode())
    file.flush()
    return file


def _load_all() -> None:
    """Load every module of the command line that a command would."""
    import good_tide.cli

    for found in pkgutil.iter_modules(good_tide.cli.__path__, "good_tide.cli."):
        importlib.import_module(found.name)


def _requests(line: socket.socket) -> Iterator[list[int]]:
    """The open files that come with each request, until the test's process has ended."""
    while True:
        said, ancillary, _, _ = line.recvmsg(16, socket.CMSG_SPACE(5 * 4))
        if not said:
            return
        handles = array.array("i")
        for _, _, data in ancillary:
            handles.frombytes(data)
        yield list(handles)


def _one(handles: list[int]) -> None:
    """In a fork: run one command, and say its process and then how it ended."""
    *streams, answer, paper = handles
    module, words, environment, folder = json.loads(os.pread(paper, _MOST_BYTES, 0))
    pid = os.fork()
    if pid:
        told = socket.socket(fileno=answer)
        told.send(str(pid).encode())
        _, status = os.waitpid(pid, 0)
        with contextlib.suppress(OSError):
            told.send(str(status).encode())
        os._exit(0)
    for number, handle in enumerate(streams):
        os.dup2(handle, number)
    for handle in handles:
        os.close(handle)
    os.environ.clear()
    os.environ.update(environment)
    time.tzset()
    os.chdir(folder)
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    sys.argv[1:] = words
    importlib.import_module(module).main()


def serve(line: socket.socket) -> None:
    """Fork for each request."""
    _load_all()
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    with cheap_keys():
        for handles in _requests(line):
            if os.fork() == 0:
                line.close()
                signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                _one(handles)
                return
            for handle in handles:
                os.close(handle)


if __name__ == "__main__":
    sys.argv[0] = "good-tide"
    serve(socket.socket(fileno=int(sys.argv.pop(1))))
