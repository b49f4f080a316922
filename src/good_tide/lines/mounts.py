"""Mounted file systems, by ``/proc/self/mountinfo`` (proc_pid_mountinfo(5))."""

from __future__ import annotations

import os
import re
from pathlib import Path

import msgspec

_MOST_LINKS = 40
_MOUNTS = Path("/proc/self/mountinfo")

OWN_TYPE = "fuse.good-tide"
"""The type of mounts in which this program shows earlier versions."""
BY_FILE_MANAGER = "fuse.gvfsd-fuse"
"""The type under which all shares lie that the file manager has opened, each in a folder of its own."""
NETWORK_TYPES = frozenset(
    (
        "nfs",
        "nfs4",
        "cifs",
        "smb3",
        "9p",
        "afs",
        "ceph",
        "glusterfs",
        "fuse.sshfs",
        "fuse.rclone",
        "davfs",
        "fuse.davfs2",
        "ncpfs",
        BY_FILE_MANAGER,
        OWN_TYPE,
    )
)
"""Types of file systems that lie on another machine, and that of this program's own mounts: none of them is
followed without need."""


class Mount(msgspec.Struct, frozen=True):
    """One line of the mount table. ``device`` is the number of the file system, ``root`` the part of it that
    is mounted."""

    point: str
    type: str
    source: str
    device: tuple[int, int]
    root: str
    read_only: bool


def read_mounts(table: Path = _MOUNTS) -> list[Mount]:
    """The mount table, in the order of mounting; empty where the system does not tell."""
    try:
        lines = table.read_text(errors="surrogateescape").splitlines()
    except OSError:
        return []
    found = []
    for line in lines:
        left, dash, right = line.partition(" - ")
        fields, after = left.split(" "), right.split(" ")
        if not dash or len(fields) < 6 or len(after) < 3:
            continue
        major, _, minor = fields[2].partition(":")
        read_only = "ro" in fields[5].split(",") or "ro" in after[2].split(",")
        found.append(
            Mount(
                _plain(fields[4]),
                after[0],
                _plain(after[1]),
                (int(major), int(minor)),
                _plain(fields[3]),
                read_only,
            )
        )
    return found


def _plain(field: str) -> str:
    """A field without its octal escapes (``\\040`` for a space)."""
    return re.sub(r"\\([0-7]{3})", lambda found: chr(int(found[1], 8)), field)


def resolved(folder: Path, mounts: list[Mount]) -> str:
    """A path without links, resolved only as far as no network file system is touched, which could hang."""
    shares = {mount.point for mount in mounts if mount.type in NETWORK_TYPES}
    done, waiting, links = "/", list(reversed(os.path.abspath(folder).split("/"))), 0
    while waiting:
        part = waiting.pop()
        if part in ("", "."):
            continue
        if part == "..":
            done = os.path.dirname(done)
            continue
        done = os.path.join(done, part)
        if done in shares:
            return os.path.join(done, *reversed(waiting))
        try:
            target = os.readlink(done)
        except OSError:
            continue
        links += 1
        if links > _MOST_LINKS:
            return os.path.join(done, *reversed(waiting))
        done = "/" if target.startswith("/") else os.path.dirname(done)
        waiting += reversed(target.split("/"))
    return done


def mount_of(folder: Path, mounts: list[Mount]) -> Mount | None:
    """The mount that a folder, which need not exist, is in."""
    real = resolved(folder, mounts)
    best: Mount | None = None
    for mount in mounts:
        inside = real == mount.point or real.startswith(mount.point.rstrip("/") + "/")
        if inside and (best is None or len(mount.point) >= len(best.point)):
            best = mount
    return best


def own_mounts() -> dict[str, int]:
    """Where this program shows earlier versions, with the device numbers."""
    return {one.point: os.makedev(*one.device) for one in read_mounts() if one.type == OWN_TYPE}


def network_devices(table: Path = _MOUNTS) -> frozenset[int]:
    """Device numbers of all mounted network file systems, as ``os.stat`` gives them."""
    return frozenset(os.makedev(*mount.device) for mount in read_mounts(table) if mount.type in NETWORK_TYPES)


def on_share(folder: Path, table: Path = _MOUNTS) -> bool:
    """Whether a folder, which need not exist, lies on another machine: by the mount table, untouched."""
    mount = mount_of(folder, read_mounts(table))
    return mount is not None and mount.type in NETWORK_TYPES
