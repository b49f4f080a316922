"""Taking a disk away safely: written out, unmounted and powered off through UDisks2 (org.freedesktop.UDisks2,
version 2)."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

import msgspec

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr
from good_tide.core.words import printable
from good_tide.lines.mounts import NETWORK_TYPES, mount_of, read_mounts
from good_tide.system.bus import Bus, BusError
from good_tide.system.udisks import BLOCK, DRIVE, SERVICE, Objects, device_of, managed_objects, value

_UNMOUNT_SECONDS = 120.0
"""Unmounting waits until everything is written, which takes its time on a slow disk."""
_MOST_HOLDERS = 5


class Holder(msgspec.Struct, frozen=True):
    """A process that uses a disk, and one of the files it uses."""

    process: int
    name: str
    file: str

    def words(self) -> str:
        """For a sentence."""
        return tr("{name} (process {process}) uses {file}").format(
            name=self.name, process=self.process, file=self.file
        )


def holders(root: Path, proc: Path = Path("/proc")) -> list[Holder]:
    """Processes that use something below a folder, as far as this person may see them."""
    found = []
    inside = os.fsencode(root).rstrip(b"/") + b"/"
    for name in sorted((name for name in os.listdir(proc) if name.isdecimal()), key=int):
        used = _used_by(proc / name, inside)
        if used is not None:
            with contextlib.suppress(OSError):
                command = (proc / name / "comm").read_text(errors="replace").strip()
                found.append(Holder(int(name), command, printable(used)))
    return found


def _used_by(process: Path, inside: bytes) -> bytes | None:
    links = [process / "cwd", process / "root", process / "exe"]
    with contextlib.suppress(OSError):
        links += [process / "fd" / number for number in os.listdir(process / "fd")]
    for link in links:
        with contextlib.suppress(OSError):
            target = os.readlink(os.fsencode(link))
            if (target + b"/").startswith(inside):
                return target
    with contextlib.suppress(OSError):
        for line in (process / "maps").read_bytes().splitlines():
            fields = line.split(None, 5)
            if len(fields) == 6 and fields[5].startswith(inside):
                return fields[5]
    return None


class Ejector:
    """Ejects disks of this machine."""

    def __init__(self, system: Bus) -> None:
        self._system = system

    def eject(self, folder: Path) -> str:
        """Write everything out, unmount the disk that a folder is on, and power it off. Returns what became
        of it, as a sentence's part.

        Raises:
            PlaceError: it is no disk that can be taken away, or something still uses it.
        """
        mount = mount_of(folder, read_mounts())
        if mount is None or mount.point == "/":
            raise PlaceError(
                tr("{folder} is on the system's own disk").format(folder=folder),
                tr("It cannot be taken away"),
            )
        if mount.type in NETWORK_TYPES:
            raise PlaceError(
                tr("{folder} is on a share").format(folder=folder),
                tr("There is no disk to take away; the share can be unmounted in the file manager"),
            )
        os.sync()
        using = [one for one in holders(Path(mount.point)) if one.process != os.getpid()]
        if using:
            raise still_used(using)
        objects = self._objects()
        block = next((path for path, parts in objects.items() if device_of(parts) == mount.source), None)
        if block is None:
            raise PlaceError(
                tr("The disk service does not know {source}").format(source=mount.source),
                tr("Unmount it in the file manager"),
            )
        self._ask(block, "Filesystem", "Unmount")
        return self._switch_off(objects, block)

    def _objects(self) -> Objects:
        try:
            return managed_objects(self._system, patient=True)
        except BusError as error:
            raise PlaceError(
                tr("The disk service of this system cannot be asked"),
                tr("Unmount the disk in the file manager"),
            ) from error

    def _switch_off(self, objects: Objects, block: str) -> str:
        drive = value(objects[block].get(BLOCK), "Drive", "")
        facts = objects.get(drive, {}).get(DRIVE)
        if value(facts, "CanPowerOff", False):
            self._ask(drive, "Drive", "PowerOff")
            return "unmounted and switched off; it can be taken away"
        if value(facts, "Ejectable", False):
            self._ask(drive, "Drive", "Eject")
            return "unmounted and ejected; it can be taken away"
        return "unmounted; it can be taken away"

    def _ask(self, path: str, interface: str, member: str) -> None:
        from dbus_fast import Variant  # loads the bus library

        options = {"auth.no_user_interaction": Variant("b", False)}
        try:
            self._system.call(
                SERVICE,
                path,
                f"{SERVICE}.{interface}",
                member,
                "a{sv}",
                [options],
                seconds=_UNMOUNT_SECONDS,
                patient=True,
            )
        except BusError as error:
            if error.name.endswith("DeviceBusy"):
                raise PlaceError(
                    tr("The disk is still used"), tr("Close what uses it, then eject it again")
                ) from error
            raise PlaceError(
                tr("The disk could not be ejected ({what})").format(what=error.what),
                tr("Close what uses it, then eject it again"),
            ) from error


def still_used(using: list[Holder]) -> PlaceError:
    """The error that names who holds a disk."""
    named = "; ".join(one.words() for one in using[:_MOST_HOLDERS])
    more = (
        " " + tr("and {using} more").format(using=len(using) - _MOST_HOLDERS)
        if len(using) > _MOST_HOLDERS
        else ""
    )
    return PlaceError(
        tr("The disk is still used: {named}{more}").format(named=named, more=more),
        tr("Close it there, then eject the disk again"),
    )
