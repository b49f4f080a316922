"""The helper process: walks and reads folders that are new (``new_folders``), while the main process stores
what was read before.

It is given open folders over a socket, so that it never resolves a path of its own, and ends when the socket
closes.
"""

from __future__ import annotations

import contextlib
import gc
import os
import signal
import socket
import sys

import msgspec

from good_tide.crypto.seals import digest_with
from good_tide.operations.snapshot.new_folders import NewFolders, Terms, Wanted
from good_tide.operations.snapshot.read_helper import LENGTH_BYTES, receive_exactly

_COLLECT_EACH = 200_000
"""There is no cyclic garbage to speak of, and to look for it takes a quarter of the time."""


def main() -> None:
    """Serve the socket whose number is the first argument."""
    signal.signal(
        signal.SIGINT, signal.SIG_IGN
    )  # Ctrl+C is for the main process, which then closes the socket
    gc.freeze()
    gc.set_threshold(_COLLECT_EACH)
    connection = socket.socket(fileno=int(sys.argv[1]))
    with contextlib.suppress(ConnectionError):  # who asked is no more
        length = int.from_bytes(receive_exactly(connection, LENGTH_BYTES), "little")
        terms = msgspec.msgpack.decode(receive_exactly(connection, length), type=Terms)
        _serve(connection, NewFolders(terms, digest_with(terms.digest_key)))


def _serve(connection: socket.socket, walking: NewFolders) -> None:
    decoder, encoder = msgspec.msgpack.Decoder(Wanted), msgspec.msgpack.Encoder()
    while True:
        head, handles, _, _ = socket.recv_fds(connection, LENGTH_BYTES, 1)
        if len(head) < LENGTH_BYTES or not handles:
            return
        try:
            wanted = decoder.decode(receive_exactly(connection, int.from_bytes(head, "little")))
            for bundle in walking.bundles(wanted, handles[0]):
                reply = encoder.encode(bundle)
                connection.sendall(len(reply).to_bytes(LENGTH_BYTES, "little"))
                connection.sendall(reply)
        finally:
            os.close(handles[0])


if __name__ == "__main__":
    main()
