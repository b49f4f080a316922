"""What the agent and its clients say to each other: JSON-RPC 2.0, one message a line.

Names, paths and file contents are bytes, base64 in JSON. Times are nanoseconds since 1970 UTC, sizes bytes.
"""

from __future__ import annotations

from typing import Any

import msgspec

from good_tide.core.comparing import Difference
from good_tide.core.history import Lifeline, TidePoint
from good_tide.core.places import Check, DiskFacts
from good_tide.core.progress import Progress
from good_tide.core.status import JobStanding

PROTOCOL_VERSION = 4


class Request(msgspec.Struct, omit_defaults=True):
    """A request (with ``id``) or a notification (without). ``job``: the name of the job that is meant, where
    one is."""

    method: str
    params: msgspec.Raw = msgspec.Raw(b"{}")
    id: int | None = None
    job: str = ""
    jsonrpc: str = "2.0"


class Fault(msgspec.Struct):
    """Why a request was not fulfilled. ``code`` is the command line's exit code for the same error."""

    code: int
    message: str
    data: str = ""


class Reply(msgspec.Struct, omit_defaults=True):
    """The answer to the request with this ``id``."""

    id: int
    result: msgspec.Raw | None = None
    error: Fault | None = None
    jsonrpc: str = "2.0"


class Hello(msgspec.Struct):
    """What the agent says of itself."""

    version: str
    protocol: int
    process: int


class StoreView(msgspec.Struct):
    """A store and the disk it is on.

    :param by_age: stored bytes added in each of the past weeks, oldest first; of the store that is looked
        into.
    :param shown: whether history is shown from this store.
    """

    folder: str
    disk: str
    present: bool
    encrypted: bool
    hint: str = ""
    stored: int = 0
    disk_total: int = 0
    disk_free: int = 0
    file_system: str = ""
    by_age: tuple[tuple[int, int], ...] = ()
    store: str = ""
    snapshots: int = 0
    shown: bool = False
    trouble: str = ""
    removable: bool = False


class Overview(msgspec.Struct):
    """Everything the window shows before anything is chosen.

    :param state: ``no-job``, ``away``, ``locked``, ``damaged``, ``catching-up``, ``empty`` or ``ready``.
    :param history_read: while catching up: snapshots read, and in all.
    :param trouble: what is wrong, with what to do, in sentences.
    :param history: stands for the snapshots of ``tide``: answers with another one are of another history.
    :param reading: another machine's store, opened only to read.
    :param pinned: labels of pinned snapshots, by their names.
    """

    state: str
    job: str = ""
    machine: str = ""
    now: int = 0
    standing: JobStanding | None = None
    trouble: tuple[str, ...] = ()
    stores: tuple[StoreView, ...] = ()
    store_use: str = "both"
    rules: tuple[str, ...] = ()
    jobs: tuple[str, ...] = ()
    reading: bool = False
    history_read: tuple[int, int] = (0, 0)
    covered: tuple[str, ...] = ()
    home: str = ""
    tide: tuple[TidePoint, ...] = ()
    history: str = ""
    pinned: dict[str, str] = {}
    work: Work | None = None

    @property
    def store(self) -> StoreView | None:
        """The store that is looked into; the first while none is."""
        return next((store for store in self.stores if store.shown), self.stores[0] if self.stores else None)


class Work(msgspec.Struct):
    """What the agent is doing: ``snapshot``, ``restore``, ``undo``, ``carry`` or ``run-due``; ``easy``: with
    rests."""

    what: str
    paused: bool
    progress: Progress
    seconds: float
    easy: bool = False


class FolderView(msgspec.Struct):
    """The lifelines of a folder's contents; of the covered folders for the empty path. Their spans count the
    snapshots of ``history``."""

    path: bytes
    lifelines: tuple[Lifeline, ...]
    history: str = ""


class PreviewView(msgspec.Struct):
    """``form`` is text, picture or summary."""

    form: str
    text: str = ""
    encoding: str = ""
    picture: bytes = b""
    cut: bool = False


class Detail(msgspec.Struct):
    """One version of one path for the inspector.

    :param compared: a sentence, and the difference where there is a text to show.
    :param elsewhere: where the same content came from or went under another name.
    """

    path: bytes
    snapshot: str
    kind: str
    size: int
    modified: int
    mode: int
    unsteady: bool
    preview: PreviewView
    with_disk: str
    disk_difference: Difference | None
    with_before: str
    before_difference: Difference | None
    elsewhere: tuple[bytes, ...] = ()


class PickedItem(msgspec.Struct, frozen=True):
    """One thing on the restore list: a path, from the snapshot of this name, which was taken at ``time`` (ns
    since 1970 UTC)."""

    path: bytes
    snapshot: str
    time: int = 0


class PlanItem(msgspec.Struct, array_like=True):
    """One line of a restore plan; ``action`` as in ``restoring.Action``."""

    path: bytes
    action: str
    size: int
    note: str


class PlanView(msgspec.Struct):
    """A restore plan. ``number`` is given back to carry it out. Only the first items are listed."""

    number: int
    create: int
    replace: int
    identical: int
    skip: int
    blocked: int
    bytes: int
    items: tuple[PlanItem, ...]
    notes: tuple[str, ...]


class RestoreResult(msgspec.Struct):
    """What a restore did."""

    created: int
    replaced: int
    identical: int
    skipped: int
    bytes: int
    set_aside: tuple[str, ...]
    problems: tuple[str, ...]


class Finished(msgspec.Struct):
    """The agent ended some work. ``error`` is a sentence, empty when it went well."""

    what: str
    error: str = ""
    restore: RestoreResult | None = None
    words: str = ""


class Found(msgspec.Struct, array_like=True):
    """A path found by name, with when it was last seen (None: it stands now)."""

    path: bytes
    last_seen: int | None


class DiskView(msgspec.Struct):
    """A disk or share, how it came out as a place for a store, and the folder that would be proposed on
    it."""

    facts: DiskFacts
    checks: tuple[Check, ...]
    proposed: str
    best: bool = False


class SetUpView(msgspec.Struct):
    """What a set-up begins with: the machine, user directories that are there by their XDG names, and the
    folders proposed."""

    machine: str
    home: str
    usual: dict[str, str]
    proposed: tuple[str, ...]
    rules: tuple[str, ...]
    starting_points: tuple[tuple[str, str], ...]
    key_ring: bool


class ExaminedView(msgspec.Struct):
    """One folder as the place of a store. ``holds``: the id of a store that is there already, with its hint
    if it is locked."""

    folder: str
    checks: tuple[Check, ...]
    holds: str | None = None
    hint: str | None = None


class RuleView(msgspec.Struct, array_like=True):
    """What a rule catches now. ``note`` says why it catches nothing, empty where it does; ``hidden_by`` is
    the rule that decides first."""

    text: str
    files: int
    size: int
    largest: tuple[tuple[int, bytes], ...]
    note: str = ""
    hidden_by: int | None = None


class FolderShare(msgspec.Struct, array_like=True):
    """A folder in the survey: files and bytes in and out with everything below; ``fresh`` bytes were changed
    in the last week.

    :param state: ``in``, ``out`` or ``partly``.
    :param deeper: whether there are folders in it.
    """

    path: bytes
    files: int
    size: int
    out_files: int
    out_size: int
    fresh: int
    state: str
    deeper: bool


class SurveyView(msgspec.Struct):
    """What is covered, as far as it was looked at; ``done`` when everything was.

    :param number: counts the requests, so that an answer to an older one is known.
    :param stay: files of earlier snapshots that these rules would leave out from now on; None while not
        known.
    """

    number: int
    done: bool
    files: int
    size: int
    out_files: int
    out_size: int
    rules: tuple[RuleView, ...]
    folders: tuple[FolderShare, ...]
    missing: tuple[bytes, ...] = ()
    stay: int | None = None


class WhyView(msgspec.Struct):
    """Why a path is in or out, in words; ``rule`` is the deciding one's position."""

    path: bytes
    is_in: bool
    rule: int | None
    words: str


class MadeView(msgspec.Struct):
    """What a set-up made. ``recovery_key`` is shown once; ``notes`` are sentences."""

    job: str
    store: str
    recovery_key: str | None
    notes: tuple[str, ...] = ()


class SlotView(msgspec.Struct):
    """One way to open a store."""

    number: int
    kind: str
    hint: str


def encode(message: Request | Reply) -> bytes:
    """A message as one line."""
    return msgspec.json.encode(message) + b"\n"


def raw(value: Any) -> msgspec.Raw:
    """A value as the JSON inside a message."""
    return msgspec.Raw(msgspec.json.encode(value))
