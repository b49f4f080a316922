"""The program as a service of the session's bus: desktops and file managers start it, or ask the one that
runs, by the interface ``org.freedesktop.Application`` (Desktop Entry Specification 1.5, D-Bus activation)."""

from __future__ import annotations

import logging
import os
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import unquote_to_bytes, urlsplit

from good_tide.system.bus import BusError, on_own_connection

if TYPE_CHECKING:
    from dbus_fast import Message
    from dbus_fast.aio import MessageBus

BUS_NAME = "org.goodtide.GoodTide"
_PATH = "/org/goodtide/GoodTide"
_INTERFACE = "org.freedesktop.Application"
_SECONDS = 5.0

_log = logging.getLogger(__name__)


class Asked(NamedTuple):
    """What somebody asked for. ``path``: to be shown; ``action``: to be done, by its name in the desktop
    entry; both empty: only to come to the front. ``token``: by which the window may come to the front."""

    path: bytes = b""
    action: str = ""
    token: str = ""


class ApplicationService:
    """Takes the program's name on the session's bus, and tells what is asked of it, in the bus's thread."""

    def __init__(self, asked: Callable[[Asked], None]) -> None:
        self._asked = asked

    def begin(self) -> bool:
        """Take the name; whether it is this process's now. Without a bus nothing is asked."""
        try:
            return bool(on_own_connection(self._serve, _SECONDS))
        except BusError as error:
            _log.info("not on the bus: %s", error.what)
            return False

    async def _serve(self, bus: MessageBus) -> bool:
        from dbus_fast import NameFlag, RequestNameReply

        bus.add_message_handler(self._answer)
        reply = await bus.request_name(BUS_NAME, NameFlag.DO_NOT_QUEUE)
        return reply in (RequestNameReply.PRIMARY_OWNER, RequestNameReply.ALREADY_OWNER)

    def _answer(self, message: Message) -> Message | None:
        from dbus_fast import Message, MessageType

        if message.message_type is not MessageType.METHOD_CALL or message.interface != _INTERFACE:
            return None
        if message.path != _PATH or not isinstance(message.body, list):
            return None
        found = asked_for(str(message.member), message.signature, message.body)
        if found is None:
            return Message.new_error(message, "org.freedesktop.DBus.Error.UnknownMethod", "no such method")
        for one in found:
            self._asked(one)
        return Message.new_method_return(message)


def asked_for(member: str, signature: str, body: list[Any]) -> list[Asked] | None:
    """What a call asks for; None where it is none of the interface's. Addresses that are no files of this
    machine are passed over."""
    if (member, signature) == ("Activate", "a{sv}"):
        return [Asked(token=_token(body[0]))]
    if (member, signature) == ("ActivateAction", "sava{sv}"):
        return [Asked(action=body[0], token=_token(body[2]))]
    if (member, signature) == ("Open", "asa{sv}"):
        paths = [path for path in map(_path_of, body[0]) if path]
        return [Asked(path, token=_token(body[1])) for path in paths] or [Asked(token=_token(body[1]))]
    return None


def _path_of(uri: str) -> bytes:
    """The path of a file's address (RFC 8089); empty where it is none of this machine."""
    parts = urlsplit(uri)
    if parts.scheme != "file" or parts.netloc not in ("", "localhost"):
        return b""
    path = unquote_to_bytes(parts.path)
    return os.path.normpath(path) if path.startswith(b"/") and b"\0" not in path else b""


def _token(data: dict[str, Any]) -> str:
    """What lets the window come to the front: of Wayland, or of X11's startup notification."""
    for key in ("activation-token", "desktop-startup-id"):
        value = getattr(data.get(key), "value", "")
        if isinstance(value, str) and value:
            return value
    return ""
