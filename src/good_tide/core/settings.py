"""Settings of a job, as values."""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec

from good_tide.core.addresses import looks_like_address
from good_tide.core.errors import PersonError
from good_tide.core.hours import Hours
from good_tide.core.identifiers import JobId, StoreId
from good_tide.core.kinds import extended
from good_tide.core.ladder import Ladder
from good_tide.core.records import Machine
from good_tide.core.rhythm import Rhythm
from good_tide.core.rules import Rule, parse_rule
from good_tide.core.translation import tr

StoreUse = Literal["both", "turns"]
"""With several stores: a snapshot into each of them every time, or into one after the other in turn."""


class StoreRef(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """Where a store is found: on a disk, known by what stays, or by its path alone.

    :param disk: ``places.DiskFacts.id`` of the disk; empty: ``path`` says it all.
    :param inside: the store's folder from the disk's mount point.
    :param path: the store's directory where it was last seen.
    :param name: what people call the disk.
    :param store: the store's id, whether it is ``encrypted``, and a digest of its ``keys``: another store in
        its place is refused. Empty, and None, until it was opened by a version that keeps them.
    """

    path: str
    name: str = ""
    disk: str = ""
    inside: str = ""
    store: StoreId = StoreId("")
    encrypted: bool | None = None
    keys: str = ""

    @property
    def id(self) -> StoreId:
        """The store's id; while it was never opened by a version that keeps it, what stands for it: where it
        is."""
        return self.store or StoreId(f"at {self.disk or 'path'} {self.inside or self.path}")

    def names(self, store: StoreId) -> bool:
        """Whether a store is meant: by its id, or by what stood for it before it was opened."""
        return store in (self.id, msgspec.structs.replace(self, store=StoreId("")).id)

    @property
    def on_server(self) -> bool:
        """Whether the store is in a folder of a server, and not of this machine."""
        return not self.disk and looks_like_address(self.path)

    @property
    def over_network(self) -> bool:
        """Whether the store is on another machine: on a server, or on a share that is mounted."""
        return self.on_server or self.disk.startswith("share:")

    @property
    def called(self) -> str:
        """What people call the store: its disk's name, or its path."""
        return self.name or self.path

    @property
    def place(self) -> tuple[str, str]:
        """Where the store is, whatever is known of it."""
        return (self.disk, self.inside) if self.disk else ("", self.path)


Noise = Literal["trouble", "changes", "everything"]
"""What a person is told of by itself: only trouble; also when it is over, and first snapshots; every
snapshot."""

ReportTime = Literal["never", "trouble", "daily", "weekly"]


class Holding(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """The holding area: how many bytes it may take, and which part of the room that is free without it; the
    smaller one holds."""

    on: bool = True
    limit_bytes: int = 10 * 1024 * 1024 * 1024
    part_of_free: float = 0.25


WhenShort = Literal["stop", "thin"]
"""When room gets short: take no snapshot and say so, or release the oldest down to the floor."""


class Room(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """What a job's stores may take. 0: no limit, no reserve.

    :param limit_part: of the disk's whole size. :param reserve_bytes: stay free on the disk for other things.
    :param floor_days: snapshots that are younger are never released for room.
    """

    limit_bytes: int = 0
    limit_part: float = 0.0
    reserve_bytes: int = 0
    when_short: WhenShort = "stop"
    floor_days: int = 30


class LineLimit(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """How much a job may move over the line to a server, in bytes a second to it and from it; 0: as much as
    the line takes.

    :param hours: hours of the week in which that holds, such as ``mon-fri 08:00-18:00``; empty: always.
    """

    up_bytes: int = 0
    down_bytes: int = 0
    hours: tuple[str, ...] = ()

    def check(self) -> None:
        """Make sure that it can be meant.

        Raises:
            PersonError: it cannot.
        """
        if min(self.up_bytes, self.down_bytes) < 0:
            raise PersonError(
                tr("a limit of the line can be no less than 0"), tr("0 stands for as much as it takes")
            )
        Hours.of(self.hours)


def wrong_sizes(room: Room, holding: Holding) -> str:
    """Which of the limits can be none, as the key that it has in a job file; empty: all can."""
    for key, size in (
        ("room.limit_bytes", room.limit_bytes),
        ("room.reserve_bytes", room.reserve_bytes),
        ("room.floor_days", room.floor_days),
        ("holding.limit_bytes", holding.limit_bytes),
    ):
        if size < 0:
            return key
    for key, part in (("room.limit_part", room.limit_part), ("holding.part_of_free", holding.part_of_free)):
        if not 0 <= part <= 1:
            return key
    return ""


class Reporting(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """Reports of a job: when, how full, by mail to whom, and into which folder as HTML files."""

    when: ReportTime = "never"
    full: bool = False
    to: tuple[str, ...] = ()
    folder: str = ""


Security = Literal["tls", "starttls", "none"]
MAIL_PORTS: dict[Security, int] = {"tls": 465, "starttls": 587, "none": 25}
"""Where mail is handed in, unless said otherwise: RFC 8314, RFC 6409, RFC 5321."""


class MailServer(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """Where mail is handed in.

    :param security: ``tls`` from the first byte (RFC 8314), ``starttls`` (RFC 3207), or ``none``.
    :param login: empty: none is needed. Its password is in the key ring, or in ``password_file``.
    :param ca_file: certificates to trust besides the system's.
    """

    host: str
    port: int = 465
    security: Security = "tls"
    sender: str
    login: str = ""
    password_file: str = ""
    ca_file: str = ""

    @property
    def key(self) -> str:
        """Under which the key ring has the password."""
        return f"mail {self.login} at {self.host}"


ReadBackDays = Annotated[int, msgspec.Meta(ge=0, le=3660)]


class Job(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """What to protect and where to.

    :param id: stays, whatever the job is called; empty only before it is written for the first time.
    :param folders: absolute paths of the covered folders.
    :param rules: rules of coverage, a line each.
    :param kinds: further endings for kinds of files, and kinds of the job's own.
    :param machine: whose history it has in its stores, if not that of the machine the agent runs on: a
        further job of a machine has one of its own, and the demo's machine is made up.
    :param home: what ``~/`` in rules stands for; the person's home folder if empty.
    :param passphrase_file: a file with the stores' passphrase; without one the key ring or the person is
        asked.
    :param rhythm: when snapshots are taken by themselves.
    :param ladder: how dense history stays with age.
    :param agreed: the ladder that was last thinned by, or agreed to: a changed one waits for a yes when it
        would release much at once.
    :param precious: path patterns, as in rules of coverage, of files whose every version is kept.
    :param read_back_days: within so many days every byte of its stores is read back; 0: not by itself.
    :param line: how much may be moved over the line to a server.
    :param former: names that the job had before.
    """

    id: JobId = JobId("")
    name: str
    folders: tuple[str, ...]
    stores: tuple[StoreRef, ...]
    store_use: StoreUse = "both"
    rules: tuple[str, ...] = ()
    kinds: dict[str, tuple[str, ...]] = {}
    machine: Machine | None = None
    home: str = ""
    passphrase_file: str = ""
    rhythm: Rhythm = Rhythm()
    holding: Holding = Holding()
    noise: Noise = "changes"
    reporting: Reporting = Reporting()
    ladder: Ladder = Ladder()
    agreed: Ladder = Ladder()
    room: Room = Room()
    precious: tuple[str, ...] = ()
    read_back_days: ReadBackDays = 30
    line: LineLimit = LineLimit()
    former: tuple[str, ...] = ()

    def parsed_rules(self) -> tuple[Rule, ...]:
        """The rules.

        Raises:
            RuleError: one cannot be read.
        """
        kinds = extended(self.kinds)
        return tuple(parse_rule(line, kinds) for line in self.rules)
