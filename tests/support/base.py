"""What all tests build on."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import tempfile
import time
import unittest
import warnings
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

import msgspec

from good_tide.core.clock import SECOND, Clock, SetClock
from good_tide.core.identifiers import JobId, MachineId, Nanoseconds
from good_tide.core.ladder import Ladder
from good_tide.core.progress import Control, Silent
from good_tide.core.records import Machine, Snapshot
from good_tide.core.restoring import Existing
from good_tide.core.rhythm import Rhythm
from good_tide.core.settings import Job, StoreRef
from good_tide.crypto.seals import StoreKeys
from good_tide.crypto.slots import Cost
from good_tide.operations.context import Context, open_context
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.operations.restore.report import RestoreReport
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.workplace import Workplace, save_job
from good_tide.storage import header
from good_tide.storage import store as storage
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.header import NewStore
from good_tide.storage.store import Store
from good_tide.system.disks import Disks
from good_tide.system.keyrings import KeyRing
from tests.support.cheap_keys import CHEAP as CHEAP
from tests.support.warm_program import WarmProgram

BY_HAND = Rhythm(rules=())
"""For tests that are not about the rhythm: nothing runs by itself."""

PASSPHRASE = "tide and time"
MACHINE = Machine(MachineId("a1" * 16), "desk")
OTHER_MACHINE = Machine(MachineId("b2" * 16), "laptop")
OFFICE, SOUND, STUDIO = JobId("0ff1ce"), JobId("50d1"), JobId("57d10")
T0 = 1_790_000_000 * SECOND
HOUR = 3600 * SECOND
REPOSITORY = Path(__file__).resolve().parents[2]


def create_store(
    root: Path,
    passphrase: str | None,
    hint: str = "",
    cost: Cost = CHEAP,
    twin: StoreKeys | None = None,
    parity: bool = True,
) -> NewStore:
    """Make a store in a folder."""
    return header.create_store(FolderPlace(root), passphrase, hint, cost, twin, parity)


def open_store(root: Path, passphrase: str | None) -> Store:
    """Open the store in a folder."""
    return storage.open_store(FolderPlace(root), passphrase)


class GoodTideTest(unittest.TestCase):
    """Isolates home, XDG folders and time zone, works in a folder of its own, and fails on unexpected
    warnings."""

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="good-tide-test-"))
        self.addCleanup(self._remove_folder)
        places = {
            name: str(self.folder / name.lower())
            for name in ("HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME", "XDG_CONFIG_HOME")
        }
        runtime = self.folder / "run"
        runtime.mkdir(mode=0o700)
        patch = mock.patch.dict(
            os.environ,
            {**places, "XDG_RUNTIME_DIR": str(runtime), "TZ": "Europe/Berlin", "LC_ALL": "C.UTF-8"},
        )
        patch.start()
        self.addCleanup(patch.stop)
        time.tzset()
        self.state, self.cache = self.folder / "state", self.folder / "cache"
        self.work = self.folder / "work"
        self.work.mkdir()
        caught = warnings.catch_warnings()
        caught.__enter__()
        self.addCleanup(caught.__exit__, None, None, None)
        warnings.simplefilter("error")

    def _remove_folder(self) -> None:
        subprocess.run(["chmod", "-R", "u+rwX", str(self.folder)], check=False, stderr=subprocess.DEVNULL)
        subprocess.run(
            ["rm", "-rf", str(self.folder)], check=False, stderr=subprocess.DEVNULL
        )  # however deep it is

    def save_office(self, settings: Path, stores: tuple[StoreRef, ...], ladder: Ladder | None = None) -> None:
        """Keep a job that takes snapshots of the test's files by hand, and has agreed to its ladder."""
        job = Job(
            id=OFFICE,
            name="Office",
            folders=(str(self.work),),
            stores=stores,
            machine=MACHINE,
            rhythm=BY_HAND,
        )
        if ladder is not None:
            job = msgspec.structs.replace(job, ladder=ladder, agreed=ladder)
        save_job(settings, job)

    def context(
        self,
        clock: Clock | None = None,
        machine: Machine = MACHINE,
        settings: Path | None = None,
        disks: Disks | None = None,
        ring: KeyRing | None = None,
    ) -> Context:
        """What use cases work with: of a machine whose folders are the test's own."""
        settings = settings or self.folder / "settings"
        here = Workplace(self.cache, self.state, self.folder, settings, self.folder / "run", machine)
        made = open_context(here, clock or SetClock(Nanoseconds(T0)), disks, ring)
        self.addCleanup(made.journal.close)
        return made

    def new_store(
        self, name: str = "store", passphrase: str | None = PASSPHRASE, parity: bool = True
    ) -> Store:
        """A fresh store with cheap key derivation."""
        root = self.folder / name
        create_store(root, passphrase, cost=CHEAP, parity=parity)
        return open_store(root, passphrase)

    def write(self, name: str | bytes, content: bytes | str = b"") -> Path:
        """A file in the work folder, older than the time within which changes cannot be told apart."""
        path = self.work / os.fsdecode(name)
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return path

    def snap(
        self,
        store: Store,
        hour: int = 0,
        machine: Machine = MACHINE,
        control: Control | None = None,
        *folders: Path,
    ) -> Snapshot:
        """A snapshot of the work folder, ``hour`` hours after a fixed time."""
        clock = SetClock(Nanoseconds(T0 + hour * HOUR))
        request = CaptureRequest(folders or (self.work,), machine)
        return capture(store, request, clock, control or Silent(), self.state)

    def restore(
        self,
        store: Store,
        snapshot: Snapshot,
        path: Path | bytes,
        into: Path | None,
        existing: Existing = Existing.SET_ASIDE,
    ) -> RestoreReport:
        """Plan and carry out."""
        wish = Wish(snapshot, os.fsencode(path))
        plan = plan_restore(store, [wish], into, existing, Silent())
        return carry_out(store, plan, SetClock(Nanoseconds(T0)), Silent())


@contextlib.contextmanager
def restless(file: Path) -> Iterator[None]:
    """A file grows each time that its beginning is read, so that it never holds still."""
    real, begin = os.read, file.read_bytes()[:5]

    def read(handle: int, size: int) -> bytes:
        data = real(handle, size)
        if data.startswith(begin):
            with file.open("a") as more:
                more.write("more")
        return data

    with mock.patch("os.read", read):
        yield


def tree(root: Path | bytes) -> dict[bytes, tuple[object, ...]]:
    """Everything below a folder: kind, mode, modification time, content or target, hard-link count and
    attributes."""
    found: dict[bytes, tuple[object, ...]] = {}
    top = os.fsencode(root)
    for parent, folders, files in os.walk(top):
        for name in [*folders, *files]:
            path = os.path.join(parent, name)
            info = os.lstat(path)
            relative = os.path.relpath(path, top)
            if os.path.islink(path):
                found[relative] = ("link", os.readlink(path), info.st_mtime_ns)
            elif os.path.isdir(path):
                found[relative] = ("folder", info.st_mode, info.st_mtime_ns)
            elif os.path.isfile(path):
                attributes = tuple((key, os.getxattr(path, key)) for key in sorted(os.listxattr(path)))
                found[relative] = (
                    "file",
                    info.st_mode,
                    info.st_mtime_ns,
                    Path(os.fsdecode(path)).read_bytes(),
                    info.st_nlink,
                    attributes,
                )
    return found


@contextlib.contextmanager
def as_ordinary_person() -> Iterator[list[str]]:
    """The beginning of a command line that runs without the powers of root over permissions."""
    if os.geteuid() == 0:
        yield ["setpriv", "--bounding-set=-dac_override,-dac_read_search,-fowner", "--"]
    else:
        yield []


def program(
    *words: str | Path, passphrase: Path | None = None, prefix: list[str] | None = None, timeout: float = 600
) -> subprocess.CompletedProcess[str]:
    """Run the command line in a process of its own."""
    given = [*map(str, words)]
    if passphrase is not None:
        given += ["--passphrase-file", str(passphrase)]
    if prefix:
        command = [*prefix, sys.executable, "-m", "good_tide", *given]
        return subprocess.run(
            command, capture_output=True, text=True, timeout=timeout, check=False, stdin=subprocess.DEVNULL
        )
    with (
        open(os.devnull, "rb") as nothing,
        tempfile.TemporaryFile() as out,
        tempfile.TemporaryFile() as errors,
    ):
        code = WARM.run(given, (nothing, out, errors), timeout)
        said = [
            os.pread(file.fileno(), os.fstat(file.fileno()).st_size, 0).decode() for file in (out, errors)
        ]
    return subprocess.CompletedProcess(given, code, *said)


WARM = WarmProgram()
