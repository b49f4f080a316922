"""Trying a folder on a server: whether it lets in, what it has and can promise, how fast the line is."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable
from pathlib import Path

import msgspec
import platformdirs

from good_tide.core.addresses import Address, address
from good_tide.core.errors import LoginError, PersonError, PlaceAwayError, PlaceError, ServerKeyError
from good_tide.core.identifiers import StoreId
from good_tide.core.places import (
    UNTOLD_ROOM,
    Check,
    DiskFacts,
    Level,
    ServerNeed,
    Wanted,
    by_level,
    check_place,
)
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.lines.client import LineError, line_to
from good_tide.lines.wire import Begin, Promises, There, Things, Trouble, Try
from good_tide.operations.places.probing import describe_store
from good_tide.storage.header import holds_store, in_the_way
from good_tide.storage.server_place import ServerPlace, place_error
from good_tide.storage.spooling_place import asked
from good_tide.system.keyrings import KeyRing
from good_tide.system.logins import Keeping, Login, keep_login

TRIED_BYTES = 4 << 20
_FEW_BYTES = 64 << 10


class Given(msgspec.Struct, frozen=True):
    """What somebody has given for a login: a password, the passphrase of a key, and the fingerprint of the
    server's key that was said to be right."""

    password: str | None = None
    key_passphrase: str | None = None
    fingerprint: str = ""


class Tried(msgspec.Struct, frozen=True):
    """How a server stands as a place for a store.

    :param need: what has to be given first; ``shown`` is the fingerprint of its key, for ``ServerNeed.KEY``.
    :param holds: the store that is there already.
    :param up: bytes a second that it takes, and gives (``down``), where that was measured.
    :param missing: the folder is not there yet.
    :param refused: the server does not answer, is not to be trusted, or does not let in.
    """

    disk: DiskFacts
    checks: tuple[Check, ...]
    need: ServerNeed = ServerNeed.NOTHING
    shown: str = ""
    holds: StoreId | None = None
    up: float = 0.0
    down: float = 0.0
    missing: bool = False
    refused: bool = False
    parts: tuple[str, ...] = ()


def give(place: Address, given: Given) -> None:
    """Use from now on, in this process, what somebody has given."""
    begin = Begin(str(place), given.password, given.key_passphrase, given.fingerprint)
    line_to(place).begin_with(begin)


def keep_given(settings: Path, ring: KeyRing, place: Address, given: Given, where: Keeping) -> None:
    """Keep what somebody has given, once the server has let in with it.

    Raises:
        PlaceError: the key ring, or the file, cannot be used.
    """
    login = Login(given.password, key_passphrase=given.key_passphrase)
    if login != Login():
        keep_login(settings, ring, place.server, login, where)


def try_server(place: Address, wanted: Wanted, known: frozenset[StoreId], measure: bool) -> Tried:
    """Try a folder on a server, which need not be there yet: its nearest folder that is there is tried
    then.

    :param known: ids of stores that this machine uses.
    :param measure: whether the speed is measured.
    """
    where = ServerPlace(place)
    try:
        there = _nearest(place)
    except PlaceError as error:
        return _refused(place, error)
    if place.is_whole:
        disk = _facts(place, UNTOLD_ROOM, UNTOLD_ROOM, Promises(True, True, True))
        what = tr("A store lies in a part of a server, not in the server itself")
        bad = Check(Level.BAD, what, tr("Choose one of its shares or buckets"))
        return Tried(disk, (bad,), parts=tuple(folders_in(place)))
    try:
        promises = asked(
            ServerPlace(there),
            Try(TRIED_BYTES if measure else _FEW_BYTES),
            tr("Writing to {host}").format(host=place.host),
        )
    except PlaceError as error:
        return _refused(place, error)
    finally:
        if there != place:
            line_to(there).end()
    try:
        free, total = ServerPlace(there).files().room()
        disk = _facts(place, free, total, promises)
        stores = (describe_store(where, known),) if there == place and holds_store(where) else ()
        other = in_the_way(where.files()) if there == place and not stores else ""
    except PlaceError as error:
        return _refused(place, error)
    checks = [
        *check_place(
            msgspec.structs.replace(disk, stores=stores),
            msgspec.structs.replace(wanted, speed=promises.up / 1e6 if measure else None, writable=True),
        ),
        *promised(promises),
    ]
    if other:
        checks.append(
            Check(
                Level.BAD,
                tr("{called} holds other things").format(called=where.called),
                tr("Choose an empty or a new folder; nothing there is ever erased"),
            )
        )
    holds = stores[0].store if stores else None
    return Tried(
        disk, tuple(by_level(checks)), holds=holds, up=promises.up, down=promises.down, missing=there != place
    )


def _nearest(place: Address) -> Address:
    """The folder, or the nearest above it that is there.

    Raises:
        PlaceError: the server cannot be used.
    """
    while True:
        try:
            line_to(place).ask(There())
            return place
        except LineError as error:
            above = place.above
            if error.failed.trouble is not Trouble.NO_FOLDER or above is None:
                found = place_error(error.failed, place, tr("Looking for {address}").format(address=place))
                raise found if isinstance(found, PlaceError) else PlaceError(found.what) from error
        line_to(above).begin_as(line_to(place))
        line_to(place).end()
        place = above


def _facts(place: Address, free: int, total: int, promises: Promises) -> DiskFacts:
    return DiskFacts(
        id=place.server,
        name=place.host,
        kind="network",
        file_system=place.kind,
        path=str(place),
        total=total,
        free=free,
        writable=True,
        answer_seconds=promises.round_trip,
    )


def _refused(place: Address, error: PlaceError) -> Tried:
    """What a server that cannot be used now needs, or has to be put right."""
    away = isinstance(error, PlaceAwayError)
    disk = DiskFacts(
        id=place.server,
        name=place.host,
        kind="network",
        file_system=place.kind,
        path=str(place),
        answers=not away,
    )
    need, shown = ServerNeed.NOTHING, ""
    if isinstance(error, ServerKeyError):
        shown = error.shown
        need = ServerNeed.NOTHING if error.known else ServerNeed.KEY
    elif isinstance(error, LoginError):
        need = ServerNeed.KEY_PASSPHRASE if error.of_key else ServerNeed.PASSWORD
    refused = isinstance(error, PlaceAwayError | ServerKeyError | LoginError)
    return Tried(disk, (Check(Level.BAD, error.what, error.advice),), need, shown, refused=refused)


def promised(promises: Promises) -> list[Check]:
    """What a server can promise, in words."""
    checks = [
        Check(Level.GOOD, tr("It makes files durable when it is asked to"))
        if promises.durable
        else Check(
            Level.DOUBTFUL,
            tr("It does not say when a file is durable: a power cut there can take the newest snapshots"),
            tr("See that the server has a battery, or is shut down properly; verify after a power cut"),
        )
    ]
    if not promises.deletes:
        checks.append(
            Check(
                Level.GOOD,
                tr("It lets nothing be deleted by this login: history cannot be destroyed from here"),
                tr("Thinning and giving back wait for a machine whose login may delete"),
            )
        )
    if not promises.lists_at_once:
        checks.append(
            Check(
                Level.BAD,
                tr("It does not list at once what is written to it"),
                tr("Use a bucket whose listings are never late: a store has to see what was written before"),
            )
        )
    if not promises.names_once:
        checks.append(
            Check(
                Level.DOUBTFUL,
                tr("It does not tell apart two who make the same file at the same moment"),
                tr("Let only one machine at a time thin or sweep this store"),
            )
        )
    if not promises.replaces_whole:
        checks.append(
            Check(
                Level.DOUBTFUL,
                tr("It cannot put one file in the place of another at once"),
                tr("Nothing of history is replaced; second copies cover the moment in between"),
            )
        )
    return checks


def folders_in(place: Address) -> list[str]:
    """Names of the folders in a folder on a server; none where it cannot be looked into."""
    try:
        found = asked(ServerPlace(place), Things(""), tr("Looking into {inside}").format(inside=place))
    except PlaceError:
        return []
    return [one.name for one in found if one.kind == "folder" and not one.name.startswith(".")]


def known_servers(jobs: Iterable[Job]) -> list[str]:
    """Addresses of folders on servers that are known here: of the stores of jobs, and from the bookmarks of
    file managers (one in each line of a file: its address, and then what it is called)."""
    found = [ref.path for job in jobs for ref in job.stores if ref.on_server]
    for folder in ("gtk-3.0", "gtk-4.0"):
        file = Path(os.path.dirname(platformdirs.user_config_dir("good-tide"))) / folder / "bookmarks"
        with contextlib.suppress(OSError, UnicodeDecodeError):
            found += [line.partition(" ")[0] for line in file.read_text(encoding="utf-8").splitlines()]
    usable = []
    for one in found:
        with contextlib.suppress(PersonError):
            usable.append(str(address(one)))
    return list(dict.fromkeys(usable))
