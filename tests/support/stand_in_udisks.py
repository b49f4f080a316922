"""A disk service for tests: answers ``GetManagedObjects`` on the session's bus as UDisks2 does on the
system's."""

from __future__ import annotations

import asyncio
import json
import os
import sys
import threading

from dbus_fast import Message, MessageType, Variant
from dbus_fast.aio import MessageBus

from good_tide.system.udisks import drives

_BLOCKS = "/org/freedesktop/UDisks2/block_devices"
_DRIVE = "/org/freedesktop/UDisks2/drives/Buoy"


def _objects() -> dict[str, dict[str, dict[str, Variant]]]:
    def block(device: bytes, drive: str) -> dict[str, dict[str, Variant]]:
        return {
            "org.freedesktop.UDisks2.Block": {
                "Device": Variant("ay", device + b"\0"),
                "Drive": Variant("o", drive),
            }
        }

    makers = {
        "Vendor": Variant("s", "Harbour Works"),
        "Model": Variant("s", "Buoy 2"),
        "Removable": Variant("b", False),
        "Ejectable": Variant("b", True),
    }
    return {
        f"{_BLOCKS}/sdb": block(b"/dev/sdb", _DRIVE),
        f"{_BLOCKS}/sdb1": block(b"/dev/sdb1", _DRIVE),
        f"{_BLOCKS}/loop0": block(b"/dev/loop0", "/"),
        _DRIVE: {"org.freedesktop.UDisks2.Drive": makers},
    }


def _serve(ready: threading.Event, address: str) -> None:
    async def run() -> None:
        bus = await MessageBus(bus_address=address).connect()
        await bus.request_name("org.freedesktop.UDisks2")

        def answer(message: Message) -> Message | None:
            if message.message_type is MessageType.METHOD_CALL and message.member == "GetManagedObjects":
                return Message.new_method_return(message, "a{oa{sa{sv}}}", [_objects()])
            return None

        bus.add_message_handler(answer)
        ready.set()
        await bus.wait_for_disconnect()  # type: ignore[no-untyped-call]

    asyncio.run(run())


def main() -> None:
    """Serve, ask as the program does, and print what it understood."""
    address, ready = os.environ["DBUS_SESSION_BUS_ADDRESS"], threading.Event()
    threading.Thread(target=_serve, args=(ready, address), daemon=True).start()
    if not ready.wait(120):
        sys.exit("the stand-in did not come up")
    print(
        json.dumps(
            {device: [drive.name, drive.removable] for device, drive in sorted(drives(address).items())}
        )
    )
