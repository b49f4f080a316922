"""What UDisks2 knows of drives, over D-Bus (org.freedesktop.UDisks2, version 2): how their makers call them.

Without the bus or the service nothing is known, and ``/sys`` says what it can.
"""

from __future__ import annotations

import os
from typing import Any

import msgspec

from good_tide.system.bus import Bus, BusError

SERVICE = "org.freedesktop.UDisks2"
BLOCK, DRIVE = f"{SERVICE}.Block", f"{SERVICE}.Drive"
_ROOT = "/org/freedesktop/UDisks2"
_SECONDS = 1.5

Objects = dict[str, dict[str, dict[str, Any]]]
"""By path and interface, the properties of everything that the service knows."""


class Drive(msgspec.Struct, frozen=True):
    """One drive: its name, and whether it is meant to be taken away."""

    name: str
    removable: bool


def managed_objects(bus: Bus, patient: bool = False) -> Objects:
    """Everything the service knows (``GetManagedObjects``).

    Raises:
        BusError: it cannot be asked.
    """
    found = bus.call(
        SERVICE,
        _ROOT,
        "org.freedesktop.DBus.ObjectManager",
        "GetManagedObjects",
        seconds=_SECONDS,
        patient=patient,
    )
    return dict(found[0])


def drives(address: str | None = None) -> dict[str, Drive]:
    """Drives by the names of their block devices, such as ``sdb`` and ``sdb1``.

    :param address: of the bus, if it is not the system's.
    """
    try:
        objects = managed_objects(Bus("system", address))
    except BusError:
        return {}
    known: dict[str, Drive] = {}
    for interfaces in objects.values():
        block = interfaces.get(BLOCK)
        drive = objects.get(value(block, "Drive", ""), {}).get(DRIVE) if block is not None else None
        device = device_of(interfaces)
        if drive is not None and device:
            words = " ".join(part for part in (value(drive, "Vendor", ""), value(drive, "Model", "")) if part)
            known[os.path.basename(device)] = Drive(
                words, bool(value(drive, "Removable", False) or value(drive, "Ejectable", False))
            )
    return known


def device_of(interfaces: dict[str, dict[str, Any]]) -> str:
    """The device file of an object, empty for one that is no block device."""
    return os.fsdecode(bytes(value(interfaces.get(BLOCK), "Device", b"")).rstrip(b"\0"))


def value(properties: dict[str, Any] | None, name: str, default: Any) -> Any:
    """A property's value, or the default where it is missing."""
    found = (properties or {}).get(name)
    return default if found is None else found.value
