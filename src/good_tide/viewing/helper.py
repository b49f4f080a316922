"""The process in which files are read: ``python -m good_tide.viewing.helper``. For each request it divides
itself; the child has limits of time and memory, answers and ends, whatever the file did to it. This process
itself parses nothing, so that nothing of one file is left when the next one comes.

On standard input and output: the length in four bytes, big-endian, then a request or an answer as
MessagePack.
"""

from __future__ import annotations

import os
import resource
import select
import signal
import sys

import msgspec

from good_tide.core.translation import tr
from good_tide.viewing.answering import answer
from good_tide.viewing.frames import WALL_SECONDS, read_frame, write_frame
from good_tide.viewing.requests import Answer, Failed, Request

_CPU_SECONDS = 6
_MEMORY = 768 << 20
"""Bytes of addresses beyond those that the process has already."""
_FILES = 48
_IDLE_SECONDS = 60.0
_NO_MEMORY = 77
_LONGEST_ANSWER = 64 << 20


def _limit() -> None:
    """Limits of this process; beyond them the system ends it."""
    signal.setitimer(signal.ITIMER_REAL, WALL_SECONDS)
    pages = int(open("/proc/self/statm", encoding="ascii").read().split()[0])  # noqa: SIM115
    memory = pages * resource.getpagesize() + _MEMORY
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (_CPU_SECONDS, _CPU_SECONDS))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_NOFILE, (_FILES, _FILES))


def _work(request: bytes, target: int) -> None:
    """In the child: answer, and end."""
    code = 1
    try:
        _limit()
        made = msgspec.msgpack.encode(answer(msgspec.msgpack.decode(request, type=Request)))
        with os.fdopen(target, "wb") as stream:
            stream.write(made)
        code = 0
    except MemoryError:
        code = _NO_MEMORY
    finally:
        os._exit(code)


def _serve(request: bytes) -> bytes:
    """Have a child answer; what it sent, or why it could not."""
    source, target = os.pipe()
    child = os.fork()
    if not child:
        os.close(source)
        _work(request, target)
    os.close(target)
    parts: list[bytes] = []
    length = 0
    with os.fdopen(source, "rb") as stream:
        while part := stream.read1(1 << 20):
            parts.append(part)
            length += len(part)
            if length > _LONGEST_ANSWER:
                os.kill(child, signal.SIGKILL)
                break
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    if code == 0 and length <= _LONGEST_ANSWER:
        return b"".join(parts)
    failed: Answer = Failed(_why(code))
    return msgspec.msgpack.encode(failed)


def _why(code: int) -> str:
    if code in (-signal.SIGALRM, -signal.SIGXCPU, -signal.SIGKILL):
        return tr("It takes too long to be read: the file is damaged, or made to do harm.")
    if code == _NO_MEMORY:
        return tr("It takes too much memory to be read: the file is damaged, or made to do harm.")
    return tr("It could not be read: the file is damaged, or made to do harm.")


def main() -> None:
    """Answer until nobody asks any more."""
    source, target = sys.stdin.buffer, sys.stdout.buffer
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    while select.select([source], [], [], _IDLE_SECONDS)[0]:
        request = read_frame(source)
        if request is None:
            return
        write_frame(target, _serve(request))


if __name__ == "__main__":
    main()
