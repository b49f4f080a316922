"""Setting up: where stores can be kept, a new job with its first store, further stores, stores to read
only."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.identifiers import JobId, StoreId
from good_tide.core.places import Check, DiskFacts, ServerNeed
from good_tide.core.records import StoreHistory
from good_tide.protocol.contract import Call, JobCall


class SetUpView(msgspec.Struct, frozen=True):
    """What a set-up begins with: the machine, user directories that are there by their XDG names, and the
    folders proposed; ``managers``: file managers that could show earlier versions in their menus."""

    machine: str
    home: str
    usual: dict[str, str]
    proposed: tuple[str, ...]
    rules: tuple[str, ...]
    starting_points: tuple[tuple[str, str], ...]
    key_ring: bool
    managers: tuple[str, ...] = ()


class PutIntoMenus(Call[str], frozen=True):
    """Put earlier versions into the menus of the file managers that are here. The answer says in a sentence
    where they are now."""

    may_block: ClassVar[bool] = True


class ProposeSetUp(Call[SetUpView], frozen=True):
    """What a set-up begins with."""


class DiskView(msgspec.Struct, frozen=True):
    """A disk or share, how it came out as a place for a store, and the folder that would be proposed on
    it."""

    facts: DiskFacts
    checks: tuple[Check, ...]
    proposed: str
    best: bool = False


class LookAtDisks(Call[list[DiskView]], frozen=True):
    """All disks as places for a store of so many covered bytes (None: not known yet) in these folders.

    :param used: folders of stores that the job has already; their disks are not proposed again.
    """

    may_block: ClassVar[bool] = True
    folders: tuple[str, ...] = ()
    bytes: int | None = None
    used: tuple[str, ...] = ()


class ExaminedView(msgspec.Struct, frozen=True):
    """One folder as the place of a store. ``holds``: the id of a store that is there already, with its hint
    if it is locked; ``need``: what its server wants first."""

    folder: str
    checks: tuple[Check, ...]
    holds: StoreId | None = None
    hint: str | None = None
    need: ServerNeed = ServerNeed.NOTHING


class ExamineFolder(Call[ExaminedView], frozen=True):
    """One folder as the place of a store, for so many covered bytes in these folders; ``measure``: its speed
    too."""

    may_block: ClassVar[bool] = True
    folder: str
    folders: tuple[str, ...] = ()
    bytes: int | None = None
    measure: bool = False


class AreOnSameDisk(Call[bool], frozen=True):
    """Whether two paths are on the same disk, or one of them on no disk that is known."""

    one: str
    other: str


class NewStore(msgspec.Struct, frozen=True):
    """A store to be made, or used again when it is there. ``doubts`` were seen and accepted; ``passphrase``
    None: open."""

    folder: str
    passphrase: str | None = None
    hint: str = ""
    remember: bool = False
    doubts: tuple[str, ...] = ()


class MadeView(msgspec.Struct, frozen=True):
    """What was made or changed. ``recovery_key`` is shown once; ``notes`` are sentences.

    :param where: how the store's place is called.
    """

    job: JobId
    where: str
    recovery_key: str | None
    notes: tuple[str, ...] = ()


class SetUpJob(Call[MadeView], frozen=True):
    """Make a job with its first store, and begin its first snapshot."""

    may_block: ClassVar[bool] = True
    name: str
    folders: tuple[str, ...]
    rules: tuple[str, ...]
    store: NewStore


class AddStore(JobCall[MadeView], frozen=True):
    """Add a store to the job."""

    may_block: ClassVar[bool] = True
    store: NewStore


class HistoryView(msgspec.Struct, frozen=True):
    """A history in a store that is opened to read; chosen like a job, ``job`` shows it."""

    job: JobId
    history: StoreHistory


class OpenedView(msgspec.Struct, frozen=True):
    """Whose histories a store has, the one with the newest snapshot last."""

    histories: tuple[HistoryView, ...]
    now: int = 0


class OpenToRead(Call[OpenedView], frozen=True):
    """Open a store of any machine to look into it and restore from it. Each of its histories can then be
    chosen like a job."""

    may_block: ClassVar[bool] = True
    folder: str
    passphrase: str | None = None


class TakeOverView(msgspec.Struct, frozen=True):
    """The job that would go on here with a history; ``notes`` are sentences."""

    name: str
    folders: tuple[str, ...]
    rules: int
    rhythm: str
    ladder: str
    newest: int
    notes: tuple[str, ...] = ()


class ProposeTakeOver(JobCall[TakeOverView], frozen=True):
    """What going on here with the history that is looked into would be."""

    may_block: ClassVar[bool] = True


class TakeOver(JobCall[MadeView], frozen=True):
    """Go on here with the history that is looked into: its job is made here, with its store."""

    may_block: ClassVar[bool] = True
    name: str = ""
    remember: bool = False
