"""One window for each settings folder: a second one hands its wish to the first and ends."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject
from PySide6.QtNetwork import QLocalServer, QLocalSocket

from good_tide.protocol.sockets import is_own_process, make_private

_MS = 500


def hand_over(socket: Path, job: str, place: str) -> bool:
    """Let a window that is open already show a place of a job; whether there is one.

    Raises:
        PlaceError: somebody else could listen there.
    """
    make_private(socket.parent)
    other = QLocalSocket()
    other.connectToServer(str(_door(socket)))
    if not other.waitForConnected(_MS) or not is_own_process(int(other.socketDescriptor())):
        return False
    other.write(f"{job}\n{place}\n".encode())
    other.waitForBytesWritten(_MS)
    other.disconnectFromServer()
    return True


def _door(socket: Path) -> Path:
    return socket.with_name(f"{socket.stem}.window")


class SingleInstance(QObject):
    """Takes the wishes of second windows, next to the agent's socket."""

    def __init__(self, socket: Path, wanted: Callable[[str, str], None], parent: QObject) -> None:
        super().__init__(parent)
        self._wanted = wanted
        self._server = QLocalServer(self)
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        path = _door(socket)
        make_private(path.parent)
        QLocalServer.removeServer(str(path))
        self._server.listen(str(path))
        self._server.newConnection.connect(self._take)

    def _take(self) -> None:
        client = self._server.nextPendingConnection()

        def read() -> None:
            words = bytes(client.readAll().data()).decode(errors="replace").split("\n")
            if len(words) >= 3:
                self._wanted(words[0], words[1])
                client.deleteLater()

        client.readyRead.connect(read)
        if client.bytesAvailable():
            read()
