"""The disks and shares that are mounted: from the mount table, ``/sys`` and ``/dev/disk``; live."""

from __future__ import annotations

import contextlib
import os
import re
import select
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Protocol

from good_tide.core.places import DiskFacts, DiskKind
from good_tide.core.translation import tr
from good_tide.lines.mounts import BY_FILE_MANAGER, NETWORK_TYPES, OWN_TYPE, Mount, mount_of, read_mounts
from good_tide.system.bus import Bus
from good_tide.system.ejecting import Ejector
from good_tide.system.udisks import Drive, drives

_NO_DISKS = frozenset(
    (
        "proc",
        "sysfs",
        "devtmpfs",
        "devpts",
        "cgroup",
        "cgroup2",
        "pstore",
        "securityfs",
        "debugfs",
        "tracefs",
        "bpf",
        "mqueue",
        "hugetlbfs",
        "configfs",
        "fusectl",
        "autofs",
        "binfmt_misc",
        "efivarfs",
        "overlay",
        OWN_TYPE,
        "squashfs",
        "nsfs",
        "rpc_pipefs",
        "fuse.portal",
        BY_FILE_MANAGER,
        "ramfs",
        "tmpfs",
    )
)
"""Types that hold nothing a store could be kept on, so that they are not offered; a folder in one can still
be chosen by hand."""

_NOT_OFFERED = ("/boot", "/boot/efi", "/efi", "/proc", "/sys", "/dev", "/run/lock", "/snap")
_BY = (("uuid", "by-uuid"), ("label", "by-label"))


class Disks(Protocol):
    """Tells which disks there are."""

    def disks(self) -> list[DiskFacts]:
        """The mounted disks and shares. Room and rights are those of places that answer at once; shares are
        left to a probe."""
        ...

    def of_folder(self, folder: Path) -> DiskFacts | None:
        """The disk that a folder is on, which need not exist yet."""
        ...

    def wait(self, seconds: float) -> bool:
        """Wait until the disks may have changed, at most so long; whether they may have."""
        ...

    def eject(self, folder: Path) -> str:
        """Take the disk that a folder is on away safely. Returns what became of it, as a sentence's part.

        Raises:
            PlaceError: it cannot be taken away, or something still uses it.
        """
        ...


class SystemDisks:
    """The disks of this machine.

    :param mounts: the mount table.
    :param sys: where sysfs is.
    :param dev: where device files are. (Others in tests.)
    :param ask_drives: tells what the system's disk service knows; asked when block devices came or went.
    """

    def __init__(
        self,
        mounts: Path = Path("/proc/self/mountinfo"),
        sys: Path = Path("/sys"),
        dev: Path = Path("/dev"),
        ask_drives: Callable[[], dict[str, Drive]] = drives,
    ) -> None:
        self._table, self._sys, self._dev, self._ask_drives = mounts, sys, dev, ask_drives
        self._drives: dict[str, Drive] = {}
        self._devices: list[str] | None = None

    def disks(self) -> list[DiskFacts]:
        self._refresh_drives()
        names = self._lasting_names()
        best: dict[tuple[int, int], Mount] = {}
        for mount in read_mounts(self._table):
            if mount.type in _NO_DISKS or (mount.point.startswith(_NOT_OFFERED) and mount.point != "/"):
                continue
            known = best.get(mount.device)
            if known is None or (mount.root != "/", len(mount.point)) < (known.root != "/", len(known.point)):
                best[mount.device] = mount
        found = [self._facts(mount, names) for mount in best.values()]
        taken = frozenset().union(*(self._devices_of(mount) for mount in read_mounts(self._table)))
        return found + [self._unmounted(device, names) for device in self._removable() if device not in taken]

    def _refresh_drives(self) -> None:
        try:
            devices = sorted(os.listdir(self._sys / "block"))
        except OSError:
            devices = []
        if devices != self._devices:
            self._devices, self._drives = devices, self._ask_drives()

    def _is_removable(self, device: str) -> bool:
        known = self._drives.get(device)
        return (
            self._flag(device, "removable") or self._is_usb(device) or (known is not None and known.removable)
        )

    def _maker(self, device: str) -> str:
        """How a disk's maker calls it."""
        known = self._drives.get(device)
        if known is not None and known.name:
            return known.name
        return " ".join(
            part for part in (self._words(device, "vendor"), self._words(device, "model")) if part
        )

    def _devices_of(self, mount: Mount) -> frozenset[str]:
        return (
            frozenset()
            if mount.type in NETWORK_TYPES or mount.type in _NO_DISKS
            else frozenset(self._physical(mount))
        )

    def _removable(self) -> list[str]:
        """Disks with a medium that were plugged in by somebody."""
        with contextlib.suppress(OSError):
            names = sorted(os.listdir(self._sys / "block"))
            return [name for name in names if self._is_removable(name) and self._bytes(name)]
        return []

    def _bytes(self, device: str) -> int:
        with contextlib.suppress(OSError, ValueError):
            return int((self._sys / "block" / device / "size").read_text()) * 512
        return 0

    def _unmounted(self, device: str, names: dict[str, list[str]]) -> DiskFacts:
        words = self._maker(device)
        lasting = names.get(str(self._dev / device), [])
        return DiskFacts(
            id=lasting[0] if lasting else f"device:{device}",
            name=words or device,
            kind="external",
            file_system="",
            path="",
            total=self._bytes(device),
            removable=True,
            devices=frozenset((device,)),
            mounted=False,
        )

    def of_folder(self, folder: Path) -> DiskFacts | None:
        mount = mount_of(folder, read_mounts(self._table))
        return None if mount is None else self._facts(mount, self._lasting_names())

    def wait(self, seconds: float) -> bool:
        """The mount table reports changes as an exceptional condition (proc_pid_mounts(5))."""
        with open(self._table, "rb") as table:
            poll = select.poll()
            with contextlib.suppress(PermissionError):
                poll.register(table, select.POLLPRI)
            return bool(poll.poll(seconds * 1000))

    def eject(self, folder: Path) -> str:
        return Ejector(Bus("system")).eject(folder)

    def _lasting_names(self) -> dict[str, list[str]]:
        """Names that stay, by the device file they stand for."""
        names: dict[str, list[str]] = {}
        for kind, folder in _BY:
            with contextlib.suppress(OSError):
                for link in sorted((self._dev / "disk" / folder).iterdir()):
                    names.setdefault(os.path.realpath(link), []).append(f"{kind}:{_unescaped(link.name)}")
        return names

    def _facts(self, mount: Mount, names: dict[str, list[str]]) -> DiskFacts:
        network = mount.type in NETWORK_TYPES
        devices = frozenset() if network else frozenset(self._physical(mount))
        lasting = [f"share:{mount.source}"] if network else names.get(os.path.realpath(mount.source), [])
        first, *others = [*lasting, f"mount:{mount.point}"]
        removable = any(map(self._is_removable, devices))
        kind: DiskKind = "network" if network else "external" if removable else "internal"
        total = free = 0
        writable = False
        if not network:
            with contextlib.suppress(OSError):
                room = os.statvfs(mount.point)
                total, free = room.f_blocks * room.f_frsize, room.f_bavail * room.f_frsize
            writable = os.access(mount.point, os.W_OK) or self._holds_home(mount)
        return DiskFacts(
            id=first,
            name=self._name(mount, lasting, devices),
            kind=kind,
            file_system=mount.type,
            path=mount.point,
            total=total,
            free=free,
            writable=writable,
            read_only=mount.read_only,
            removable=removable,
            devices=devices,
            aliases=tuple(others),
        )

    def _holds_home(self, mount: Mount) -> bool:
        """Whether the person's home folder is on this disk: then there is something on it to write to."""
        home = Path.home()
        holding = mount_of(home, read_mounts(self._table))
        return holding is not None and holding.device == mount.device and os.access(home, os.W_OK)

    def _name(self, mount: Mount, lasting: list[str], devices: frozenset[str]) -> str:
        """What people would call it: its label, its address, its maker's name, or where it is mounted."""
        for name in lasting:
            kind, _, value = name.partition(":")
            if kind in ("label", "share"):
                return value
        if mount.point == "/":
            return tr("System disk")
        for device in sorted(devices):
            words = self._maker(device)
            if words:
                return words
        return os.path.basename(mount.point) or mount.point

    def _words(self, device: str, part: str) -> str:
        with contextlib.suppress(OSError):
            return (self._sys / "block" / device / "device" / part).read_text(errors="replace").strip()
        return ""

    def _flag(self, device: str, name: str) -> bool:
        with contextlib.suppress(OSError):
            return (self._sys / "block" / device / name).read_text().strip() == "1"
        return False

    def _is_usb(self, device: str) -> bool:
        return "/usb" in os.path.realpath(self._sys / "block" / device)

    def _physical(self, mount: Mount) -> Iterator[str]:
        """Physical disks under a mount: through partitions, device mapper (LVM, LUKS), RAID, loop files and
        btrfs."""
        number = "{}:{}".format(*mount.device)
        if not (self._sys / "dev" / "block" / number).exists():
            try:
                info = os.stat(mount.source)
            except OSError:
                return
            number = f"{os.major(info.st_rdev)}:{os.minor(info.st_rdev)}"
        yield from self._below(self._sys / "dev" / "block" / number, set())

    def _below(self, device: Path, seen: set[str]) -> Iterator[str]:
        real = Path(os.path.realpath(device))
        if not real.exists() or str(real) in seen:
            return
        seen.add(str(real))
        slaves = list((real / "slaves").iterdir()) if (real / "slaves").is_dir() else []
        if slaves:
            for slave in slaves:
                yield from self._below(slave, seen)
        elif (real / "loop" / "backing_file").is_file():
            backing = Path((real / "loop" / "backing_file").read_text().strip())
            mount = mount_of(backing, read_mounts(self._table))
            if mount is not None and str(mount.device) not in seen:
                seen.add(str(mount.device))
                yield from self._physical(mount)
            else:
                yield real.name
        elif (real / "partition").exists():
            yield from self._below(real.parent, seen)
        else:
            yield real.name


def _unescaped(name: str) -> str:
    """A name from ``/dev/disk`` without udev's escapes (``\\x20`` for a space)."""
    return re.sub(r"\\x([0-9a-f]{2})", lambda found: chr(int(found[1], 16)), name)
