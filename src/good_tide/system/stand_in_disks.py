"""Stand-in disks: folders that play disks, for the demo and for tests, through the same interface as the real
ones.

A rack is a folder with a ``rack.toml`` that describes its disks. A disk that is plugged in lies in
``media/NAME``, one that is pulled out in ``away/NAME``. Capacity and free room are told, not enforced.
"""

from __future__ import annotations

import os
import select
import time
from pathlib import Path

import msgspec
import tomli_w

from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.places import DiskFacts, DiskKind
from good_tide.core.translation import tr
from good_tide.system.ejecting import holders, still_used

RACK_FILE = "rack.toml"
_LOOK_SECONDS = 0.2
_SIZE_HOLDS = 5.0


class StandIn(msgspec.Struct, frozen=True, kw_only=True):
    """One stand-in disk.

    :param capacity: bytes.
    :param used: bytes taken by other things.
    :param speed: MB/s, 0 for as fast as it goes.
    :param device: the physical disk it plays to be on; empty for a share.
    """

    name: str
    kind: DiskKind = "external"
    file_system: str = "ext4"
    capacity: int = 1 << 40
    used: int = 0
    device: str = ""
    read_only: bool = False
    answers: bool = True
    speed: float = 0.0
    plugged: bool = True


class _Rack(msgspec.Struct, frozen=True):
    disk: tuple[StandIn, ...] = ()
    folders_device: str = "stand-in system disk"


class StandInDisks:
    """The disks of a rack. Folders outside it are on the rack's system disk."""

    def __init__(self, rack: Path) -> None:
        self.root = rack
        self._sizes: dict[Path, tuple[float, int]] = {}
        self._seen = self._stamp()

    def _stamp(self) -> tuple[int, int]:
        try:
            info = (self.root / RACK_FILE).stat()
        except OSError:
            return 0, 0
        return info.st_mtime_ns, info.st_ino

    def _read(self) -> _Rack:
        try:
            return msgspec.toml.decode((self.root / RACK_FILE).read_bytes(), type=_Rack)
        except FileNotFoundError:
            return _Rack()

    def _write(self, rack: _Rack) -> None:
        new = self.root / f".{RACK_FILE}.new"
        new.write_text(tomli_w.dumps(msgspec.to_builtins(rack)))
        new.replace(self.root / RACK_FILE)

    def add(self, disk: StandIn) -> Path:
        """Put a disk into the rack; returns its folder."""
        rack = self._read()
        for part in ("media", "away"):
            (self.root / part).mkdir(parents=True, exist_ok=True)
        folder = self.folder(disk.name, disk.plugged)
        folder.mkdir(parents=True, exist_ok=True)
        self._write(
            msgspec.structs.replace(rack, disk=(*(one for one in rack.disk if one.name != disk.name), disk))
        )
        return folder

    def folder(self, name: str, plugged: bool = True) -> Path:
        """Where a disk's contents lie."""
        return self.root / ("media" if plugged else "away") / name

    def plug(self, name: str, plugged: bool = True) -> None:
        """Plug a disk in, or pull it out.

        Raises:
            PersonError: there is no such disk.
        """
        rack = self._read()
        disk = next((one for one in rack.disk if one.name == name), None)
        if disk is None:
            raise PersonError(
                tr("There is no stand-in disk {name}").format(name=name),
                tr("There are {disk}").format(disk=", ".join(one.name for one in rack.disk) or "none"),
            )
        if disk.plugged != plugged:
            self.folder(name, disk.plugged).rename(self.folder(name, plugged))
        changed = msgspec.structs.replace(disk, plugged=plugged)
        self._write(
            msgspec.structs.replace(
                rack, disk=tuple(changed if one.name == name else one for one in rack.disk)
            )
        )

    def all(self) -> tuple[StandIn, ...]:
        """All disks of the rack, plugged in or not."""
        return self._read().disk

    def disks(self) -> list[DiskFacts]:
        return [self._facts(disk) for disk in self._read().disk if disk.plugged]

    def _facts(self, disk: StandIn) -> DiskFacts:
        folder = self.folder(disk.name)
        free = max(0, disk.capacity - disk.used - self._size(folder))
        lasting = f"share://{disk.name}" if disk.kind == "network" else f"label:{disk.name}"
        return DiskFacts(
            id=lasting.replace("share://", "share:"),
            name=disk.name,
            kind=disk.kind,
            file_system=disk.file_system,
            path=str(folder),
            total=disk.capacity,
            free=free,
            writable=not disk.read_only and os.access(folder, os.W_OK),
            read_only=disk.read_only,
            removable=disk.kind == "external",
            devices=frozenset((disk.device,)) if disk.device else frozenset(),
            answers=disk.answers,
            speed=disk.speed,
        )

    def of_folder(self, folder: Path) -> DiskFacts | None:
        absolute = Path(os.path.abspath(folder))
        for disk in self._read().disk:
            root = self.folder(disk.name)
            if disk.plugged and (absolute == root or root in absolute.parents):
                return self._facts(disk)
        device = self._read().folders_device
        room = os.statvfs(self.root)
        return DiskFacts(
            id="mount:/",
            name="System disk",
            kind="internal",
            file_system="ext4",
            path="/",
            total=room.f_blocks * room.f_frsize,
            free=room.f_bavail * room.f_frsize,
            writable=True,
            devices=frozenset((device,)),
        )

    def eject(self, folder: Path) -> str:
        disk = self.of_folder(folder)
        named = next((one for one in self._read().disk if disk is not None and one.name == disk.name), None)
        if named is None or named.kind != "external":
            raise PlaceError(
                tr("{folder} is on no disk that can be taken away").format(folder=folder),
                tr("Choose a store on an external disk"),
            )
        using = [one for one in holders(self.folder(named.name)) if one.process != os.getpid()]
        if using:
            raise still_used(using)
        self.plug(named.name, False)
        return "unmounted; the stand-in disk is pulled out"

    def wait(self, seconds: float) -> bool:
        until = time.monotonic() + seconds
        while True:
            stamp = self._stamp()
            if stamp != self._seen:
                self._seen = stamp
                return True
            if time.monotonic() >= until:
                return False
            select.select([], [], [], min(_LOOK_SECONDS, seconds))

    def _size(self, folder: Path) -> int:
        """Bytes in a folder; the answer holds for a few seconds."""
        asked, total = self._sizes.get(folder, (-_SIZE_HOLDS, 0))
        if time.monotonic() - asked < _SIZE_HOLDS:
            return total
        total = 0
        for parent, _, files in os.walk(folder):
            for name in files:
                try:
                    total += os.lstat(os.path.join(parent, name)).st_size
                except OSError:
                    continue
        self._sizes[folder] = (time.monotonic(), total)
        return total
