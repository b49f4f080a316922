"""The helper process: reads small files for a snapshot while the main process stores those read before.

It is given open folders over a socket, so that it never resolves a path of its own, and ends when the socket
closes.
"""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import sys
from collections.abc import Callable

import msgspec

from good_tide.crypto.seals import digest_with
from good_tide.source.small_files import SmallRead, read_small

LENGTH_BYTES = 8
DIGEST_KEY_BYTES = 32
_Sent = tuple[bytes, int, int, int, int]
"""As ``Expected``."""


def receive_exactly(connection: socket.socket, length: int) -> bytes:
    """``length`` bytes of a stream; fewer when it ends."""
    data = connection.recv(length, socket.MSG_WAITALL)
    while len(data) < length and (more := connection.recv(length - len(data), socket.MSG_WAITALL)):
        data += more
    return data


def main() -> None:
    """Serve the socket whose number is the first argument."""
    signal.signal(
        signal.SIGINT, signal.SIG_IGN
    )  # Ctrl+C is for the main process, which then closes the socket
    connection = socket.socket(fileno=int(sys.argv[1]))
    digest = digest_with(receive_exactly(connection, DIGEST_KEY_BYTES))
    with contextlib.suppress(ConnectionError):  # who asked is no more
        _serve(connection, digest)


def _serve(connection: socket.socket, digest: Callable[[bytes], bytes]) -> None:
    decoder, encoder = msgspec.msgpack.Decoder(list[_Sent]), msgspec.msgpack.Encoder()
    while True:
        head, handles, _, _ = socket.recv_fds(connection, LENGTH_BYTES, 1)
        if len(head) < LENGTH_BYTES or not handles:
            return
        files = decoder.decode(receive_exactly(connection, int.from_bytes(head, "little")))
        try:
            found: SmallRead = read_small(handles[0], files, digest)
        finally:
            os.close(handles[0])
        reply = encoder.encode(found)
        connection.sendall(len(reply).to_bytes(LENGTH_BYTES, "little") + reply)


if __name__ == "__main__":
    main()
