"""Watching folders for changes (inotify(7), through the package watchdog)."""

from __future__ import annotations

import contextlib
import errno
import os
import threading
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from good_tide.core.translation import tr

if TYPE_CHECKING:
    from watchdog.events import FileSystemEvent
    from watchdog.observers.inotify import InotifyObserver

_LIMITS = "/proc/sys/fs/inotify/max_user_watches"


class FolderWatch:
    """Tells of changes below some folders until it is ended.

    :param changed: given each path that changed, in the watching thread; called often, so it must be quick.
    :param began: called when everything is watched.
    :param left: told in a sentence when watching is not possible, or no longer complete.
    """

    def __init__(
        self,
        folders: tuple[str, ...],
        changed: Callable[[str], None],
        left: Callable[[str], None],
        began: Callable[[], None] = lambda: None,
    ) -> None:
        self.folders, self._changed, self._left, self._began = folders, changed, left, began
        self._observer: InotifyObserver | None = None
        self._thread = threading.Thread(target=self._begin, name="watch", daemon=True)
        self._ended = False
        self.ready = threading.Event()
        """All folders are watched, or it was said that they cannot be."""

    def start(self) -> None:
        """Begin to watch; walking through all folders takes its time, in a thread of its own."""
        self._thread.start()

    def _begin(self) -> None:
        from watchdog.events import (  # loads the package; only continuous mode needs it
            DirCreatedEvent,
            DirDeletedEvent,
            DirMovedEvent,
            FileClosedEvent,
            FileCreatedEvent,
            FileDeletedEvent,
            FileModifiedEvent,
            FileMovedEvent,
            FileSystemEventHandler,
        )
        from watchdog.observers.inotify import InotifyObserver

        watch = self

        class Handler(FileSystemEventHandler):
            """Passes everything on."""

            def on_any_event(self, event: FileSystemEvent) -> None:
                watch._heard(event)

        wanted: list[type[FileSystemEvent]] = [
            FileClosedEvent,
            FileModifiedEvent,
            FileCreatedEvent,
            FileDeletedEvent,
            FileMovedEvent,
            DirCreatedEvent,
            DirDeletedEvent,
            DirMovedEvent,
        ]
        observer = InotifyObserver()
        try:
            observer.start()
            for folder in self.folders:
                if self._ended:
                    break
                if os.path.isdir(folder):
                    observer.schedule(Handler(), folder, recursive=True, event_filter=wanted)
            self._observer = observer
            if not self._ended:
                self._began()
        except OSError as error:
            self._stop(observer)
            self._left(limit_words(error))
        if self._ended:
            self._stop(observer)
        self.ready.set()

    def _heard(self, event: FileSystemEvent) -> None:
        for path in (event.src_path, getattr(event, "dest_path", "")):
            if path:
                self._changed(os.fsdecode(path))

    @staticmethod
    def _stop(observer: Any) -> None:
        with contextlib.suppress(RuntimeError, OSError):
            observer.stop()
            observer.join(5)

    def end(self) -> None:
        """Watch no longer."""
        self._ended = True
        if self._observer is not None:
            self._stop(self._observer)
            self._observer = None


def limit_words(error: OSError) -> str:
    """Why folders cannot be watched, in a sentence."""
    if error.errno in (errno.ENOSPC, errno.EMFILE):
        limit = ""
        with contextlib.suppress(OSError, ValueError), open(_LIMITS, encoding="ascii") as file:
            limit = f" ({int(file.read()):,} for each person)"
        return tr(
            "The system's limit of watched folders is reached{limit}; changes are found by the clock instead"
        ).format(limit=limit)
    return tr("Folders cannot be watched ({strerror}); changes are found by the clock instead").format(
        strerror=error.strerror or error
    )
