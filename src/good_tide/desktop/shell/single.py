"""One window for each settings folder: it takes the wishes of those who would open a second one."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject
from PySide6.QtNetwork import QLocalServer

from good_tide.protocol.sockets import make_private
from good_tide.protocol.wishes import WISH_END, Wish, window_door

_LONGEST = 1 << 20


class SingleInstance(QObject):
    """Takes wishes (``protocol.wishes``), next to the agent's socket."""

    def __init__(self, socket: Path, wanted: Callable[[Wish], None], parent: QObject) -> None:
        super().__init__(parent)
        self._wanted = wanted
        self._server = QLocalServer(self)
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        path = window_door(socket)
        make_private(path.parent)
        QLocalServer.removeServer(str(path))
        self._server.listen(str(path))
        self._server.newConnection.connect(self._take)

    def _take(self) -> None:
        client = self._server.nextPendingConnection()
        said = bytearray()

        def read() -> None:
            said.extend(client.readAll().data())
            if said.endswith(WISH_END) or len(said) > _LONGEST:
                with contextlib.suppress(msgspec.MsgspecError):  # of another version, or of no window
                    self._wanted(msgspec.json.decode(bytes(said), type=Wish))
                client.deleteLater()

        client.readyRead.connect(read)
        if client.bytesAvailable():
            read()
