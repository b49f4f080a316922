"""What UDisks2 knows of drives, over D-Bus (org.freedesktop.UDisks2, version 2): how their makers call them.

Without the bus or the service nothing is known, and ``/sys`` says what it can.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
from typing import Any

import msgspec

_SERVICE = "org.freedesktop.UDisks2"
_ROOT = "/org/freedesktop/UDisks2"
_BLOCK, _DRIVE = f"{_SERVICE}.Block", f"{_SERVICE}.Drive"
_SECONDS = 1.5


class Drive(msgspec.Struct, frozen=True):
    """One drive: its name, and whether it is meant to be taken away."""

    name: str
    removable: bool


def drives(address: str | None = None) -> dict[str, Drive]:
    """Drives by the names of their block devices, such as ``sdb`` and ``sdb1``.

    :param address: of the bus, if it is not the system's.
    """
    with contextlib.suppress(Exception):  # a bus that is absent, refuses, hangs or answers nonsense tells nothing
        return asyncio.run(asyncio.wait_for(_ask(address), _SECONDS))
    return {}


async def _ask(address: str | None) -> dict[str, Drive]:
    from dbus_fast import BusType, Message, MessageType  # loads the bus library; only a look at the disks needs it
    from dbus_fast.aio import MessageBus

    bus = await MessageBus(bus_address=address, bus_type=BusType.SYSTEM).connect()
    try:
        reply = await bus.call(
            Message(destination=_SERVICE, path=_ROOT, interface="org.freedesktop.DBus.ObjectManager", member="GetManagedObjects")
        )
        if reply is None or reply.message_type is not MessageType.METHOD_RETURN:
            return {}
        return _understood(reply.body[0])
    finally:
        bus.disconnect()


def _understood(objects: dict[str, dict[str, dict[str, Any]]]) -> dict[str, Drive]:
    """Drives by device, from the answer of ``GetManagedObjects``."""
    known: dict[str, Drive] = {}
    for interfaces in objects.values():
        block = interfaces.get(_BLOCK)
        drive = objects.get(_value(block, "Drive", ""), {}).get(_DRIVE) if block is not None else None
        device = bytes(_value(block, "Device", b"")).rstrip(b"\0")
        if drive is not None and device:
            words = " ".join(part for part in (_value(drive, "Vendor", ""), _value(drive, "Model", "")) if part)
            known[os.path.basename(os.fsdecode(device))] = Drive(
                words, bool(_value(drive, "Removable", False) or _value(drive, "Ejectable", False))
            )
    return known


def _value(properties: dict[str, Any] | None, name: str, default: Any) -> Any:
    found = (properties or {}).get(name)
    return default if found is None else found.value
