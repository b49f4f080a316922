"""The process of a mount: it opens the store, mounts its history, says so, and answers until nobody has asked
anything for a while, the disk has gone, or whoever began it is no more.

The first line of standard input says what is wanted; while it is to live with whoever began it, the end of
standard input is its end. The one line that it writes says whether it is mounted.
"""

from __future__ import annotations

import contextlib
import os
import sys
import threading
import time
from pathlib import Path
from typing import Protocol

import msgspec

from good_tide.core.errors import GoodTideError, PersonError
from good_tide.core.identifiers import StoreId
from good_tide.core.translation import tr
from good_tide.operations.context import this_context
from good_tide.operations.mount.mounting import Begun, MountWish, unmounted
from good_tide.operations.mount.patience import Patient
from good_tide.operations.mount.reading import ChunkCache
from good_tide.operations.mount.tree import PastTree
from good_tide.operations.stores.by_folder import open_to_look
from good_tide.operations.stores.opened import called
from good_tide.operations.workplace import use_settings
from good_tide.system.limits import exit_after, set_process_limits

_PATIENCE_SECONDS = 20.0
_LOOK_SECONDS = 2.0
_AWAY_SECONDS = 15.0
"""A disk that has been away for so long is not waited for."""
_END_SECONDS = 5.0


class Used(Protocol):
    """Says when something was asked last, by the monotonic clock, and whether a file is open."""

    used: float

    @property
    def is_open(self) -> bool: ...


class _Given:
    """The passphrase that came with the wish."""

    def __init__(self, passphrase: str | None) -> None:
        self._passphrase = passphrase

    def known(self, store: StoreId) -> str | None:
        return self._passphrase

    def ask(self, where: str, hint: str | None) -> str | None:
        """Nobody can be asked here."""
        return None

    def unreadable(self, error: PersonError) -> None:
        raise error


def main() -> int:
    """Mount, and answer."""
    set_process_limits()
    wish = msgspec.json.decode(sys.stdin.buffer.readline(), type=MountWish)
    if wish.settings:
        use_settings(Path(wish.settings))
    try:
        _serve(wish)
    except GoodTideError as error:
        _say(Begun(what=error.what, todo=error.advice))
        return 1
    except (RuntimeError, OSError) as error:
        what = tr("The folder cannot be mounted ({error})").format(error=error)
        _say(Begun(what=what, todo=tr("See whether the package fuse3 is installed")))
        return 1
    finally:
        if wish.made:
            with contextlib.suppress(OSError):
                os.rmdir(wish.folder)
    return 0


def _serve(wish: MountWish) -> None:
    context = this_context()
    store = open_to_look(context, wish.named, _Given(wish.passphrase)).store
    patient = Patient(_PATIENCE_SECONDS)
    tree = PastTree(store, wish.machine, context.here.cache, context.clock, patient)
    from good_tide.operations.mount.file_system import PastMount  # which needs the library of FUSE

    chunks = ChunkCache(
        store.read_chunk, _PATIENCE_SECONDS, lambda chunk, most: store.index.following(chunk, most)
    )

    ended = threading.Event()

    def ready(mount: PastMount) -> None:
        told = wish, tree, mount, ended
        threading.Thread(target=_watch, args=told, name="watch", daemon=True).start()
        if not wish.stays:
            threading.Thread(target=_until_the_end, args=(wish,), name="input", daemon=True).start()
        _say(Begun(called=called(store)))

    PastMount(tree, chunks, wish.folder, called(store), ready)
    ended.set()
    chunks.close()
    exit_after(_END_SECONDS, 0)  # whatever a disk that hangs still holds


def _say(begun: Begun) -> None:
    sys.stdout.buffer.write(msgspec.json.encode(begun) + b"\n")
    sys.stdout.buffer.flush()


def _until_the_end(wish: MountWish) -> None:
    """Whoever began it has ended: so does this."""
    while sys.stdin.buffer.read(1):
        pass
    _end(wish)


def _end(wish: MountWish) -> None:
    unmounted(wish.folder, lazily=True)
    exit_after(_END_SECONDS, 0)


def _watch(wish: MountWish, tree: PastTree, mount: Used, ended: threading.Event) -> None:
    """Unmount when nobody has asked anything for long, or the disk has gone."""
    there = time.monotonic()
    asks = Patient(_PATIENCE_SECONDS)  # one of its own: whoever reads is not to wait for it
    while not ended.wait(_LOOK_SECONDS):
        now = time.monotonic()
        with contextlib.suppress(GoodTideError, TimeoutError):
            asks(tree.check)
            there = time.monotonic()
        if now - there > _AWAY_SECONDS:
            _end(wish)
            return
        if not mount.is_open and now - mount.used > wish.idle_seconds:
            unmounted(wish.folder)  # unless somebody stands in it


if __name__ == "__main__":
    sys.exit(main())
