"""Disks and folders that may take a store: what is known of them, and what speaks for and against them."""

from __future__ import annotations

import enum
from collections.abc import Iterable
from typing import Literal

import msgspec

from good_tide.core.addresses import PORTS
from good_tide.core.identifiers import StoreId
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words

DiskKind = Literal["internal", "external", "network"]

_VOLATILE = {"tmpfs", "ramfs", "devtmpfs"}
_UNCHANGEABLE = {"iso9660", "squashfs", "udf", "erofs", "cramfs"}
_SMALL_FILES = {"vfat", "msdos", "fat"}
_UNORDERED = {"vfat", "msdos", "fat", "exfat", "ext2", "fuse.exfat", "fuseblk.exfat"}
_ORDERED = {
    *("ext3", "ext4", "xfs", "btrfs", "f2fs", "zfs", "jfs", "reiserfs", "bcachefs", "nilfs2"),
    *("ntfs", "ntfs3", "hfsplus", "apfs"),
}
"""Those that keep a journal or write in copies: after a cut of power they are as they were at some moment."""
UNTOLD_ROOM = 1 << 50
"""Stands for the bytes of a place that does not tell how many it has."""
_SLOW_ANSWER = 1.0
_SLOW = 8.0
_VERY_SLOW = 1.0
"""MB/s below which a place is slow, and very slow."""


class FoundStore(msgspec.Struct, frozen=True):
    """A store that lies on a disk. ``whose`` is ``this`` machine, ``other``, ``unknown``, or ``newer`` for a
    later format."""

    path: str
    store: StoreId
    encrypted: bool
    whose: str
    snapshots: int = 0


class DiskFacts(msgspec.Struct, frozen=True, kw_only=True):
    """A mounted disk or share.

    :param id: what stays: ``uuid:…``, ``label:…``, ``share:…``; ``mount:…`` where the system knows nothing
        better.
    :param aliases: other such names of the same disk.
    :param path: where it is mounted now.
    :param total: bytes.
    :param free: bytes that this person may still fill.
    :param devices: names of the physical disks beneath it; empty for shares.
    :param answers: whether it answered in time.
    :param answer_seconds: how long it took to answer a simple question; 0 where it was not asked.
    :param speed: MB/s that it is known to take, 0 where that has to be measured.
    :param mounted: whether it can be looked at; a disk that was plugged in but is not mounted has no path.
    """

    id: str
    name: str
    kind: DiskKind
    file_system: str
    path: str
    total: int = 0
    free: int = 0
    writable: bool = False
    read_only: bool = False
    removable: bool = False
    devices: frozenset[str] = frozenset()
    answers: bool = True
    answer_seconds: float = 0.0
    speed: float = 0.0
    mounted: bool = True
    aliases: tuple[str, ...] = ()
    stores: tuple[FoundStore, ...] = ()


class Level(enum.StrEnum):
    """How a check came out."""

    GOOD = "good"
    DOUBTFUL = "doubtful"
    BAD = "bad"


class Check(msgspec.Struct, frozen=True):
    """One thing about a place: what is so, and what to do about it where something is to be done; with the
    system's disk tool or not."""

    level: Level
    what: str
    way_out: str = ""
    by_disk_tool: bool = False


class ServerNeed(enum.StrEnum):
    """What somebody has to give before a server can be used."""

    NOTHING = ""
    KEY = "key"
    """That its key is the right one."""
    PASSWORD = "password"
    KEY_PASSPHRASE = "key-passphrase"


class Wanted(msgspec.Struct, frozen=True, kw_only=True):
    """What a place is to take.

    :param bytes: covered bytes, None while they are not known.
    :param devices: physical disks under the covered folders.
    :param speed: MB/s measured when writing to the place, None if it was not measured.
    :param times_away: how often the disk went away in the last weeks.
    :param writable: whether this very folder can be written; None: as the disk.
    """

    bytes: int | None = None
    devices: frozenset[str] = frozenset()
    speed: float | None = None
    times_away: int = 0
    writable: bool | None = None


def check_place(disk: DiskFacts, wanted: Wanted) -> list[Check]:
    """All that speaks for and against keeping a store on a disk, the worst first."""
    if not disk.mounted:
        way_out = tr(
            "Open it in the file manager. If it is new and has no file system, format it with the system's"
            " disk tool; that erases what is on it"
        )
        return [Check(Level.BAD, tr("It is connected but not mounted"), way_out, True)]
    if not disk.answers:
        return [
            Check(
                Level.BAD,
                tr("It does not answer"),
                tr("Check the network and the server, or mount it again; it is looked at again by itself"),
            )
        ]
    checks = [_writable(disk, wanted), _file_system(disk), _physical(disk, wanted), _room(disk, wanted)]
    checks += [_speed(wanted.speed)] if wanted.speed is not None else []
    if disk.answer_seconds > _SLOW_ANSWER:
        words = tr("It answers slowly: {answer_seconds:.1f} s for a simple question").format(
            answer_seconds=disk.answer_seconds
        )
        checks.append(
            Check(
                Level.DOUBTFUL,
                words,
                tr("Check the network; snapshots go on when it answers, and wait when it does not"),
            )
        )
    checks += [_found(store) for store in disk.stores]
    if wanted.times_away >= 3 or (disk.removable and disk.kind == "external"):
        often = (
            tr("It went away {times_away} lately").format(times_away=count_words(wanted.times_away, "time"))
            if wanted.times_away
            else tr("It can be taken away")
        )
        checks.append(
            Check(
                Level.DOUBTFUL if wanted.times_away >= 3 else Level.GOOD,
                often,
                tr("While it is away no snapshots reach it; leave it connected, or add a second store"),
            )
        )
    return by_level(check for check in checks if check is not None)


def by_level(checks: Iterable[Check]) -> list[Check]:
    """Checks, the worst first."""
    order = [Level.BAD, Level.DOUBTFUL, Level.GOOD]
    return sorted(checks, key=lambda check: order.index(check.level))


def _writable(disk: DiskFacts, wanted: Wanted) -> Check:
    if disk.file_system in _UNCHANGEABLE:
        return Check(
            Level.BAD,
            tr("{file_system} cannot be changed").format(file_system=disk.file_system),
            tr("Choose another disk, or format this one with the system's disk tool"),
        )
    if disk.read_only:
        return Check(
            Level.BAD,
            tr("It is mounted read-only"),
            tr(
                "Check the disk for errors and its write-protect switch, then mount it so that it can be"
                " written"
            ),
        )
    if not (disk.writable if wanted.writable is None else wanted.writable):
        return Check(
            Level.BAD,
            tr("You may not write here"),
            tr("Choose a folder that belongs to you, or have the owner of the disk give you one"),
        )
    return Check(Level.GOOD, tr("It can be written"))


def _file_system(disk: DiskFacts) -> Check | None:
    if disk.file_system in PORTS:
        return None  # what a server promises is asked of it
    kind = disk.file_system or tr("an unknown file system")
    if disk.file_system in _VOLATILE:
        return Check(
            Level.BAD,
            tr("{kind} is memory: everything is gone when the machine is switched off").format(kind=kind),
            tr("Choose a disk"),
        )
    if disk.file_system in _SMALL_FILES:
        return Check(
            Level.DOUBTFUL,
            tr("{kind} keeps no journal and cannot hold files above 4 GB").format(kind=kind),
            tr(
                "The store's own files are small enough. Formatting the disk with ext4, using the system's"
                " disk tool, is safer; that erases it"
            ),
        )
    if disk.file_system in _UNORDERED:
        return Check(
            Level.DOUBTFUL,
            tr("{kind} keeps no journal: a pulled plug can damage it").format(kind=kind),
            tr(
                "Always eject before unplugging. Formatting the disk with ext4, using the system's disk tool,"
                " is safer; that erases it"
            ),
        )
    if not disk.file_system:
        return Check(
            Level.DOUBTFUL,
            tr("The system does not tell its file system"),
            tr("Take a snapshot and verify it before you rely on it"),
        )
    if disk.kind != "network" and disk.file_system not in _ORDERED:
        return Check(
            Level.DOUBTFUL,
            tr("Whether {kind} keeps writes in order is not known").format(kind=kind),
            tr("Take a snapshot and verify it before you rely on it"),
        )
    return Check(Level.GOOD, tr("{kind} holds large files and keeps writes in order").format(kind=kind))


def _physical(disk: DiskFacts, wanted: Wanted) -> Check | None:
    if disk.kind == "network":
        return Check(Level.GOOD, tr("It is on another machine"))
    shared = disk.devices & wanted.devices
    if shared:
        return Check(
            Level.DOUBTFUL,
            tr("It is on the same physical disk as your folders ({sorted}): one failure loses both").format(
                sorted=", ".join(sorted(shared))
            ),
            tr("Use another disk, or add a second store on one"),
        )
    if disk.devices and wanted.devices:
        return Check(Level.GOOD, tr("It is another physical disk than your folders are on"))
    return Check(
        Level.DOUBTFUL,
        tr("The system does not tell on which physical disk it is"),
        tr("Make sure that it is not the one your folders are on"),
    )


def _room(disk: DiskFacts, wanted: Wanted) -> Check | None:
    if disk.total >= UNTOLD_ROOM or (disk.kind == "network" and not disk.total):
        return Check(
            Level.DOUBTFUL,
            tr("It does not tell how much room there is"),
            tr("Ask who runs it; a run that finds it full says so, and loses nothing"),
        )
    room = tr("{free} free of {total}").format(free=size_words(disk.free), total=size_words(disk.total))
    if wanted.bytes is None:
        return (
            Check(Level.GOOD, room)
            if disk.free
            else Check(Level.BAD, tr("There is no room left"), tr("Free some room, or choose another disk"))
        )
    need = size_words(wanted.bytes)
    if disk.free < wanted.bytes:
        return Check(
            Level.BAD,
            tr("Too small: {room}, but {need} are covered").format(room=room, need=need),
            tr("Cover less, free some room, or choose a larger disk"),
        )
    if disk.free < 2 * wanted.bytes:
        return Check(
            Level.DOUBTFUL,
            tr("Less than twice what is covered: {room} for {need}").format(room=room, need=need),
            tr("The first snapshot fits; history will be short"),
        )
    return Check(Level.GOOD, tr("{room}; {need} are covered").format(room=room, need=need))


def _speed(speed: float) -> Check:
    if speed < _VERY_SLOW:
        return Check(
            Level.DOUBTFUL,
            tr("Very slow: {speed:.1f} MB a second").format(speed=speed),
            tr("Check cable, port and network; the first snapshot may take days"),
        )
    if speed < _SLOW:
        return Check(
            Level.DOUBTFUL,
            tr("Slow: {speed:.0f} MB a second").format(speed=speed),
            tr("The first snapshot takes long, later ones do not"),
        )
    return Check(Level.GOOD, tr("It takes {speed:.0f} MB a second").format(speed=speed))


def _found(store: FoundStore) -> Check:
    if store.whose == "newer":
        return Check(
            Level.DOUBTFUL,
            tr("{path} was made by a newer version of Good Tide").format(path=store.path),
            tr("Install that version to use it, or choose another folder"),
        )
    count = count_words(store.snapshots, "snapshot")
    if store.whose == "this":
        return Check(
            Level.GOOD,
            tr("{path} holds a store of this machine with {count}").format(path=store.path, count=count),
            tr("Use it again: its history goes on"),
        )
    whose = (
        tr("of another machine") if store.whose == "other" else tr("whose machine only its passphrase tells")
    )
    return Check(
        Level.GOOD,
        tr("{path} holds a store {whose}, {count}").format(path=store.path, whose=whose, count=count),
        tr("Use it too, open it to read, or choose a folder beside it"),
    )


def worst(checks: list[Check]) -> Level:
    """The worst level among some checks."""
    levels = {check.level for check in checks}
    return next((level for level in (Level.BAD, Level.DOUBTFUL) if level in levels), Level.GOOD)
