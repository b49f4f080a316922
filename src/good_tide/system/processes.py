"""Which process of this machine something was begun by: numbers are given anew, and clocks are set."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

_PROCESSES = Path("/proc")
_BOOT = "sys/kernel/random/boot_id"
_STATE, _BEGAN = 0, 19
"""Of the words behind a process's name in its ``stat`` (proc_pid_stat(5), fields 3 and 22)."""
_ENDED = "ZX"


def began(process: int, processes: Path = _PROCESSES) -> tuple[str, int] | None:
    """When a process began: the start of the machine, by its name, and clock ticks since then. None for one
    that does not run.

    It does not depend on the clock, which may be set meanwhile."""
    with contextlib.suppress(FileNotFoundError, ProcessLookupError):
        words = (processes / str(process) / "stat").read_bytes().rpartition(b")")[2].decode().split()
        if words[_STATE] not in _ENDED:
            return (processes / _BOOT).read_text().strip(), int(words[_BEGAN])
    return None


def this_process() -> tuple[int, tuple[str, int]]:
    """The number of this process, and when it began."""
    number = os.getpid()
    when = began(number)
    assert when is not None, "it runs"
    return number, when
