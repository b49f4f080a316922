"""Disks as places for stores: looked at, checked, and found again wherever they are mounted."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec

from good_tide.core.addresses import address, looks_like_address
from good_tide.core.errors import PlaceError
from good_tide.core.identifiers import StoreId
from good_tide.core.places import Check, DiskFacts, FoundStore, Level, ServerNeed, Wanted, check_place, worst
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.lines.mounts import BY_FILE_MANAGER
from good_tide.lines.wire import Try
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.places.probing import describe_store, measure_speed, probe, probe_apart
from good_tide.operations.places.servers import TRIED_BYTES, promised, try_server
from good_tide.operations.places.whereabouts import Whereabouts
from good_tide.storage.header import holds_store, in_the_way
from good_tide.storage.place import StorePlace
from good_tide.storage.server_place import ServerPlace
from good_tide.storage.share_place import SharePlace
from good_tide.storage.spooling_place import asked
from good_tide.system.disks import Disks

_OWN_FOLDER = "good-tide"


def look_at(disks: Disks, known_stores: frozenset[StoreId]) -> list[DiskFacts]:
    """All disks with the stores found on them. Those that may hang are asked in processes of their own, at
    the same time."""
    found = disks.disks()
    with ThreadPoolExecutor(max_workers=8) as threads:
        return list(threads.map(lambda disk: _looked_at(disk, known_stores), found))


def _looked_at(disk: DiskFacts, known: frozenset[StoreId], part: Path | None = None) -> DiskFacts:
    """A disk as it is now; of a share that is one of several in a mount, its ``part``."""
    if not disk.answers or not disk.mounted:
        return disk
    path = part or Path(disk.path)
    if disk.kind == "network":
        answer = probe_apart(path, known)
        if answer is None:
            return msgspec.structs.replace(disk, answers=False)
        told = disk.total and part is None
        total, free = (disk.total, disk.free) if told else (answer.total, answer.free)
        return msgspec.structs.replace(
            disk,
            total=total,
            free=free,
            writable=answer.writable and not disk.read_only,
            stores=answer.stores,
            answer_seconds=answer.seconds,
        )
    if disk.path == "/":
        return disk
    try:
        return msgspec.structs.replace(disk, stores=probe(path, known).stores)
    except OSError:
        return msgspec.structs.replace(disk, answers=False)


def devices_under(disks: Disks, folders: Iterable[str]) -> frozenset[str]:
    """The physical disks that folders are on."""
    found: frozenset[str] = frozenset()
    for folder in folders:
        disk = disks.of_folder(Path(folder))
        found |= disk.devices if disk is not None else frozenset()
    return found


def best_disk(found: Sequence[DiskFacts], wanted: Wanted) -> DiskFacts | None:
    """The disk to propose: no bad check, fewest doubts, external before shares before internal, then most
    room."""
    order = {"external": 0, "network": 1, "internal": 2}

    def rank(disk: DiskFacts) -> tuple[int, int, int]:
        checks = check_place(disk, wanted)
        return sum(check.level is Level.DOUBTFUL for check in checks), order[disk.kind], -disk.free

    fit = [disk for disk in found if worst(check_place(disk, wanted)) is not Level.BAD]
    return min(fit, key=rank) if fit else None


def proposed_folder(disk: DiskFacts, machine: str) -> str:
    """Where on a disk the store of a machine would be made; empty on one that is not mounted, or does
    not answer."""
    if not disk.mounted or not disk.answers:
        return ""
    home = home_folder()
    writable = disk.writable if disk.kind == "network" else os.access(disk.path, os.W_OK)
    in_home = disk.path == "/" or (not writable and home.startswith(disk.path + "/"))
    inside = home if in_home else disk.path
    name = (
        "".join(character if character.isalnum() or character in "-_." else "-" for character in machine)
        or "machine"
    )
    return os.path.join(inside, _OWN_FOLDER, name)


def store_in(where: StorePlace) -> StoreId | None:
    """The id of the store in a place; None when there is none."""
    return describe_store(where, frozenset()).store if holds_store(where) else None


class Examined(msgspec.Struct, frozen=True):
    """A folder looked at as the place of a store. ``holds`` is the store that is there already, None for
    none; ``need`` what a server wants first, and ``shown`` the fingerprint of the key that it shows."""

    folder: str
    disk: DiskFacts | None
    checks: tuple[Check, ...]
    holds: StoreId | None = None
    need: ServerNeed = ServerNeed.NOTHING
    shown: str = ""


def _in_the_way(where: StorePlace) -> list[Check]:
    """What speaks against a place without a store, by what is in it."""
    try:
        other = in_the_way(where.files())
    except PlaceError as error:
        cause = error.__cause__
        why = cause.strerror if isinstance(cause, OSError) else error.what
        return [
            Check(
                Level.BAD,
                tr("{called} cannot be looked into ({why})").format(called=where.called, why=why),
                tr("Choose a folder of your own"),
            )
        ]
    if other:
        return [
            Check(
                Level.BAD,
                tr("{called} holds other things").format(called=where.called),
                tr("Choose an empty or a new folder; nothing there is ever erased"),
            )
        ]
    return []


class _Seen(msgspec.Struct, frozen=True):
    """A folder that need not be there yet: the nearest one that is, and what that is like. ``speed``: MB/s
    that it takes, where that was measured; ``checks``: what was noticed on the way."""

    nearest: Path
    is_folder: bool
    writable: bool
    speed: float | None = None
    checks: tuple[Check, ...] = ()


def examine(
    disks: Disks, where: StorePlace, wanted: Wanted, known: frozenset[StoreId], measure: bool
) -> Examined:
    """Check one place, which need not be there yet, as that of a store."""
    if isinstance(where, ServerPlace):
        tried = try_server(where.address, wanted, known, measure)
        return Examined(where.called, tried.disk, tried.checks, tried.holds, tried.need, tried.shown)
    absolute = where.folder
    if absolute is None:
        return Examined(where.called, None, (), store_in(where))
    disk = disks.of_folder(absolute)
    if disk is None:
        return Examined(
            str(absolute),
            None,
            (Check(Level.BAD, tr("The system does not know this folder"), tr("Choose another")),),
        )
    if disk.kind == "network" and disk.answers:
        one_of_many = disk.file_system == BY_FILE_MANAGER
        disk = _looked_at(disk, known, _nearest(absolute, disk) if one_of_many else None)
    if not disk.answers:
        return Examined(str(absolute), disk, tuple(check_place(disk, wanted)))
    measure = measure and not disk.read_only
    try:
        if isinstance(where, SharePlace):
            seen = _seen_apart(where, measure)
        else:
            seen = _seen(absolute, disk, measure)
        stores, holds = _stores_in(where, disk, known)
    except PlaceError as error:
        return Examined(str(absolute), disk, (Check(Level.BAD, error.what, error.advice),))
    checked = check_place(
        msgspec.structs.replace(disk, stores=stores),
        msgspec.structs.replace(wanted, speed=seen.speed, writable=seen.writable),
    )
    extra = list(seen.checks)
    if seen.nearest == absolute and seen.is_folder and holds is None:
        extra += _in_the_way(where)
    if not seen.is_folder and seen.nearest == absolute:
        extra.append(
            Check(
                Level.BAD, tr("{absolute} is not a folder").format(absolute=absolute), tr("Choose a folder")
            )
        )
    return Examined(str(absolute), disk, (*extra, *checked), holds)


def _stores_in(
    where: StorePlace, disk: DiskFacts, known: frozenset[StoreId]
) -> tuple[tuple[FoundStore, ...], StoreId | None]:
    """The stores known at a place, and the one that is there now."""
    if holds_store(where):
        found = describe_store(where, known)
        return (found,), found.store
    return tuple(store for store in disk.stores if store.path == where.called), None


def _seen(folder: Path, disk: DiskFacts, measure: bool) -> _Seen:
    """Look at a folder of a disk of this machine."""
    there = folder
    while not os.path.exists(there) and there != there.parent:
        there = there.parent
    is_folder = os.path.isdir(there)
    writable = is_folder and os.access(there, os.W_OK)
    if not measure or not writable:
        return _Seen(there, is_folder, writable)
    try:
        return _Seen(there, is_folder, writable, disk.speed or measure_speed(there))
    except PlaceError as error:
        return _Seen(there, is_folder, writable, None, (Check(Level.BAD, error.what, error.advice),))


def _seen_apart(where: SharePlace, measure: bool) -> _Seen:
    """Look at a folder of a share, by the process that speaks with it.

    Raises:
        PlaceError: it does not answer.
    """
    there = where.nearest()
    try:
        below = where.path.relative_to(there.path).parts[:1]
        if below and below[0] in there.files().things():
            return _Seen(there.path / below[0], False, False)
        if not measure:
            answer = probe_apart(there.path, frozenset())
            return _Seen(there.path, True, answer is not None and answer.writable)
        found = asked(there, Try(TRIED_BYTES), tr("Writing to {folder}").format(folder=there.path))
    except PlaceError as error:
        return _Seen(there.path, True, False, None, (Check(Level.BAD, error.what, error.advice),))
    finally:
        if there != where:
            there.line.end()
    return _Seen(there.path, True, True, found.up / 1e6, tuple(promised(found)))


def _nearest(folder: Path, disk: DiskFacts) -> Path:
    """The share that the file manager has opened in which a folder lies: each has room of its own."""
    inside = folder.relative_to(disk.path).parts
    return Path(disk.path, *inside[:1])


def store_ref(disks: Disks, where: StorePlace) -> StoreRef:
    """How a store in a place is to be found again, wherever its disk will be mounted."""
    absolute = where.folder
    if absolute is None:
        return StoreRef(path=where.called, name=_name_elsewhere(where.called))
    disk = disks.of_folder(absolute)
    if disk is None or disk.path == "/" or disk.id.startswith("mount:"):
        return StoreRef(
            path=str(absolute), name=disk.name if disk is not None and disk.path != "/" else absolute.name
        )
    return StoreRef(
        path=str(absolute), name=disk.name, disk=disk.id, inside=os.path.relpath(absolute, disk.path)
    )


def _name_elsewhere(called: str) -> str:
    """What a store that is in no folder of this machine is called: as its server."""
    return address(called).host if looks_like_address(called) else called


def known_store_ids(jobs: Iterable[Job], whereabouts: Whereabouts) -> frozenset[StoreId]:
    """Ids of the stores that the jobs of this machine use, as far as they were opened before or their disks
    are here."""
    found = set()
    for ref in {ref for job in jobs for ref in job.stores}:
        where = None if ref.store else whereabouts.of(ref)
        identity = ref.store or (store_in(where) if where is not None else None)
        if identity:
            found.add(identity)
    return frozenset(found)
