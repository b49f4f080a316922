"""What clients ask of earlier versions as folders: each job's history is mounted when it is first asked for,
by a process that lives as long as the agent."""

from __future__ import annotations

import contextlib
import os
import subprocess
import threading
import time
from typing import NamedTuple

from good_tide.agent.job_session import JobSession
from good_tide.agent.passphrases import TypedPassphrases
from good_tide.agent.sessions import Sessions
from good_tide.core.identifiers import JobId, StoreId
from good_tide.operations.context import Context
from good_tide.operations.history.moments import moment_names, own_snapshots
from good_tide.operations.mount import mounting
from good_tide.operations.mount.mounting import MountWish
from good_tide.operations.mount.tree import MOMENTS
from good_tide.operations.stores.opened import id_of
from good_tide.protocol.contract import Handler
from good_tide.protocol.version_calls import ShowAsFolder

_END_SECONDS = 10.0
_APPEARS_SECONDS = 15.0
_LOOK_SECONDS = 0.2


class _Begun(NamedTuple):
    store: StoreId
    folder: str
    process: subprocess.Popen[bytes]


class MountHandlers:
    """Mounts histories, and unmounts them at the end."""

    def __init__(self, context: Context, sessions: Sessions, typed: TypedPassphrases) -> None:
        self._context, self._sessions, self._typed = context, sessions, typed
        self._guard = threading.Lock()
        self._pause = threading.Event()
        """Never set: waited on."""
        self._begun: dict[JobId, _Begun] = {}

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (ShowAsFolder.by(self.show),)

    def show(self, wanted: ShowAsFolder) -> str:
        """Where a path of a moment can be read: the folder that it is, or that it is in.

        Raises:
            GoodTideError: the snapshot is no longer kept, or nothing can be mounted here.
        """
        session = self._sessions.of(wanted.job)
        snapshot = session.snapshot(wanted.snapshot, wanted.time)
        names = moment_names(own_snapshots(session.store(), session.machine.id))
        top = os.path.join(os.fsencode(self._mounted(session)), MOMENTS, names[snapshot.id])
        path = os.path.join(top, wanted.path.lstrip(b"/"))
        ends = time.monotonic() + _APPEARS_SECONDS
        while not os.path.isdir(top) and time.monotonic() < ends:  # the newest comes within some seconds
            self._pause.wait(_LOOK_SECONDS)
        return os.fsdecode(path if os.path.isdir(path) else os.path.dirname(path))

    def _mounted(self, session: JobSession) -> str:
        """The folder in which the history of a job is mounted."""
        store = id_of(session.store())
        with self._guard:
            known = self._begun.get(session.job.id)
            if known is not None and known.process.poll() is None and known.store == store:
                return known.folder
            if known is not None:
                self._end(known)
            mounting.clear_dead()
            above = self._context.here.runtime / "past"
            above.mkdir(parents=True, exist_ok=True, mode=0o700)
            folder = above / _folder_name(session.job.name)
            if str(folder) in {one.folder for one in mounting.mounted()}:  # by another agent, of a demo
                folder = above / f"{_folder_name(session.job.name)} {session.job.id[:6]}"
            where = session.stores.place_of(session.shown)
            wish = MountWish(
                where.called if where is not None else session.job.id,
                session.machine.id,
                str(folder),
                self._typed.known(store),
                str(self._context.here.settings),
            )
            _, process = mounting.begin(wish)
            self._begun[session.job.id] = _Begun(store, wish.folder, process)
            return wish.folder

    @staticmethod
    def _end(begun: _Begun) -> None:
        assert begun.process.stdin is not None and begun.process.stdout is not None
        with contextlib.suppress(OSError):
            begun.process.stdin.close()
        begun.process.stdout.close()
        with contextlib.suppress(subprocess.TimeoutExpired):
            begun.process.wait(_END_SECONDS)

    def close(self) -> None:
        """End all mounts."""
        with self._guard:
            for begun in self._begun.values():
                self._end(begun)
            self._begun.clear()


def _folder_name(job: str) -> str:
    """What the folder of a job's history is called."""
    name = "".join("-" if sign == "/" or not sign.isprintable() else sign for sign in job).strip(". ")
    return name[:80] or "history"
