"""A connection to the system's or the session's message bus (D-Bus), kept by one thread for all who ask.

A bus that is absent, refuses, hangs or answers nonsense is one error, ``BusError``; whoever asks goes on
without it.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Coroutine, Sequence
from typing import TYPE_CHECKING, Any, Literal

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr

if TYPE_CHECKING:
    import asyncio

    from dbus_fast import Message
    from dbus_fast.aio import MessageBus

BusKind = Literal["system", "session"]
_SECONDS = 2.0
_TRY_AGAIN_SECONDS = 30.0
"""After a bus was not there, it is not asked again for so long."""


class BusError(PlaceError):
    """The bus or the service is not there, or refused. ``name`` is the D-Bus error's, where there is one."""

    def __init__(self, what: str, advice: str = "", name: str = "") -> None:
        super().__init__(what, advice)
        self.name = name


class _Loop:
    """The thread that all connections live in; started when first needed."""

    def __init__(self) -> None:
        self._guard = threading.Lock()
        self._loop: asyncio.AbstractEventLoop | None = None

    def run(self, work: Coroutine[Any, Any, Any], seconds: float) -> Any:
        import asyncio

        with self._guard:
            if self._loop is None:
                self._loop = asyncio.new_event_loop()
                threading.Thread(target=self._loop.run_forever, name="bus", daemon=True).start()
        return asyncio.run_coroutine_threadsafe(asyncio.wait_for(work, seconds), self._loop).result(
            seconds + 1
        )


_loop = _Loop()


class Bus:
    """One bus. Connects when first used, and again after the connection was lost.

    :param address: of the bus, if it is not the one that the environment names.
    """

    def __init__(self, kind: BusKind, address: str | None = None) -> None:
        self._kind, self._address = kind, address
        self._bus: MessageBus | None = None
        self._listeners: list[tuple[str, Callable[[str, Sequence[Any]], None]]] = []
        self._failed_at: float | None = None

    @property
    def there(self) -> bool:
        """Whether this machine or session has such a bus at all; told without loading what speaks with
        one."""
        if self._address is not None or os.environ.get(f"DBUS_{self._kind.upper()}_BUS_ADDRESS"):
            return True
        usual = (
            "/run/dbus/system_bus_socket"
            if self._kind == "system"
            else f"{os.environ.get('XDG_RUNTIME_DIR', '')}/bus"
        )
        return os.path.exists(usual)

    def call(
        self,
        service: str,
        path: str,
        interface: str,
        member: str,
        signature: str = "",
        body: Sequence[Any] = (),
        seconds: float = _SECONDS,
        patient: bool = False,
        handles: Sequence[int] = (),
    ) -> list[Any]:
        """Call a method; returns the answer's body. File handles in it are numbers of this process, to be
        closed by the caller.

        :param patient: try even if the bus was not there just now.
        :param handles: file handles of this process that go with it; in the body are their places in here.

        Raises:
            BusError: it was not answered.
        """
        if not self.there:
            raise BusError(tr("There is no {kind} bus").format(kind=self._kind))
        try:
            return list(
                _loop.run(
                    self._call(service, path, interface, member, signature, body, patient, handles), seconds
                )
            )
        except BusError:
            raise
        except TimeoutError as error:
            raise BusError(tr("{service} did not answer").format(service=service)) from error
        except (
            Exception
        ) as error:  # every other fault of a connection comes out of the library in a type of its own
            self._bus = None
            raise BusError(
                tr("{service} cannot be asked ({name})").format(service=service, name=type(error).__name__)
            ) from error

    def property(self, service: str, path: str, interface: str, name: str) -> Any:
        """A property's value.

        Raises:
            BusError: it was not answered.
        """
        return self.call(service, path, "org.freedesktop.DBus.Properties", "Get", "ss", [interface, name])[
            0
        ].value

    def listen(self, interface: str, heard: Callable[[str, Sequence[Any]], None]) -> None:
        """Be told of an interface's signals, as their name and body, in the bus's thread. Without a bus
        nothing is heard.

        Raises:
            BusError: there is no bus.
        """
        self._listeners.append((interface, heard))
        self.call(
            "org.freedesktop.DBus",
            "/org/freedesktop/DBus",
            "org.freedesktop.DBus",
            "AddMatch",
            "s",
            [f"type='signal',interface='{interface}'"],
        )

    async def _call(
        self,
        service: str,
        path: str,
        interface: str,
        member: str,
        signature: str,
        body: Sequence[Any],
        patient: bool,
        handles: Sequence[int],
    ) -> Sequence[Any]:
        from dbus_fast import (
            Message,
            MessageType,
        )  # loads the bus library; a machine without a bus does not need it

        bus = await self._connected(patient)
        reply = await bus.call(
            Message(
                service,
                path,
                interface,
                member,
                signature=signature,
                body=list(body),
                unix_fds=list(handles),
            )
        )
        assert reply is not None
        if reply.message_type is MessageType.ERROR:
            words = str(reply.body[0]) if reply.body else str(reply.error_name)
            raise BusError(words.rstrip("."), name=str(reply.error_name))
        if "h" in reply.signature:
            return [
                reply.unix_fds[value] if kind == "h" else value
                for kind, value in zip(reply.signature, reply.body, strict=True)
            ]
        return reply.body

    async def _connected(self, patient: bool) -> MessageBus:
        import asyncio

        from dbus_fast import BusType
        from dbus_fast.aio import MessageBus

        now = asyncio.get_running_loop().time()
        if self._bus is not None and self._bus.connected:
            return self._bus
        if not patient and self._failed_at is not None and now - self._failed_at < _TRY_AGAIN_SECONDS:
            raise BusError(tr("There is no {kind} bus").format(kind=self._kind))
        try:
            kind = BusType.SYSTEM if self._kind == "system" else BusType.SESSION
            bus = await MessageBus(bus_address=self._address, bus_type=kind, negotiate_unix_fd=True).connect()
        except Exception:
            self._failed_at = now
            raise
        self._bus, self._failed_at = bus, None
        bus.add_message_handler(self._heard)
        return bus

    def _heard(self, message: Message) -> None:
        from dbus_fast import MessageType

        if message.message_type is MessageType.SIGNAL:
            for interface, heard in self._listeners:
                if message.interface == interface:
                    heard(str(message.member), message.body)


def on_own_connection(work: Callable[[MessageBus], Coroutine[Any, Any, Any]], seconds: float) -> Any:
    """Do something on a connection of its own to the session's bus, in the bus's thread; the connection stays
    for as long as the process.

    Raises:
        BusError: there is no bus, or it did not answer.
    """
    if not Bus("session").there:
        raise BusError(tr("There is no {kind} bus").format(kind="session"))

    async def connected() -> Any:
        from dbus_fast import BusType
        from dbus_fast.aio import MessageBus

        return await work(await MessageBus(bus_type=BusType.SESSION).connect())

    try:
        return _loop.run(connected(), seconds)
    except Exception as error:  # every fault of a connection comes out of the library in a type of its own
        raise BusError(
            tr("The session's bus cannot be asked ({name})").format(name=type(error).__name__)
        ) from error
