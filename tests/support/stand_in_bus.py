"""A desktop's services for tests, on the session's bus: UPower, NetworkManager, logind, UDisks2,
notifications. ``main`` asks them as the program does and prints what came of it."""

from __future__ import annotations

import asyncio
import json
import os
import sys
import tempfile
import threading
from pathlib import Path
from typing import Any
from unittest import mock

from dbus_fast import Message, MessageType, Variant
from dbus_fast.aio import MessageBus

from good_tide.core.errors import PlaceError
from good_tide.lines.mounts import Mount
from good_tide.system.announced import AnnouncedServers
from good_tide.system.bus import Bus, BusError
from good_tide.system.choosing import ProgramChoice
from good_tide.system.ejecting import Ejector
from good_tide.system.notices import DesktopNotices
from good_tide.system.power import Power
from good_tide.system.surroundings import SystemSurroundings

_NAMES = (
    "org.freedesktop.UPower",
    "org.freedesktop.NetworkManager",
    "org.freedesktop.login1",
    "org.freedesktop.UDisks2",
    "org.freedesktop.Notifications",
    "org.freedesktop.PowerManagement.Inhibit",
    "org.kde.StatusNotifierWatcher",
    "org.freedesktop.portal.Desktop",
    "org.freedesktop.Avahi",
)
_ANNOUNCED = {
    "_smb._tcp": ("Pier", "pier.local", 445, []),
    "_webdavs._tcp": ("Attic", "attic.local", 8443, [b"path=/remote files/"]),
}
_BLOCK, _DRIVE = "/org/freedesktop/UDisks2/block_devices/sdb1", "/org/freedesktop/UDisks2/drives/Buoy"


class StandInServices:
    """The services. ``state`` is what they answer with, ``asked`` what they were told to do."""

    def __init__(self, address: str) -> None:
        self.state: dict[str, Any] = {
            "OnBattery": False,
            "Percentage": 100.0,
            "Metered": 4,
            "inhibitors": [],
            "HasInhibit": False,
            "busy": False,
        }
        self.asked: list[str] = []
        self.items: list[str] = []
        self.held: list[int] = []
        self._address, self._ready = address, threading.Event()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._bus: MessageBus | None = None
        threading.Thread(target=lambda: asyncio.run(self._serve()), daemon=True).start()
        if not self._ready.wait(120):
            sys.exit("the stand-ins did not come up")

    async def _serve(self) -> None:
        self._loop = asyncio.get_running_loop()
        self._bus = await MessageBus(bus_address=self._address, negotiate_unix_fd=True).connect()
        for name in _NAMES:
            await self._bus.request_name(name)
        self._bus.add_message_handler(self._answer)
        self._ready.set()
        await self._bus.wait_for_disconnect()  # type: ignore[no-untyped-call]

    def _answer(self, message: Message) -> Message | None:
        if (
            message.message_type is not MessageType.METHOD_CALL
            or message.interface == "org.freedesktop.DBus.Introspectable"
        ):
            return None
        member, body = message.member, message.body
        if member == "Get":
            values = {
                "OnBattery": "b",
                "Percentage": "d",
                "Metered": "u",
                "IsStatusNotifierHostRegistered": "b",
                "ProtocolVersion": "i",
            }
            value = {"IsStatusNotifierHostRegistered": True, "ProtocolVersion": 0}.get(
                body[1], self.state.get(body[1])
            )
            return (
                Message.new_method_return(message, "v", [Variant(values[body[1]], value)])
                if body[1] in values
                else None
            )
        if member == "GetAll":
            return Message.new_method_return(
                message, "a{sv}", [{"IsStatusNotifierHostRegistered": Variant("b", True)}]
            )
        if member == "ListInhibitors":
            return Message.new_method_return(message, "a(ssssuu)", [self.state["inhibitors"]])
        if member == "HasInhibit":
            return Message.new_method_return(message, "b", [self.state["HasInhibit"]])
        if member == "Inhibit":
            self.asked.append(f"Inhibit {body[0]} {body[3]}")
            reading, writing = os.pipe()
            self.held.append(reading)
            asyncio.get_running_loop().call_later(0.1, os.close, writing)
            return Message.new_method_return(message, "h", [0], unix_fds=[writing])
        if member == "GetManagedObjects":
            block = {
                "org.freedesktop.UDisks2.Block": {
                    "Device": Variant("ay", b"/dev/sdb1\0"),
                    "Drive": Variant("o", _DRIVE),
                }
            }
            drive = {"org.freedesktop.UDisks2.Drive": {"CanPowerOff": Variant("b", True)}}
            return Message.new_method_return(message, "a{oa{sa{sv}}}", [{_BLOCK: block, _DRIVE: drive}])
        if member == "Unmount" and self.state["busy"]:
            return Message.new_error(message, "org.freedesktop.UDisks2.Error.DeviceBusy", "target is busy")
        if member == "Notify":
            self.asked.append(f"Notify {body[3]}")
            return Message.new_method_return(message, "u", [7])
        if member == "RegisterStatusNotifierItem":
            self.items.append(f"{message.sender} {body[0]}")
            return Message.new_method_return(message)
        if member == "ServiceBrowserNew":
            asyncio.get_running_loop().call_soon(self._announce, body[2])
            return Message.new_method_return(message, "o", ["/browser"])
        if member == "ResolveService":
            name, host, port, told = _ANNOUNCED[body[3]]
            words = [1, 0, name, body[3], "local", host, 0, "192.0.2.1", port, told, 0]
            return Message.new_method_return(message, "iissssisqaayu", words)
        if member == "Free":
            self.asked.append("Free")
            return Message.new_method_return(message)
        if member == "OpenFile":
            [handle] = message.unix_fds
            self.asked.append(f"OpenFile {os.read(handle, 100).decode()} {body[2]['ask'].value}")
            os.close(handle)
            return Message.new_method_return(message, "o", ["/org/freedesktop/portal/desktop/request/1"])
        if member in ("Suspend", "PowerOff", "Unmount", "Eject"):
            self.asked.append(f"{member} {(message.path or '').rpartition('/')[2]}")
            return Message.new_method_return(message)
        return None

    def _announce(self, kind: str) -> None:
        """Tell of services of a kind."""
        assert self._bus is not None
        made: list[tuple[str, str, list[Any]]] = [("AllForNow", "", [])]
        if kind in _ANNOUNCED:
            made.insert(0, ("ItemNew", "iisssu", [1, 0, _ANNOUNCED[kind][0], kind, "local", 0]))
        for member, signature, body in made:
            interface = "org.freedesktop.Avahi.ServiceBrowser"
            self._bus.send(Message.new_signal("/browser", interface, member, signature, body))

    def signal(self, interface: str, member: str, signature: str, body: list[object]) -> None:
        """Send a signal to everybody."""
        assert self._loop is not None and self._bus is not None
        made = Message.new_signal("/" + interface.replace(".", "/"), interface, member, signature, body)
        bus = self._bus

        async def send() -> None:
            await bus.send(made)

        asyncio.run_coroutine_threadsafe(send(), self._loop).result(5)


def main() -> None:
    """Ask everything, and print what came of it as JSON."""
    address = os.environ["DBUS_SESSION_BUS_ADDRESS"]
    services, bus = StandInServices(address), Bus("session")
    found: dict[str, object] = {}

    def conditions() -> list[object]:
        now = SystemSurroundings(bus, bus).conditions()
        return [now.battery, now.metered, now.presenting]

    found["calm"] = conditions()
    services.state.update(
        OnBattery=True, Percentage=17.0, Metered=1, inhibitors=[("idle", "player", "film", "block", 1000, 1)]
    )
    found["hindered"] = conditions()
    services.state.update(
        OnBattery=False, Metered=2, inhibitors=[("sleep", "x", "y", "delay", 1000, 1)], HasInhibit=True
    )
    found["presenting"] = conditions()

    power = Power(bus)
    hold = power.hold_off("writing")
    reading = services.held[0]
    os.set_blocking(reading, False)
    found["held"] = [hold.held, _is_open(reading)]
    hold.let_go()
    threading.Event().wait(0.2)
    found["let go"] = [hold.held, _is_open(reading)]
    timed = power.hold_off("writing", 0.2)
    threading.Event().wait(0.6)
    found["never longer than stated"] = timed.held
    power.end_of_day("suspend")
    power.end_of_day("power-off")

    acted = threading.Event()
    notices = DesktopNotices(bus)
    found["told"] = notices.tell("Office: failing", "Make room", "critical", "Show", acted.set)
    services.signal("org.freedesktop.Notifications", "ActionInvoked", "us", [7, "default"])
    found["acted"] = acted.wait(120)

    mounts = [
        Mount("/", "ext4", "/dev/sda1", (8, 1), "/", False),
        Mount(str(Path.cwd()), "ext4", "/dev/sdb1", (8, 17), "/", False),
    ]
    with (
        mock.patch("good_tide.system.ejecting.read_mounts", lambda: mounts),
        mock.patch("good_tide.system.ejecting.holders", lambda root: []),
    ):
        found["ejected"] = Ejector(bus).eject(Path.cwd() / "store")
        services.state["busy"] = True
        found["busy"] = _error(lambda: Ejector(bus).eject(Path.cwd() / "store"))
        found["system disk"] = _error(lambda: Ejector(bus).eject(Path("/somewhere")))
    folder = tempfile.TemporaryDirectory()
    file = Path(folder.name) / "of a moment.txt"
    file.write_text("as it was")
    ProgramChoice(bus).open_with(file)
    found["asked"] = list(services.asked)
    found["announced"] = [AnnouncedServers(bus).addresses() for _ in range(2)]
    found["browsers ended"] = services.asked.count("Free")

    absent = Bus("session", "unix:path=/nonexistent")
    nothing = SystemSurroundings(absent, absent).conditions()
    found["without a bus"] = [
        nothing.battery,
        nothing.metered,
        nothing.presenting,
        Power(absent).hold_off("x").held,
        DesktopNotices(absent).tell("x", "y"),
    ]
    found["nothing announced"] = AnnouncedServers(absent).addresses()
    found["without a portal"] = _error(lambda: ProgramChoice(absent).open_with(file))
    folder.cleanup()
    found["without a bus, asked"] = _error(lambda: Power(absent).end_of_day("suspend"))
    try:
        bus.call("org.freedesktop.Nobody", "/", "a.b", "C")
    except BusError as error:
        found["nobody"] = bool(error.name)
    print(json.dumps(found))


def _is_open(reading: int) -> bool:
    """Whether the other end of a pipe is still held."""
    try:
        return os.read(reading, 1) != b""
    except BlockingIOError:
        return True


def _error(act: Any) -> str:
    try:
        act()
    except PlaceError as error:
        return str(error)
    return ""
