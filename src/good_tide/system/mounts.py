"""Mounted file systems, by ``/proc/self/mountinfo`` (proc_pid_mountinfo(5))."""

from __future__ import annotations

import os
from pathlib import Path

_MOUNTS = Path("/proc/self/mountinfo")


def file_system_of(folder: Path, mounts: Path = _MOUNTS) -> str:
    """The type of the file system a folder is on, empty where the system does not tell."""
    try:
        lines = mounts.read_text(errors="replace").splitlines()
    except OSError:
        return ""
    real = os.path.realpath(folder)
    best, kind = "", ""
    for line in lines:
        left, _, right = line.partition(" - ")
        fields, after = left.split(), right.split()
        if len(fields) < 5 or not after:
            continue
        point = fields[4].replace(r"\040", " ")
        inside = real == point or real.startswith(point.rstrip("/") + "/")
        if inside and len(point) >= len(best):
            best, kind = point, after[0]
    return kind
